package charter

import (
	"fmt"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
)

var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// worldOf has keys k0, k1 …, each held by a person of its own and freshly proved, and logins debian@i0 ….
func worldOf(keys, logins int) World {
	w := World{
		Instances: map[string]WorldInstance{}, People: map[string]bool{}, Teams: map[string][]string{"field": {"p0", "p1"}},
		Rules: map[string]WorldRule{}, Lines: map[[2]int32]string{}, Clouds: map[string]WorldCloud{"shore": {
			Users: map[string]string{
				"debian-12": "debian",
			}, Sizes: map[string]bool{"small": true}, Zones: map[string]bool{"a": true},
		}},
		Reach: reach.Input{Now: now, Fresh: 30 * 24 * time.Hour},
	}
	for n := range keys {
		person := fmt.Sprintf("p%d", n)
		w.People[person] = true
		w.Keys = append(w.Keys, WorldKey{
			Name: fmt.Sprintf("k%d", n), SHA256: fmt.Sprintf("SHA256:%d", n), Holder: person, State: custody.Active,
		})
		w.Reach.Keys = append(w.Reach.Keys, reach.Key{Holder: n, Proved: now.Add(-time.Hour)})
	}
	for n := range logins {
		i := fmt.Sprintf("i%d", n)
		w.Instances[i] = WorldInstance{Labels: map[string]string{"site": fmt.Sprintf("s%d", n%3)}}
		w.Logins = append(w.Logins, WorldLogin{Name: "debian@" + i, Instance: i})
	}
	w.Reach.Swept, w.Reach.Strangers = make([]bool, logins), make([]int, logins)
	for n := range logins {
		w.Reach.Swept[n] = true
	}
	return w
}

// grant has a key open a login as the charter's or, for "", by hand.
func (w *World) grant(key, login int32, charter string) {
	w.Grants = append(w.Grants, WorldGrant{Key: key, Login: login, Charter: charter})
	w.Reach.Pairs = append(
		w.Reach.Pairs,
		reach.Pair{Key: key, Login: login, Granted: true, Sighting: reach.Seen, Opens: true},
	)
}

func (w *World) keyPlace(name string) int32 {
	return int32(slices.IndexFunc(w.Keys, func(k WorldKey) bool { return k.Name == name }))
}

func (w *World) loginPlace(name string) int32 {
	return int32(slices.IndexFunc(w.Logins, func(l WorldLogin) bool { return l.Name == name }))
}

// do makes a change of a comparison, as settling does.
func (w *World) do(t testing.TB, c Change, charter string) {
	t.Helper()
	at := pair{w.keyPlace(c.Key), w.loginPlace(c.Login)}
	g := slices.IndexFunc(w.Grants, func(g WorldGrant) bool { return g.Key == at.key && g.Login == at.login })
	p := slices.IndexFunc(w.Reach.Pairs, func(p reach.Pair) bool { return p.Key == at.key && p.Login == at.login })
	switch c.Kind {
	case PlaceLine, Record:
		if p < 0 {
			w.Reach.Pairs = append(w.Reach.Pairs, reach.Pair{Key: at.key, Login: at.login})
			p = len(w.Reach.Pairs) - 1
		}
		w.Reach.Pairs[p].Granted, w.Reach.Pairs[p].Sighting = true, reach.Seen
		if g < 0 {
			g = len(w.Grants)
			w.Grants = append(w.Grants, WorldGrant{Key: at.key, Login: at.login, Until: c.Until, Charter: charter})
		}
		w.limit(g, p, c.Limits)
	case Loosen, Limit:
		w.limit(g, p, c.Limits)
	case Own:
		w.Grants[g].Charter = charter
	case ChangeEnd:
		w.Grants[g].Until = c.Until
	case Withdraw, Forget:
		w.Grants = slices.Delete(w.Grants, g, g+1)
		if p >= 0 {
			w.Reach.Pairs = slices.Delete(w.Reach.Pairs, p, p+1)
		}
	default:
		t.Fatalf("no way to do %+v", c)
	}
}

