package grants

import (
	"errors"
	"testing"
	"time"

	"plumlatch/internal/core/reach"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// TestAnEndIsKeptUnlessTheLoginWouldBeShut judges the end of the last key's grant for logins with some keys.
func TestAnEndIsKeptUnlessTheLoginWouldBeShut(t *testing.T) {
	for _, c := range []struct {
		name  string
		keys  []reach.Key
		stays bool
	}{
		{"solid to thin", []reach.Key{{Holder: 1, Proved: now}, {Holder: 2, Proved: now}}, false},
		{"solid to stale", []reach.Key{{Holder: 1}, {Holder: 2, Proved: now}}, false},
		{"thin to shut", []reach.Key{{Holder: 2, Proved: now}}, true},
		{"stale to shut", []reach.Key{{Holder: 1, Lost: true}, {Holder: 2}}, true},
		{"shut as before", []reach.Key{{Holder: 1, Lost: true}, {Holder: reach.Nobody}}, false},
		{"one holder, two keys", []reach.Key{{Holder: 1, Proved: now}, {Holder: 1, Proved: now}}, false},
	} {
		in := reach.Input{
			Now: now, Fresh: 30 * 24 * time.Hour, Keys: c.keys, Swept: []bool{true}, Strangers: []int{0},
		}
		for n := range c.keys {
			in.Pairs = append(
				in.Pairs, reach.Pair{Key: int32(n), Granted: true, Sighting: reach.Seen, Opens: true},
			)
		}
		if change, stays := Keeps(in, len(c.keys)-1, 0); stays != c.stays {
			t.Errorf("%s: stays is %v (%v), want %v", c.name, stays, change, c.stays)
		}
	}
}

func TestAnOverdueGrantIsToldOfEachDayAndWithEachReason(t *testing.T) {
	at := func(ago time.Duration) *time.Time { t := now.Add(-ago); return &t }
	for _, c := range []struct {
		until   *time.Time
		problem string
		want    bool
	}{
		{nil, "", false}, {at(-time.Minute), "x", false}, {at(time.Minute), "", false},
		{at(time.Minute), "x", true}, {at(6 * time.Minute), "", true},
	} {
		if got := Overdue(c.until, c.problem, now); got != c.want {
			t.Errorf("overdue since %v with %q: %v", c.until, c.problem, got)
		}
	}
	for _, c := range []struct {
		before string
		told   *time.Time
		want   bool
	}{{"x", nil, true}, {"x", at(time.Hour), false}, {"y", at(time.Hour), true}, {"x", at(TellAgain), true}} {
		if got := Tell(c.before, "x", c.told, now); got != c.want {
			t.Errorf("told of %q at %v: tell is %v", c.before, c.told, got)
		}
	}
}

func TestARepetitionWithoutAnEndIsAskedAbout(t *testing.T) {
	until := now.Add(time.Hour)
	var endless *Endless
	if err := Repeat(&until, nil, false); !errors.As(err, &endless) || !endless.Until.Equal(until) {
		t.Errorf("without an end: %v", err)
	}
	for _, err := range []error{
		Repeat(&until, nil, true), Repeat(&until, &now, false), Repeat(nil, nil, false), Repeat(nil, &until, false),
	} {
		if err != nil {
			t.Error(err)
		}
	}
}
