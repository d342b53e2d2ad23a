package reach

import (
	"testing"
	"time"
)

func TestFitIsNeverBetterThanWhatWasSeen(t *testing.T) {
	for _, c := range []struct {
		granted bool
		seen    Sighting
		status  Status
		ok      bool
	}{
		{true, Seen, InPlace, true},
		{true, NotSeen, Missing, true},
		{true, NeverLooked, StatusUnswept, true},
		{false, Seen, Ungranted, true},
		{false, NotSeen, "", false},
		{false, NeverLooked, "", false},
	} {
		if status, ok := StatusOf(c.granted, c.seen); status != c.status || ok != c.ok {
			t.Errorf("StatusOf(%v, %v) = %q, %v; want %q, %v", c.granted, c.seen, status, ok, c.status, c.ok)
		}
	}
}

func TestALoginIsAsSafeAsItsHoldersWithAFreshProof(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	fresh, old := now.AddDate(0, 0, -3), now.AddDate(0, 0, -31)
	ines, marek := Key{Holder: 1, Proved: fresh}, Key{Holder: 2, Proved: fresh}
	staleKey := Key{Holder: 3, Proved: old}
	in := func(keys ...Key) []Pair {
		var out []Pair
		for i := range keys {
			out = append(out, Pair{Key: int32(i), Granted: true, Sighting: Seen, Opens: true})
		}
		return out
	}
	for name, c := range map[string]struct {
		keys   []Key
		pairs  func([]Pair) []Pair
		want   State
		loss   State // if the first key were lost
		holder int
	}{
		"two holders":            {keys: []Key{ines, marek}, want: Solid, loss: Thin, holder: 2},
		"two keys of one holder": {keys: []Key{ines, ines}, want: Thin, loss: Thin, holder: 1},
		"one holder":             {keys: []Key{ines}, want: Thin, loss: Shut, holder: 1},
		"nobody proved":          {keys: []Key{staleKey}, want: Stale, loss: Shut},
		"fresh beside stale":     {keys: []Key{ines, staleKey}, want: Thin, loss: Stale, holder: 1},
		"nobody holds it":        {keys: []Key{{Holder: Nobody, Proved: fresh}}, want: Shut, loss: Shut},
		"lost":                   {keys: []Key{{Holder: 1, Proved: fresh, Lost: true}}, want: Shut, loss: Shut},
		"only the steward":       {keys: []Key{{Holder: Nobody, Steward: true, Proved: fresh}}, want: Shut, loss: Shut},
		"granted, not seen": {
			keys:  []Key{ines},
			pairs: func(p []Pair) []Pair { p[0].Sighting = NotSeen; return p },
			want:  Shut,
			loss:  Shut,
		},
		"logged in, not granted": {
			keys:  []Key{ines},
			pairs: func(p []Pair) []Pair { p[0].Granted, p[0].Entered = false, fresh; return p },
			want:  Thin,
			loss:  Shut,
		},
		"logged in by somebody else": {
			keys:   []Key{{Holder: 1, Proved: old}},
			pairs:  func(p []Pair) []Pair { p[0].Other, p[0].OtherEntered = 2, fresh; return p },
			want:   Thin,
			loss:   Shut,
			holder: 1,
		},
		"nobody's key, proved by somebody": {
			keys:   []Key{{Holder: Nobody, Other: 2, OtherProved: fresh}},
			want:   Thin,
			loss:   Shut,
			holder: 1,
		},
		"seen, not granted": {
			keys:  []Key{ines},
			pairs: func(p []Pair) []Pair { p[0].Granted = false; return p },
			want:  Shut,
			loss:  Shut,
		},
		"expired line": {
			keys:  []Key{ines},
			pairs: func(p []Pair) []Pair { p[0].Opens = false; return p },
			want:  Shut,
			loss:  Shut,
		},
		"nobody has read it yet": {
			keys:  []Key{ines},
			pairs: func(p []Pair) []Pair { p[0].Sighting = NeverLooked; return p },
			want:  Unswept,
			loss:  Unswept,
		},
		"entered, possession old": {
			keys:   []Key{staleKey},
			pairs:  func(p []Pair) []Pair { p[0].Entered = fresh; return p },
			want:   Thin,
			loss:   Shut,
			holder: 1,
		},
		"a clock an hour ahead": {
			keys:   []Key{{Holder: 1, Proved: now.Add(time.Hour)}},
			want:   Thin,
			loss:   Shut,
			holder: 1,
		},
		"no pair, swept":             {keys: nil, want: Shut, loss: Shut},
		"proof just as old as fresh": {keys: []Key{{Holder: 1, Proved: now.AddDate(0, 0, -30)}}, want: Stale, loss: Shut},
	} {
		pairs := in(c.keys...)
		if c.pairs != nil {
			pairs = c.pairs(pairs)
		}
		input := Input{
			Now:       now,
			Fresh:     30 * 24 * time.Hour,
			Keys:      c.keys,
			Pairs:     pairs,
			Swept:     []bool{c.want != Unswept},
			Strangers: []int{0},
		}
		got := Standings(input)[0]
		if got.State != c.want || got.Holders != c.holder {
			t.Errorf("%s: %+v, want %s", name, got, c.want)
		}
		after := got.State
		if len(c.keys) > 0 {
			for _, change := range Loss(input, 0) {
				after = change.After
			}
		}
		if after != c.loss {
			t.Errorf("%s, without the first key: %s, want %s", name, after, c.loss)
		}
		if len(c.keys) > 0 && c.keys[0].Lost != input.Keys[0].Lost {
			t.Errorf("%s: asking about a loss changed the keys", name)
		}
	}
}

