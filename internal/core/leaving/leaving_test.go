package leaving

import (
	"slices"
	"testing"
	"time"

	"plumlatch/internal/core/reach"
)

// input has the logins 0, which is opened by the key 0 alone, and 1, which two others keep as well.
func input() reach.Input {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	key := func(holder int) reach.Key { return reach.Key{Holder: holder, Proved: now} }
	pair := func(k, l int32, s reach.Sighting) reach.Pair {
		return reach.Pair{Key: k, Login: l, Granted: true, Sighting: s, Opens: true}
	}
	return reach.Input{
		Now:       now,
		Fresh:     time.Hour,
		Swept:     []bool{true, true, true},
		Strangers: make([]int, 3),
		Keys:      []reach.Key{key(0), key(1), key(2), key(0)},
		Pairs: []reach.Pair{
			pair(0, 0, reach.Seen),
			pair(0, 1, reach.Seen), pair(1, 1, reach.Seen), pair(2, 1, reach.Seen),
			pair(3, 2, reach.NotSeen),
		},
	}
}

func TestWhatBecomesOfAKeyDependsOnWhoElseGetsIn(t *testing.T) {
	plan := Make(input(), []Key{
		{Name: "laptop", Place: 0},
		{Name: "old", Place: 3},
		{Name: "safe", Place: -1, Kept: true},
		{Name: "unused", Place: -1},
	})
	type done struct {
		key   string
		login int
		what  What
	}
	var got []done
	for _, i := range plan.Items {
		got = append(got, done{i.Key, i.Login, i.What})
	}
	want := []done{
		{"laptop", 0, Replace},
		{"laptop", 1, Withdraw},
		{"old", 2, Withdraw},
		{"safe", -1, HandOver},
		{"unused", -1, Retire},
	}
	if !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	if !slices.Equal(plan.Shut, []int{0}) || len(plan.Thin) != 0 {
		t.Errorf("got shut %v and thin %v, want the login 0 shut", plan.Shut, plan.Thin)
	}
}