// limit has the line of a grant have limits, and the grant too.
func (w *World) limit(g, p int, limits string) {
	w.Grants[g].Limits, w.Reach.Pairs[p].Opens = limits, authorizedkeys.OpensWith(limits)
	delete(w.Lines, [2]int32{w.Grants[g].Key, w.Grants[g].Login})
}

// limitLine has a line have limits that nobody granted.
func (w *World) limitLine(p int, limits string) {
	w.Reach.Pairs[p].Opens = authorizedkeys.OpensWith(limits)
	w.Lines[[2]int32{w.Reach.Pairs[p].Key, w.Reach.Pairs[p].Login}] = limits
}

// limited is an entry whose lines have limits.
func limited(limits, keys string, logins ...string) Access {
	a := entry(keys, logins...)
	a.Limits = limits
	return a
}

// entry has keys open logins.
func entry(keys string, logins ...string) Access {
	a := Access{Why: "because"}
	for _, k := range strings.Fields(keys) {
		a.Keys = append(a.Keys, Named{Name: k})
	}
	for _, l := range logins {
		a.Logins = append(a.Logins, Named{Name: l})
	}
	return a
}

func kinds(c Comparison) string {
	var out []string
	for _, one := range c.Changes {
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s%s %s", one.Kind, one.Key, one.Instance, one.Login)))
	}
	return strings.Join(out, "; ")
}