func TestTheHolderOfAnAuthorityGetsInWhileTheirProofIsFresh(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	fresh, old := now.AddDate(0, 0, -3), now.AddDate(0, 0, -31)
	ines := Key{Holder: 1, Proved: fresh}
	for name, c := range map[string]struct {
		authority Key
		keys      []Key
		want      State
		certified bool
	}{
		"alone":                     {Key{Holder: 2, Proved: fresh}, nil, Thin, true},
		"not freshly proved":        {Key{Holder: 2, Proved: old}, nil, Shut, false},
		"of nobody":                 {Key{Holder: Nobody, Proved: fresh}, nil, Shut, false},
		"lost":                      {Key{Holder: 2, Proved: fresh, Lost: true}, nil, Shut, false},
		"beside a key of another":   {Key{Holder: 2, Proved: fresh}, []Key{ines}, Solid, true},
		"beside a key of their own": {Key{Holder: 1, Proved: fresh}, []Key{ines}, Thin, true},
	} {
		in := Input{
			Now: now, Fresh: 30 * 24 * time.Hour, Swept: []bool{true}, Strangers: []int{0},
			Keys: append([]Key{c.authority}, c.keys...), Authorities: []Pair{{Key: 0}},
		}
		for n := range c.keys {
			in.Pairs = append(in.Pairs, Pair{Key: int32(n + 1), Granted: true, Sighting: Seen, Opens: true})
		}
		s := Standings(in)[0]
		if s.State != c.want || s.Certified != c.certified || s.InPlace != len(c.keys) || s.Drifts() {
			t.Errorf("%s: %+v, want %s", name, s, c.want)
		}
		if got := Loss(in, 0); c.certified && s.State == Thin && len(c.keys) == 0 && (len(got) != 1 || got[0].After != Shut) {
			t.Errorf("%s: the loss of the authority is %+v", name, got)
		}
	}
}

func TestDriftIsCountedByFit(t *testing.T) {
	in := Input{
		Keys:      []Key{{Holder: 1}, {Holder: 2}, {Holder: Nobody, Steward: true}},
		Swept:     []bool{true, true},
		Strangers: []int{2, 0},
		Pairs: []Pair{
			{
				Key:      0,
				Login:    0,
				Granted:  true,
				Sighting: NotSeen,
			}, {Key: 1, Login: 0, Sighting: Seen, Opens: true}, {Key: 2, Login: 0, Granted: true, Sighting: Seen, Opens: true},
			{Key: 0, Login: 1, Granted: true, Sighting: Seen, Opens: true}, {Key: 1, Login: 1, Sighting: NotSeen},
		},
	}
	got := Standings(in)
	if want := (Standing{State: Shut, Missing: 1, Ungranted: 1, Strangers: 2, Steward: true}); got[0] != want ||
		!got[0].Drifts() {
		t.Errorf("%+v, want %+v", got[0], want)
	}
	if want := (Standing{State: Stale, InPlace: 1}); got[1] != want || got[1].Drifts() {
		t.Errorf("%+v, want %+v", got[1], want)
	}
}

func BenchmarkStandings(b *testing.B) {
	const logins, pairs = 100_000, 500_000
	now := time.Now()
	in := Input{
		Now:       now,
		Fresh:     30 * 24 * time.Hour,
		Keys:      make([]Key, pairs/10),
		Swept:     make([]bool, logins),
		Strangers: make([]int, logins),
	}
	for i := range in.Keys {
		in.Keys[i] = Key{Holder: i % 500, Proved: now.AddDate(0, 0, -i%60)}
	}
	for i := range pairs {
		in.Pairs = append(
			in.Pairs,
			Pair{Key: int32(i * 7 % len(in.Keys)), Login: int32(i % logins), Granted: i%11 > 0, Sighting: Seen, Opens: true},
		)
	}
	for b.Loop() {
		Standings(in)
	}
}
