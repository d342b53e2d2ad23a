package rotation

import (
	"errors"
	"slices"
	"testing"
	"time"
)

func TestAPlanThatIsNotTheOneShownSaysInWhat(t *testing.T) {
	a, b, c := Shown{"u@a", "old", "new"}, Shown{"u@b", "old", "new"}, Shown{"u@b", "old", "other"}
	for name, x := range map[string]struct {
		now, shown []Shown
		want       []string
	}{
		"the same, otherwise ordered": {[]Shown{b, a}, []Shown{a, b}, nil},
		"one more":                    {[]Shown{a, b}, []Shown{a}, []string{"new: u@b, old by new"}},
		"one less":                    {[]Shown{a}, []Shown{a, b}, []string{"gone: u@b, old by new"}},
		"another new key":             {[]Shown{c}, []Shown{b}, []string{"gone: u@b, old by new", "new: u@b, old by other"}},
		"nothing at all":              {nil, nil, nil},
	} {
		if got := Outrun(x.now, x.shown); !slices.Equal(got, x.want) {
			t.Errorf("%s: got %q, want %q", name, got, x.want)
		}
	}
}

func TestNoneBeginsBehindTheFirstGroupBeforeThatIsOver(t *testing.T) {
	for name, c := range map[string]struct {
		group map[ItemState]int
		want  int
	}{
		"none has begun": {map[ItemState]int{ItemWaiting: 3}, 3},
		"one is left":    {map[ItemState]int{ItemDone: 2, ItemProved: 1}, 3},
		"one has failed": {map[ItemState]int{ItemDone: 2, ItemFailed: 1}, 3},
		"all are over":   {map[ItemState]int{ItemDone: 2, ItemUndone: 1, ItemPlacing: 0}, 0},
	} {
		if got := Beyond(3, c.group); got != c.want {
			t.Errorf("%s: got %d, want %d", name, got, c.want)
		}
	}
}

func TestOneLoginOfAnInstanceIsWorkedOnAtATime(t *testing.T) {
	instances := []string{"a", "a", "b", "c"}
	for most, want := range [][]int{nil, {0}, {0, 2}, {0, 2, 3}, {0, 2, 3}} {
		if got := Choose(instances, most); !slices.Equal(got, want) {
			t.Errorf("of at most %d got %v, want %v", most, got, want)
		}
	}
}

func TestSettingsThatExcludeOneAnotherAreRefused(t *testing.T) {
	for name, c := range map[string]struct {
		started Started
		field   string
	}{
		"none":                     {Started{}, ""},
		"urgent alone":             {Started{Urgent: true}, ""},
		"urgent with a grace":      {Started{Urgent: true, Settings: Settings{GraceSeconds: 1}}, "urgent"},
		"urgent with hours":        {Started{Urgent: true, Settings: Settings{Between: "22:00-04:00"}}, "urgent"},
		"urgent, keys are brought": {Started{Urgent: true, Bring: true}, "make"},
		"a rule from here":         {Started{Rule: true, FromHere: true}, "from_here"},
		"from here by the service": {Started{FromHere: true, Service: true}, "make"},
	} {
		var fault *Fault
		errors.As(c.started.Together(), &fault)
		if got := fieldOf(fault); got != c.field {
			t.Errorf("%s: got a fault of %q, want %q", name, got, c.field)
		}
	}
}

func fieldOf(f *Fault) string {
	if f == nil {
		return ""
	}
	return f.Field
}

func TestSettingsAreFilledOrRefused(t *testing.T) {
	got, err := Settings{}.Filled()
	if want := (Settings{AtOnce: MaxAtOnce, Zone: "UTC"}); err != nil || got != want {
		t.Errorf("got %+v, %v, want %+v", got, err, want)
	}
	for name, c := range map[string]struct {
		settings Settings
		field    string
	}{
		"too many at once":   {Settings{AtOnce: MaxAtOnce + 1}, "at_once"},
		"a negative group":   {Settings{First: -1}, "first"},
		"a grace of a year+": {Settings{GraceSeconds: 366 * 24 * 3600}, "grace_seconds"},
		"no hours":           {Settings{Between: "tonight"}, "between"},
	} {
		var fault *Fault
		if _, err := c.settings.Filled(); !errors.As(err, &fault) || fault.Field != c.field {
			t.Errorf("%s: got %v, want a fault of %q", name, err, c.field)
		}
	}
}

func TestTheHoursAreThoseOfTheZone(t *testing.T) {
	night := Settings{Between: "22:00-04:00"}
	berlin, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[string]bool{
		"2026-11-28T20:59:00Z": false,
		"2026-11-28T21:00:00Z": true,
		"2026-11-29T02:59:00Z": true,
		"2026-11-29T03:00:00Z": false,
		"2026-07-01T20:30:00Z": true, // summer time
	} {
		now, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		if got := night.Within(now.In(berlin)); got != want {
			t.Errorf("%s: got %t, want %t", at, got, want)
		}
	}
}

func TestWhoeverResumesHasDecidedAboutWhatFailed(t *testing.T) {
	for name, c := range map[string]struct {
		before                       Settings
		failed, groupLost, groupDone int
		want                         Settings
	}{
		"nothing failed":     {Settings{First: 2, StopAfter: 3}, 0, 0, 1, Settings{First: 2, StopAfter: 3}},
		"as many as allowed": {Settings{StopAfter: 3}, 3, 0, 0, Settings{StopAfter: 6}},
		"fewer than allowed": {Settings{StopAfter: 3}, 2, 0, 0, Settings{StopAfter: 3}},
		"the group failed":   {Settings{First: 2, StopAfter: 5}, 1, 1, 1, Settings{StopAfter: 5}},
		"the group is done":  {Settings{First: 2}, 0, 0, 2, Settings{}},
	} {
		if got := c.before.Resumed(c.failed, c.groupLost, c.groupDone); got != c.want {
			t.Errorf("%s: got %+v, want %+v", name, got, c.want)
		}
	}
}

// TestTheRestBeginsOnlyAfterAFirstGroupThatPausesNothing goes through what one look at the first group can find.
func TestTheRestBeginsOnlyAfterAFirstGroupThatPausesNothing(t *testing.T) {
	states := []ItemState{ItemWaiting, ItemPlacing, ItemPlaced, ItemProved, ItemRemoving, ItemDone, ItemFailed, ItemUndone}
	for _, a := range states {
		for _, b := range states {
			group := map[ItemState]int{}
			group[a]++
			group[b]++
			why, _ := Pause(Tally{Left: 5, GroupFailed: group[ItemFailed], GroupUndone: group[ItemUndone]}, 0)
			over := group[ItemDone]+group[ItemUndone] == 2 // what failed is decided about first
			if begins := Beyond(2, group) == 0; begins != over {
				t.Errorf("%s and %s: the rest begins: %t, want %t", a, b, begins, over)
			}
			if lost := group[ItemFailed]+group[ItemUndone] > 0; lost != (why != "") {
				t.Errorf("%s and %s: got the pause %q, want one: %t", a, b, why, lost)
			}
		}
	}
}