func TestCompareFindsWhatHasToChange(t *testing.T) {
	for name, c := range map[string]struct {
		world func(w *World)
		has   Charter
		want  string
	}{
		"a key that is not there": {has: Charter{Access: []Access{entry("k0", "debian@i0")}}, want: "place k0 debian@i0"},
		"what is so": {
			world: func(w *World) { w.grant(0, 0, "c") }, has: Charter{Access: []Access{entry("k0", "debian@i0")}},
		},
		"limits that the line has not": {
			world: func(w *World) { w.grant(0, 0, "c"); w.grant(1, 0, "c") },
			has:   Charter{Access: []Access{limited(`from="a"`, "k0", "debian@i0"), entry("k1", "debian@i0")}},
			want:  "limit k0 debian@i0",
		},
		"limits that somebody took from the line": {
			world: func(w *World) {
				w.grant(0, 0, "c")
				w.Grants[0].Limits = `from="a"`
				w.limitLine(0, "")
			},
			has: Charter{Access: []Access{limited(`from="a"`, "k0", "debian@i0")}}, want: "limit k0 debian@i0",
		},
		"limits that somebody gave the line": {
			world: func(w *World) { w.grant(0, 0, "c"); w.limitLine(0, `command="true"`) },
			has:   Charter{Access: []Access{entry("k0", "debian@i0")}}, want: "loosen k0 debian@i0",
		},
		"a limited line that nobody granted": {
			world: func(w *World) {
				w.Reach.Pairs = append(w.Reach.Pairs, reach.Pair{Sighting: reach.Seen, Opens: true})
				w.limitLine(0, "no-pty")
			},
			has: Charter{Access: []Access{entry("k0", "debian@i0")}}, want: "record k0 debian@i0; loosen k0 debian@i0",
		},
		"limits for one that is launched": {
			has: Charter{
				Access:    []Access{limited("no-pty", "k0", "debian@new"), entry("k1", "debian@new")},
				Instances: []Instance{{Name: "new", Launch: &Launch{Image: "debian-12", Size: "small"}}},
			}, want: "launch new; place k0 debian@new",
		},
		"what was granted by hand": {
			world: func(w *World) { w.grant(0, 0, "") }, has: Charter{Access: []Access{entry("k0", "debian@i0")}},
			want: "own k0 debian@i0",
		},
		"what is not declared any more": {
			world: func(w *World) { w.grant(0, 0, "c"); w.grant(1, 0, "c"); w.grant(2, 0, "c") },
			has:   Charter{Access: []Access{entry("k0 k1", "debian@i0")}}, want: "withdraw k2 debian@i0",
		},
		"what it never owned": {
			world: func(w *World) { w.grant(0, 0, "c"); w.grant(1, 0, ""); w.grant(2, 0, "other") },
			has:   Charter{Access: []Access{entry("k0", "debian@i0")}},
		},
		"a line that nobody granted": {
			world: func(w *World) {
				w.Reach.Pairs = append(w.Reach.Pairs, reach.Pair{Sighting: reach.Seen, Opens: true})
			},
			has: Charter{Access: []Access{entry("k0", "debian@i0")}}, want: "record k0 debian@i0",
		},
		"a line that is gone": {
			world: func(w *World) { w.grant(0, 0, "c"); w.Reach.Pairs[0].Sighting = reach.NotSeen },
			has:   Charter{Access: []Access{entry("k0", "debian@i0")}}, want: "place k0 debian@i0",
		},
		"a grant whose line is gone and that is not declared": {
			world: func(w *World) { w.grant(0, 0, "c"); w.Reach.Pairs[0].Sighting = reach.NotSeen },
			has:   Charter{}, want: "forget k0 debian@i0",
		},
		"an end": {
			world: func(w *World) { w.grant(0, 0, "c") },
			has: Charter{Access: []Access{
				{Keys: []Named{{Name: "k0"}}, Logins: []Named{{Name: "debian@i0"}}, Until: now.Add(time.Hour)},
			}},
			want: "change-end k0 debian@i0",
		},
		"the later end of two counts": {
			has: Charter{Access: []Access{
				{Keys: []Named{{Name: "k0"}}, Logins: []Named{{Name: "debian@i0"}}, Until: now.Add(time.Hour)}, entry("k0", "*@i0"),
			}},
			want: "place k0 debian@i0",
		},
		"a pattern and a label": {
			has: Charter{Access: []Access{{
				Keys: []Named{{Name: "k0"}}, Logins: []Named{{Name: "*@i?"}}, Labels: map[string]string{"site": "s1"},
			}}},
			want: "place k0 debian@i1; place k0 debian@i4",
		},
		"a holder and a team": {
			has: Charter{Access: []Access{
				{Holders: []Named{{Name: "p2"}}, Logins: []Named{{Name: "debian@i0"}}},
				{Teams: []Named{{Name: "field"}}, Logins: []Named{{Name: "debian@i1"}}},
			}},
			want: "place k2 debian@i0; place k0 debian@i1; place k1 debian@i1",
		},
		"a launch has its keys from the first boot": {
			has: Charter{
				Instances: []Instance{{Name: "new", Launch: &Launch{Image: "debian-12", Size: "small"}}},
				Access:    []Access{entry("k0", "debian@new", "debian@i0")},
			},
			want: "launch new; place k0 debian@i0",
		},
		"what lets in goes first": {
			world: func(w *World) { w.grant(0, 0, "c"); w.grant(1, 0, "c") },
			has:   Charter{Access: []Access{entry("k3 k2", "debian@i0")}},
			want:  "place k2 debian@i0; place k3 debian@i0; withdraw k0 debian@i0; withdraw k1 debian@i0",
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := worldOf(4, 5)
			if c.world != nil {
				c.world(&w)
			}
			c.has.Name = "c"
			got := Compare(c.has, w)
			if kinds(got) != c.want || len(got.Flaws) > 0 {
				t.Errorf("got  %s\nwant %s\n%+v", kinds(got), c.want, got.Flaws)
			}
		})
	}
}

