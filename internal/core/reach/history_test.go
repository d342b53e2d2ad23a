package reach

import (
	"testing"
	"time"
)

func TestHistoryAddsUpWhatCameAndWent(t *testing.T) {
	until := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	got := History(until, 24*time.Hour, 3, []Turn{
		{Thin, -4, 5}, // long before the first point
		{Thin, 0, 1},
		{Solid, 1, 2},
		{Thin, 1, -2},
		{Thin, 3, -1},
		{Shut, 3, 1},
		{Shut, 4, 7}, // later than the last point
	})
	want := []struct{ thin, solid, shut int }{{6, 0, 0}, {4, 2, 0}, {4, 2, 0}, {3, 2, 1}}
	if len(got) != len(want) {
		t.Fatalf("%d points, want %d", len(got), len(want))
	}
	for n, w := range want {
		c := got[n].Counts
		if c[Thin] != w.thin || c[Solid] != w.solid || c[Shut] != w.shut || len(c) != len(States) {
			t.Errorf("point %d: %v, want %+v", n, c, w)
		}
		if at := until.AddDate(0, 0, n-3); !got[n].At.Equal(at) {
			t.Errorf("point %d is at %v, want %v", n, got[n].At, at)
		}
	}
	for state, n := range History(until, time.Hour, 0, nil)[0].Counts {
		if n != 0 {
			t.Errorf("%d logins are %s where there is none", n, state)
		}
	}
}
