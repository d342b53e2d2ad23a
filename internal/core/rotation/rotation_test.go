package rotation

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/core/authorizedkeys"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// blob is the wire form of a made-up key.
func blob(n byte) []byte {
	return append([]byte("\x00\x00\x00\x0bssh-ed25519\x00\x00\x00\x20"), slices.Repeat([]byte{n}, 32)...)
}

func line(n byte, comment string) string {
	return "ssh-ed25519 " + base64.StdEncoding.EncodeToString(blob(n)) + " " + comment
}

func TestNoPhaseRemovesALineBeforeAnEntry(t *testing.T) {
	removals := 0
	for _, p := range []Phase{In, Out, Whole, Back, "another"} {
		for _, kept := range []bool{true, false} {
			entered := false
			for _, s := range Steps(p, kept) {
				entered = entered || s == Enter
				if s == Remove {
					removals++
					if !entered {
						t.Errorf("phase %s, kept %v: %v removes before an entry", p, kept, Steps(p, kept))
					}
				}
			}
		}
	}
	if removals != 3 {
		t.Errorf("%d phases remove a line; Out for both, and Whole", removals)
	}
	if Steps(Whole, false) != nil {
		t.Error("whole, without the new private key, somebody else's entry would not be waited for")
	}
}

func TestARemovalNeedsALineOfAnotherKeyThatOpensTheLogin(t *testing.T) {
	old, other := blob(1), blob(2)
	text := "# ours\r\nno-pty " + line(
		1, "old",
	) + "\n" + line(
		2, "new",
	) + "\nexpiry-time=\"20200101\" " + line(
		3, "over",
	) + "\ncert-authority " + line(
		4, "ca",
	) + "\nhalf a line"
	f := authorizedkeys.Parse([]byte(text))
	for name, c := range map[string]struct {
		old   [][]byte
		stays []byte
		want  error
	}{
		"no entry":                {[][]byte{old}, nil, ErrNotEntered},
		"its own line":            {[][]byte{old, other}, other, ErrOwnLine},
		"a key not in the file":   {[][]byte{old}, blob(9), ErrNotThere},
		"a line that has expired": {[][]byte{old}, blob(3), ErrNotThere},
		"an authority":            {[][]byte{old}, blob(4), ErrNotThere},
		"one that stays":          {[][]byte{old}, other, nil},
	} {
		if err := MayRemove([]authorizedkeys.File{f}, c.old, c.stays, now, time.UTC); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
	second := authorizedkeys.Parse([]byte(line(1, "old") + "\n"))
	if err := MayRemove([]authorizedkeys.File{second, f}, [][]byte{old}, other, now, time.UTC); err != nil {
		t.Errorf("the key that stays is in the other file: %v", err)
	}
	// Whether a line has expired depends on the zone of the machine.
	ends := authorizedkeys.Parse(
		[]byte(line(1, "old") + "\n" + `expiry-time="` + now.UTC().Format("200601021504") + `" ` + line(2, "other") + "\n"),
	)
	for hours, want := range map[int]error{-5: nil, 5: ErrNotThere} {
		if err := MayRemove(
			[]authorizedkeys.File{ends}, [][]byte{old}, blob(2), now.Add(time.Minute), time.FixedZone("", hours*3600),
		); !errors.Is(
			err, want,
		) {
			t.Errorf("in a zone of %+d hours: %v, want %v", hours, err, want)
		}
	}
}

func TestTheNewLineHasTheOptionsOfTheOld(t *testing.T) {
	for options, want := range map[string]string{
		"": "", "no-pty": "no-pty ", `from="10.0.0.0/8,192.0.2.1",no-pty`: `from="10.0.0.0/8,192.0.2.1",no-pty `,
		`command="echo \"a b\" c" `: `command="echo \"a b\" c" `, "  restrict,pty\t": "restrict,pty ",
	} {
		text := options
		if options != "" && !strings.HasSuffix(options, " ") && !strings.HasSuffix(options, "\t") {
			text += " "
		}
		f := authorizedkeys.Parse([]byte("# kept\n" + text + line(1, "old") + "\nhalf"))
		with, added, err := Beside(f, blob(1), blob(2), line(2, "new"))
		if err != nil || !added {
			t.Fatalf("%q: %v %v", options, added, err)
		}
		if got := string(with.Bytes()); got != "# kept\n"+text+line(1, "old")+"\nhalf\n"+want+line(2, "new")+"\n" {
			t.Errorf("%q:\n%q", options, got)
		}
		again, added, err := Beside(with, blob(1), blob(2), line(2, "new"))
		if err != nil || added || string(again.Bytes()) != string(with.Bytes()) {
			t.Errorf("%q, again: %v %v", options, added, err)
		}
	}
	f := authorizedkeys.Parse([]byte("cert-authority " + line(1, "ca") + "\n"))
	if _, _, err := Beside(f, blob(1), blob(2), line(2, "new")); !errors.Is(err, ErrAuthority) {
		t.Errorf("an authority: %v", err)
	}
	if _, added, err := Beside(nil, blob(1), blob(2), line(2, "new")); added || err != nil {
		t.Errorf("where the old one does not stand: %v %v", added, err)
	}
}

func TestASelectionWantsWhatFitsAllOfIt(t *testing.T) {
	old := Key{Name: "a", Type: "rsa", Bits: 2048, Created: now.AddDate(0, 0, -200), Holder: "oona", Instances: 3}
	for name, c := range map[string]struct {
		s    Selection
		k    Key
		want bool
	}{
		"nothing selects nothing": {Selection{}, old, false},
		"by name":                 {Selection{Keys: []string{"b", "a"}}, old, true},
		"another name":            {Selection{Keys: []string{"b"}}, old, false},
		"weaker":                  {Selection{Weaker: "rsa3072"}, old, true},
		"as strong":               {Selection{Weaker: "rsa2048"}, old, false},
		"another type":            {Selection{Weaker: "ecdsa384"}, old, false},
		"old and weak":            {Selection{Weaker: "rsa3072", Older: 100 * 24 * time.Hour}, old, true},
		"not so old":              {Selection{Older: 300 * 24 * time.Hour}, old, false},
		"of a holder, shared":     {Selection{Holder: "oona", Shared: true}, old, true},
		"not lost":                {Selection{Holder: "oona", Lost: true}, old, false},
		"a steward":               {Selection{Keys: []string{"a"}}, Key{Name: "a", Steward: true}, false},
		"no strength":             {Selection{Weaker: "strong"}, old, false},
	} {
		if got := c.s.Wants(c.k, now); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
	for _, bad := range []string{"", "rsa", "3072", "ed25519", "rsa-1", "rsa3072x", "dsa1024"} {
		if _, _, err := ReadStrength(bad); err == nil {
			t.Errorf("%q is read as a strength", bad)
		}
	}
}

func TestNewNamesFollowTheOldAndAreFree(t *testing.T) {
	used := map[string]bool{"a-2": true, "b-9": true}
	taken := func(n string) bool { return used[n] }
	long := strings.Repeat("x", 64)
	for old, want := range map[string]string{
		"a":            "a-3",
		"b-8":          "b-10",
		"hides-shared": "hides-shared-2",
		"x-2026":       "x-2027",
		long:           strings.Repeat("x", 62) + "-2",
	} {
		if got := NextName(old, taken); got != want {
			t.Errorf("after %s: %s, want %s", old, got, want)
		}
	}
	if got := OwnName("shared", "cam-1", taken); got != "cam-1-shared" {
		t.Error(got)
	}
	if got := OwnName(long, long, taken); len(got) > 64 {
		t.Errorf("%d characters", len(got))
	}
}

func TestWhatIsNamedAfterSomebodyIsNamedAfterWhoFollowsThem(t *testing.T) {
	used := map[string]bool{"oona-main": true, "marek-2": true}
	taken := func(n string) bool { return used[n] }
	h := Heir{Leaves: "marek", To: "oona"}
	for old, want := range map[string]string{
		"marek-main":                       "oona-main-2",
		"marek-tools":                      "oona-tools",
		"archive-song":                     "archive-song-2",
		"marek":                            "marek-3",
		"marekova-main":                    "marekova-main-2",
		"marek-" + strings.Repeat("x", 58): "oona-" + strings.Repeat("x", 58),
	} {
		if got := h.name(old, taken); got != want {
			t.Errorf("after %s: %s, want %s", old, got, want)
		}
	}
	if got := (Heir{}).name("-main", taken); got != "main-2" {
		t.Errorf("with nobody who leaves: %s", got)
	}
	keys := []Key{{Name: "marek-main"}, {Name: "marek-main-2"}}
	logins := []Login{
		{Name: "u@a", Instance: "a", Means: "steward key", Stands: []Stand{{0, true, true}, {1, true, true}}},
	}
	p := Make(Wanted{Selection: Selection{Keys: []string{"marek-main", "marek-main-2"}}, Follows: h}, keys, logins, taken)
	if len(p.New) != 2 || p.New[0].Name == p.New[1].Name {
		t.Errorf("two of one person get %+v", p.New)
	}
}

func TestAPlanSaysForEachLineWhatComesOrWhyNot(t *testing.T) {
	keys := []Key{{Name: "shared", Instances: 3}, {Name: "main"}, {Name: "next"}, {Name: "steward", Steward: true}}
	logins := []Login{
		{
			Name:     "u@a",
			Instance: "a",
			Means:    "steward key",
			Stands:   []Stand{{0, true, true}, {1, true, true}, {3, true, true}},
		},
		{Name: "u@b", Instance: "b", Means: "steward key", Stands: []Stand{{0, true, true}, {2, true, true}}},
		{Name: "u@x", Instance: "x", Means: "steward key", Stands: []Stand{{0, true, false}}},
		{Name: "u@c", Instance: "c", Means: "steward key", Stands: []Stand{{0, false, true}}},
		{Name: "u@d", Instance: "d", NoMeans: "no steward key", Remedy: "place one", Stands: []Stand{{0, true, true}}},
	}
	show := func(w Wanted) string {
		w.Now = now
		p := Make(w, keys, logins, func(n string) bool { return n == "shared-2" })
		var out []string
		for _, i := range p.Items {
			out = append(out, fmt.Sprintf(
				"%s %s>%s%s", logins[i.Login].Name, keys[i.Old].Name, i.New, map[bool]string{true: "!"}[i.LeftOut != ""],
			))
		}
		for _, f := range p.New {
			out = append(out, f.Name+" after "+keys[f.Old].Name)
		}
		return strings.Join(out, ", ")
	}
	for want, w := range map[string]Wanted{
		"u@a shared>shared-3, u@b shared>shared-3, u@x shared>!, u@c shared>!, u@d shared>!, shared-3 after shared": {
			Selection: Selection{Keys: []string{"shared"}}, Each: EachKey,
		},
		"u@a shared>a-shared, u@b shared>b-shared, u@x shared>!, u@c shared>!, u@d shared>!, a-shared after shared, " +
			"b-shared after shared": {Selection: Selection{Shared: true}, Each: EachInstance},
		"u@a main>next, u@b next>!": {Selection: Selection{Keys: []string{"main", "next"}}, Each: EachKey, To: "next"},
		"":                          {Selection: Selection{Keys: []string{"steward"}}, Each: EachKey},
	} {
		if got := show(w); got != want {
			t.Errorf("%s\nwant\n%s", got, want)
		}
	}
}

func TestNothingButALostKeyIsUrgent(t *testing.T) {
	keys := []Key{{Name: "lost", Lost: true}, {Name: "main"}}
	logins := []Login{
		{Name: "u@a", Instance: "a", Means: "steward key", Stands: []Stand{{0, true, true}, {1, true, true}}},
	}
	p := Make(
		Wanted{Selection: Selection{Keys: []string{"lost", "main"}}, Each: EachKey, Urgent: true, Now: now},
		keys,
		logins,
		func(string) bool { return false },
	)
	if len(p.Items) != 2 || p.Items[0].New != "lost-2" || p.Items[1].LeftOut == "" || len(p.New) != 1 {
		t.Errorf("%+v", p)
	}
}

func TestAKeyIsDueWhenItComesToTheAge(t *testing.T) {
	day := 24 * time.Hour
	for name, c := range map[string]struct {
		s    Selection
		age  time.Duration
		want time.Duration
	}{
		"not yet":    {Selection{Older: 20 * day}, 5 * day, 15 * day},
		"over":       {Selection{Older: 20 * day}, 25 * day, 0},
		"no age":     {Selection{Shared: true}, 5 * day, 0},
		"on the day": {Selection{Older: 20 * day}, 20 * day, 0},
	} {
		if got := c.s.Due(Key{Created: now.Add(-c.age)}, now); !got.Equal(now.Add(c.want)) {
			t.Errorf("%s: in %s, want in %s", name, got.Sub(now), c.want)
		}
	}
}

func TestAnOverrideIsForALostKeyInTheOneLoginThatWasNamed(t *testing.T) {
	for name, c := range map[string]struct {
		login, named, reason string
		lost                 bool
		want                 error
	}{
		"given":              {"u@a", "u@a", "stolen", true, nil},
		"not lost":           {"u@a", "u@a", "stolen", false, ErrNotLost},
		"another":            {"u@a", "u@b", "stolen", true, ErrNotNamed},
		"the instance alone": {"u@a", "a", "stolen", true, ErrNotNamed},
		"nothing":            {"", "", "stolen", true, ErrNotNamed}, "no reason": {"u@a", "u@a", " ", true, ErrNoReason},
	} {
		if _, err := OverrideFor(c.login, c.named, c.reason, c.lost); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

func TestAnOverrideIsForTheLoginThatItNames(t *testing.T) {
	leave, err := OverrideFor("u@a", "u@a", "stolen", true)
	if err != nil {
		t.Fatal(err)
	}
	for login, want := range map[string]bool{"u@a": true, "u@b": false, "": false} {
		if got := leave.For(login); got != want {
			t.Errorf("for %q: %v, want %v", login, got, want)
		}
	}
	if (Override{}).For("") || (Override{}).For("u@a") {
		t.Error("the zero override is one")
	}
	if steps := Steps(Forced, true); len(steps) != 2 || steps[0] != Remove || steps[1] != See {
		t.Errorf("the steps of a forced removal are %v", steps)
	}
}

func TestHoursGoOverMidnight(t *testing.T) {
	at := func(h, m int) time.Time { return time.Date(2026, 11, 23, h, m, 0, 0, time.UTC) }
	for text, c := range map[string]struct{ in, out []time.Time }{
		"22:00-04:00": {[]time.Time{at(22, 0), at(0, 0), at(3, 59)}, []time.Time{at(4, 0), at(12, 0), at(21, 59)}},
		"09:30-17:00": {[]time.Time{at(9, 30), at(16, 59)}, []time.Time{at(9, 29), at(17, 0), at(0, 0)}},
		"00:00-24:00": {[]time.Time{at(0, 0), at(23, 59)}, nil},
	} {
		h, err := ReadHours(text)
		if err != nil {
			t.Fatal(err)
		}
		for _, in := range c.in {
			if !h.Has(in) {
				t.Errorf("%s does not have %s", text, in.Format("15:04"))
			}
		}
		for _, out := range c.out {
			if h.Has(out) {
				t.Errorf("%s has %s", text, out.Format("15:04"))
			}
		}
	}
	for _, bad := range []string{
		"",
		"22-04",
		"22:00",
		"25:00-04:00",
		"22:00-04:60",
		"22:00-24:30",
		"22:00-04:00x",
		"-1:00-04:00",
		"04:00-04:00",
	} {
		if h, err := ReadHours(bad); err == nil {
			t.Errorf("%q is read as %+v", bad, h)
		}
	}
}