func TestCompareRefusesWhatIsNotThere(t *testing.T) {
	launch := func(image, size, cloud string) Charter {
		return Charter{Instances: []Instance{{Name: "new", Launch: &Launch{Image: image, Size: size, Cloud: cloud}}}}
	}
	for code, c := range map[string]Charter{
		"no-such-key":      {Access: []Access{entry("k9", "debian@i0")}},
		"no-such-login":    {Access: []Access{entry("k0", "debian@i9")}},
		"no-such-person":   {Access: []Access{{Holders: []Named{{Name: "p9"}}, Logins: []Named{{Name: "*@i0"}}}}},
		"person-left":      {People: []Named{{Name: "gone"}}},
		"no-such-team":     {Teams: []Named{{Name: "birds"}}},
		"no-such-instance": {Instances: []Instance{{Name: "i9"}}},
		"no-such-image":    launch("plan-9", "small", ""),
		"no-such-size":     launch("debian-12", "vast", ""),
		"no-such-cloud":    launch("debian-12", "small", "sky"),
		"no-such-rule": {Access: []Access{
			{Keys: []Named{{Name: "k0"}}, Logins: []Named{{Name: "*@i0"}}, Rotation: "yearly"},
		}},
		"past":          {Access: []Access{{Keys: []Named{{Name: "k0"}}, Logins: []Named{{Name: "*@i0"}}, Until: now}}},
		"key-lost":      {Access: []Access{entry("lost", "debian@i0")}},
		"steward-key":   {Access: []Access{entry("steward", "debian@i0")}},
		"other-charter": {Access: []Access{entry("k1", "debian@i0")}},
	} {
		t.Run(code, func(t *testing.T) {
			w := worldOf(2, 1)
			w.People["gone"] = false
			w.Keys = append(w.Keys, WorldKey{Name: "lost", SHA256: "l", State: custody.Lost}, WorldKey{
				Name: "steward", SHA256: "s", State: custody.Active, Steward: true,
			})
			w.Reach.Keys = append(w.Reach.Keys, reach.Key{Holder: reach.Nobody}, reach.Key{Steward: true})
			w.grant(1, 0, "other")
			c.Name = "c"
			got := Compare(c, w)
			if len(got.Flaws) != 1 || got.Flaws[0].Code != code || got.Refused() == "" {
				t.Errorf("%+v", got.Flaws)
			}
		})
	}
}

func TestALoginThatWouldBeShutOrThinIsRefusedUnlessItMayBe(t *testing.T) {
	world := func() World {
		w := worldOf(3, 1)
		w.grant(0, 0, "c")
		w.grant(1, 0, "c")
		return w
	}
	may := entry("k0", "debian@i0")
	may.MayBe = reach.Thin
	for name, c := range map[string]struct {
		access  []Access
		refused bool
		after   reach.State
	}{
		"shut":                   {nil, true, reach.Shut},
		"thin":                   {[]Access{entry("k0", "debian@i0")}, true, reach.Thin},
		"thin, and may be":       {[]Access{may}, false, reach.Thin},
		"another holder instead": {[]Access{entry("k0 k2", "debian@i0")}, false, ""},
	} {
		t.Run(name, func(t *testing.T) {
			got := Compare(Charter{Name: "c", Access: c.access}, world())
			if (got.Refused() != "") != c.refused || c.after == "" != (len(got.Reach) == 0) ||
				c.after != "" && got.Reach[0].After != c.after {
				t.Errorf("%q %+v", got.Refused(), got.Reach)
			}
		})
	}
}

func TestWhatCannotBeDoneIsSaidAndNothingIsWithdrawnUnread(t *testing.T) {
	w := worldOf(2, 2)
	w.grant(0, 0, "c")
	w.Logins[1].NoMeans = "there is no steward key"
	w.Reach.Swept[0], w.Reach.Pairs[0].Sighting = false, reach.NeverLooked
	w.Clouds["shore"] = WorldCloud{Away: "no answer"}
	got := Compare(Charter{
		Name: "c", Access: []Access{entry("k1", "debian@i1")},
		Instances: []Instance{{Name: "new", Launch: &Launch{Image: "debian-12", Size: "small"}}},
	}, w)
	if len(got.Changes) != 3 || len(got.Flaws) > 0 {
		t.Fatalf("%+v", got)
	}
	for _, c := range got.Changes {
		if c.Unable == "" {
			t.Errorf("%+v can be done", c)
		}
	}
}

func TestAPatternFitsWhatAShellsWould(t *testing.T) {
	for _, pattern := range []string{"*", "", "a*", "*b", "a*b*", "?", "??*", "*@i1", "debian@i*", "**", "a?c", "*a*a*"} {
		for _, s := range []string{"", "a", "b", "ab", "abc", "debian@i1", "debian@i12", "aab", "aa", "i1", "abab"} {
			if want, _ := path.Match(pattern, s); fits(pattern, s) != want {
				t.Errorf("fits(%q, %q) is %v, want %v", pattern, s, !want, want)
			}
		}
	}
}

