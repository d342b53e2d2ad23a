package reach

import (
	"slices"
	"testing"
	"time"
)

func TestTheWorstLoginComesFirst(t *testing.T) {
	order := []Standing{
		{State: Shut, Strangers: 1},
		{State: Shut, Missing: 1},
		{State: Shut},
		{State: Solid, Strangers: 1},
		{State: Solid, Ungranted: 1},
		{State: Solid},
	}
	for n := 1; n < len(order); n++ {
		if a, b := Severity(order[n-1]), Severity(order[n]); a >= b {
			t.Errorf("%+v has the severity %d, and %+v %d, want it lower", order[n-1], a, order[n], b)
		}
	}
}

func TestEachStateHasItsNextCommand(t *testing.T) {
	for name, c := range map[string]struct {
		standing Standing
		next     string
	}{
		"shut":                    {Standing{State: Shut}, "plumlatch restore routes door"},
		"shut, with a steward":    {Standing{State: Shut, Steward: true}, "plumlatch grant add KEY debian@door"},
		"shut, ungranted in file": {Standing{State: Shut, Ungranted: 1}, "plumlatch settle debian@door"},
		"nobody has read it yet":  {Standing{State: Unswept}, "plumlatch sweep door"},
		"stale":                   {Standing{State: Stale}, "plumlatch prove debian@door"},
		"stale, with a stranger":  {Standing{State: Stale, Strangers: 1}, "plumlatch prove debian@door"},
		"thin":                    {Standing{State: Thin}, "plumlatch grant add KEY debian@door -with FILE"},
		"thin, with a steward":    {Standing{State: Thin, Steward: true}, "plumlatch grant add KEY debian@door"},
		"thin, with a stranger":   {Standing{State: Thin, Strangers: 1}, "plumlatch settle debian@door"},
		"solid":                   {Standing{State: Solid}, ""},
		"solid, one missing":      {Standing{State: Solid, Missing: 1}, "plumlatch settle debian@door"},
	} {
		why, next := Tell("debian@door", "door", c.standing, false)
		if next != c.next || why == "" {
			t.Errorf("%s: got the next command %q with the words %q, want %q", name, next, why, c.next)
		}
	}
}

func TestALabelIsWrongOnlyWhereSomebodyHasLooked(t *testing.T) {
	yes, no := new(true), new(false)
	for name, c := range map[string]struct {
		label   string
		openers []Labelled
		wrong   bool
	}{
		"no label":               {"", []Labelled{{"a", yes}}, false},
		"nobody has read it yet": {"a", []Labelled{{"a", nil}}, false},
		"in place":               {"a", []Labelled{{"b", no}, {"a", yes}}, false},
		"another key":            {"a", []Labelled{{"b", yes}}, true},
		"not in place":           {"a", []Labelled{{"a", no}}, true},
		"no openers are told":    {"a", nil, false},
	} {
		if got := LabelWorth(c.label, c.openers); (got != "") != c.wrong {
			t.Errorf("%s: got %q, want it wrong: %t", name, got, c.wrong)
		}
	}
}

func TestALossIsWorseWhereItShutsOrThins(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	key := func(holder int) Key { return Key{Holder: holder, Proved: now} }
	pair := func(k, l int32) Pair { return Pair{Key: k, Login: l, Granted: true, Sighting: Seen, Opens: true} }
	in := Input{
		Now:       now,
		Fresh:     time.Hour,
		Keys:      []Key{key(0), key(1), key(2)},
		Pairs:     []Pair{pair(0, 0), pair(0, 1), pair(1, 1), pair(0, 2), pair(1, 2), pair(2, 2)},
		Swept:     []bool{true, true, true},
		Strangers: make([]int, 3),
	}
	for login, want := range []State{Shut, Thin, ""} {
		if got, worse := Worse(in, 0, login); got.After != want || worse != (want != "") {
			t.Errorf("login %d: got %+v, %t, want %q afterwards", login, got, worse, want)
		}
	}
}

func TestTheCarefulChoiceComesFirst(t *testing.T) {
	for status, want := range map[Status][]Choice{
		Missing:   {Place, Withdraw},
		Ungranted: {Accept, Remove},
		Stranger:  {Accept, Remove},
		InPlace:   nil,
	} {
		if got := Choices(status); !slices.Equal(got, want) {
			t.Errorf("%s: got %v, want %v", status, got, want)
		}
	}
}

func TestWhoCouldLetSomebodyIn(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	in := Input{
		Now:   now,
		Fresh: time.Hour,
		Keys: []Key{
			{Holder: 0, Proved: now.Add(-time.Minute)},
			{Holder: 1, Proved: now.Add(-time.Hour * 2)},
			{Holder: 2, Lost: true, Proved: now},
			{Holder: Nobody, Proved: now},
			{Holder: Nobody, Steward: true},
			{Holder: 3, Proved: now.Add(-time.Hour * 2)},
			{Holder: 4, Proved: now},
		},
		Pairs: []Pair{
			{Key: 0, Sighting: Seen, Opens: true},
			{Key: 1, Sighting: Seen, Opens: true},
			{Key: 2, Sighting: Seen, Opens: true},
			{Key: 3, Sighting: NeverLooked},
			{Key: 4, Sighting: Seen, Opens: true},
			{Key: 5, Sighting: Seen, Opens: true, Entered: now.Add(-time.Minute)},
			{Key: 6, Sighting: NotSeen},
			{Key: 6, Login: 1, Sighting: Seen, Opens: true},
		},
		Swept:     []bool{true, true},
		Strangers: make([]int, 2),
	}
	got := HoldingOf(in, 0)
	if !slices.Equal(got.Fresh, []int{0, 5}) || !slices.Equal(got.Lost, []int{2, 3}) || !got.Steward {
		t.Errorf("got %+v, want the keys 0 and 5 fresh, 2 and 3 lost, and a steward", got)
	}
	if got := HoldingOf(in, 1); !slices.Equal(got.Fresh, []int{6}) || got.Steward || len(got.Lost) > 0 {
		t.Errorf("got %+v of the other login, want the key 6 alone", got)
	}
	for n := range in.Keys {
		in.Authorities = append(in.Authorities, Pair{Key: int32(n), Login: 1})
	}
	if got := HoldingOf(in, 1).Authorities; !slices.Equal(got, []int{0, 6}) {
		t.Errorf("got the authorities %v, want the two that somebody has freshly proved", got)
	}
}
