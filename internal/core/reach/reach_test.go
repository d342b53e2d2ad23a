package reach

import "testing"

func TestFitIsNeverBetterThanWhatWasSeen(t *testing.T) {
	for _, c := range []struct {
		granted bool
		seen    Sighting
		fit     Fit
		ok      bool
	}{
		{true, Seen, InPlace, true},
		{true, NotSeen, Missing, true},
		{true, NeverLooked, Unswept, true},
		{false, Seen, Ungranted, true},
		{false, NotSeen, "", false},
		{false, NeverLooked, "", false},
	} {
		if fit, ok := FitOf(c.granted, c.seen); fit != c.fit || ok != c.ok {
			t.Errorf("FitOf(%v, %v) = %q, %v; want %q, %v", c.granted, c.seen, fit, ok, c.fit, c.ok)
		}
	}
}