// someCharter grants at random.
func someCharter(r *rand.Rand, keys, logins int) Charter {
	c := Charter{Name: "c"}
	for range 1 + r.IntN(4) {
		a := Access{Why: "because"}
		for range 1 + r.IntN(3) {
			a.Keys = append(a.Keys, Named{Name: fmt.Sprintf("k%d", r.IntN(keys))})
		}
		for range 1 + r.IntN(3) {
			a.Logins = append(a.Logins, Named{Name: fmt.Sprintf("debian@i%d", r.IntN(logins))})
		}
		if r.IntN(4) == 0 {
			a.Until = now.Add(time.Duration(1+r.IntN(9)) * time.Hour)
		}
		if r.IntN(2) == 0 {
			a.MayBe = reach.Thin
		}
		if r.IntN(4) == 0 {
			a.Limits = someLimits(r)
		}
		c.Access = append(c.Access, a)
	}
	return c
}

func someLimits(r *rand.Rand) string { return []string{"", `from="a"`, `command="true"`}[r.IntN(3)] }

// someWorld has grants and lines at random.
func someWorld(r *rand.Rand, keys, logins int) World {
	w := worldOf(keys, logins)
	for k := range int32(keys) {
		if r.IntN(4) == 0 {
			w.Reach.Keys[k].Proved = time.Time{}
		}
		for l := range int32(logins) {
			switch r.IntN(6) {
			case 0:
				w.grant(k, l, "c")
				if r.IntN(3) == 0 {
					w.limit(len(w.Grants)-1, len(w.Reach.Pairs)-1, someLimits(r))
				}
			case 1:
				w.grant(k, l, "")
			case 2:
				w.Reach.Pairs = append(w.Reach.Pairs, reach.Pair{Key: k, Login: l, Sighting: reach.Seen, Opens: true})
				if r.IntN(2) == 0 {
					w.limitLine(len(w.Reach.Pairs)-1, someLimits(r))
				}
			case 3:
				w.grant(k, l, "c")
				w.Reach.Pairs[len(w.Reach.Pairs)-1].Sighting = reach.NotSeen
			}
		}
	}
	return w
}

func TestSettlingConvergesInOneGoAndNeverShutsWhatWasOpen(t *testing.T) {
	settled := 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		w := someWorld(r, 4, 3)
		c := someCharter(r, 4, 3)
		got := Compare(c, w)
		if got.Refused() != "" {
			continue
		}
		settled++
		before := reach.Standings(w.Reach)
		worst := make([]int, len(before)) // of before and after
		for n, s := range before {
			worst[n] = reach.Rank(s.State)
		}
		for _, one := range got.Reach {
			n := w.loginPlace(one.Login)
			worst[n] = min(worst[n], reach.Rank(one.After))
		}
		for _, change := range got.Changes {
			w.do(t, change, c.Name)
			for n, s := range reach.Standings(w.Reach) {
				if reach.Rank(s.State) < worst[n] {
					t.Fatalf("seed %d: %s is %s after %+v", seed, w.Logins[n].Name, s.State, change)
				}
			}
		}
		if again := Compare(c, w); len(again.Changes) > 0 {
			t.Fatalf("seed %d: it does not converge: %s", seed, kinds(again))
		}
		for _, one := range got.Reach {
			if s := reach.Standings(w.Reach)[w.loginPlace(one.Login)].State; s != one.After {
				t.Fatalf("seed %d: %s is %s, and was to be %s", seed, one.Login, s, one.After)
			}
		}
	}
	if settled < 500 {
		t.Errorf("%d of 3000 were settled", settled)
	}
}

// BenchmarkCompare compares 10,000 logins with a charter of 500 keys, of which each login has ten.
func BenchmarkCompare(b *testing.B) {
	w := worldOf(500, 10_000)
	c := Charter{Name: "c"}
	for l := range int32(10_000) {
		for k := range int32(10) {
			w.grant((l*7+k)%500, l, "c")
		}
	}
	for n := range 500 {
		c.Access = append(c.Access, entry(fmt.Sprintf("k%d", n), fmt.Sprintf("debian@i*%d", n)))
	}
	b.ResetTimer()
	for b.Loop() {
		if got := Compare(c, w); len(got.Changes) == 0 {
			b.Fatal("nothing differs")
		}
	}
}
