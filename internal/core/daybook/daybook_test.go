package daybook

import (
	"errors"
	"slices"
	"strings"
	"testing"
	"time"
)

func chain(t testing.TB, n int) []Linked {
	t.Helper()
	var out []Linked
	before := First
	for i := range n {
		e := Entry{
			Seq:         int64(i + 1),
			At:          time.Date(2026, 3, 1, 7, 0, i, 123456789, time.UTC),
			Person:      "ines",
			Via:         "cli",
			Action:      "key.make",
			SubjectKind: "key",
			Subject:     "gannet",
			About:       []string{"key:gannet"},
			Outcome:     "done",
			Sentence:    "Ines made it <&> \u2028.",
			Details:     map[string]any{"z": 1.0, "a": []any{"x", true}},
		}
		hash, err := Link(before, e)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, Linked{Entry: e, Before: slices.Clone(before[:]), Hash: slices.Clone(hash[:])})
		before = hash
	}
	return out
}

func check(links []Linked, kept *Head) *Fault {
	c := Checker{Kept: kept}
	var err error
	for _, l := range links {
		if err = c.Add(l); err != nil {
			break
		}
	}
	var f *Fault
	if err == nil {
		err = c.End()
	}
	errors.As(err, &f)
	return f
}

// relink gives the entries from the place on hashes that fit, as somebody would who
// can write everything.
func relink(t testing.TB, links []Linked, from int) {
	t.Helper()
	before := First
	if from > 0 {
		before = Hash(links[from-1].Hash)
	}
	for i := from; i < len(links); i++ {
		links[i].Seq = int64(i + 1)
		hash, err := Link(before, links[i].Entry)
		if err != nil {
			t.Fatal(err)
		}
		links[i].Before, links[i].Hash = slices.Clone(before[:]), slices.Clone(hash[:])
		before = hash
	}
}

func TestTheFirstEntryThatDoesNotFitIsFound(t *testing.T) {
	cases := map[string]struct {
		bend func([]Linked) []Linked
		at   int64
		says string
	}{
		"as it was":         {func(l []Linked) []Linked { return l }, 0, ""},
		"a word changed":    {func(l []Linked) []Linked { l[3].Sentence = "Nothing."; return l }, 4, "changed"},
		"a detail changed":  {func(l []Linked) []Linked { l[3].Details["z"] = 2.0; return l }, 4, "changed"},
		"a time changed":    {func(l []Linked) []Linked { l[0].At = l[0].At.Add(time.Microsecond); return l }, 1, "changed"},
		"one removed":       {func(l []Linked) []Linked { return slices.Delete(l, 4, 5) }, 5, "removed"},
		"several removed":   {func(l []Linked) []Linked { return slices.Delete(l, 4, 7) }, 5, "up to 7"},
		"the first removed": {func(l []Linked) []Linked { return l[2:] }, 1, "removed"},
		"two swapped": {func(l []Linked) []Linked {
			l[2].Entry, l[3].Entry = l[3].Entry, l[2].Entry
			l[2].Seq, l[3].Seq = 3, 4
			return l
		}, 3, "changed"},
		"one put in again": {func(l []Linked) []Linked { return slices.Insert(l, 5, l[4]) }, 5, "comes after"},
		"changed and hashed": {
			func(l []Linked) []Linked { l[3].Sentence = "x"; relink(t, l[:4], 3); return l },
			5,
			"does not follow",
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			f := check(c.bend(chain(t, 9)), nil)
			if c.at == 0 {
				if f != nil {
					t.Fatal(f)
				}
				return
			}
			if f == nil || f.Seq != c.at || !strings.Contains(f.What, c.says) {
				t.Fatalf("got %v, want a fault of entry %d that says %q", f, c.at, c.says)
			}
		})
	}
}

func TestAKeptHeadShowsAShortenedAndARewrittenDaybook(t *testing.T) {
	links := chain(t, 9)
	head := &Head{Seq: 7, Hash: Hash(links[6].Hash)}
	if f := check(links, head); f != nil {
		t.Fatal(f)
	}
	if f := check(links[:6], head); f == nil || f.Seq != 7 || !strings.Contains(f.What, "shortened") {
		t.Fatalf("shortened: %v", f)
	}
	links[2].Sentence = "x"
	relink(t, links, 2)
	if f := check(links, nil); f != nil {
		t.Fatalf("without a head nobody can tell: %v", f)
	}
	if f := check(links, head); f == nil || f.Seq != 7 || !strings.Contains(f.What, "made again") {
		t.Fatalf("rewritten: %v", f)
	}
}

// The expected bytes follow RFC 8785: sorted names, no blanks, the shortest escapes.
func TestAnEntryIsHashedInItsCanonicalForm(t *testing.T) {
	got, err := Canonical(chain(t, 1)[0].Entry)
	if err != nil {
		t.Fatal(err)
	}
	want := `{"about":["key:gannet"],"action":"key.make","at":"2026-03-01T07:00:00.123456Z",` +
		`"details":{"a":["x",true],"z":1},` +
		`"outcome":"done","person":"ines","request_id":"","sentence":"Ines made it <&> ` + "\u2028" + `.",` +
		`"seq":1,"subject":"gannet","subject_kind":"key","via":"cli","why":""}`
	if string(got) != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
}

func TestAHashIsReadStrictly(t *testing.T) {
	h := Hash{1, 2, 3}
	if got, err := ReadHash(h.String()); err != nil || got != h {
		t.Fatal(got, err)
	}
	for _, bad := range []string{"", "00", h.String() + "00", strings.Repeat("g", 64), h.String()[:63]} {
		if _, err := ReadHash(bad); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

// TestARedactedEntryFitsOnlyIfALaterOneTellsOfIt takes the details of an entry away in the way
// that is meant, and in ways that an owner of the database might try.
func TestARedactedEntryFitsOnlyIfALaterOneTellsOfIt(t *testing.T) {
	redacted := func(t *testing.T, bend func(links []Linked, told *Redacted)) ([]Linked, *Fault) {
		links := chain(t, 6)
		left, told, err := Redact(links[2], "(removed)")
		if err != nil {
			t.Fatal(err)
		}
		links[2] = left
		bend(links, &told)
		links[5].Action, links[5].Details = Redaction, map[string]any{
			"entries": []any{map[string]any{"seq": float64(told.Seq), "left": told.Left}},
		}
		hash, err := Link(Hash(links[5].Before), links[5].Entry)
		if err != nil {
			t.Fatal(err)
		}
		links[5].Hash = hash[:]
		return links, check(links, nil)
	}
	links, fault := redacted(t, func([]Linked, *Redacted) {})
	if fault != nil {
		t.Errorf("told of, it does not fit: %v", fault)
	}
	c := Checker{}
	for _, l := range links {
		if err := c.Add(l); err != nil {
			t.Fatal(err)
		}
	}
	if got := c.Redacted(); !slices.Equal(got, []int64{3}) {
		t.Errorf("redacted are %v, want entry 3", got)
	}
	for name, bend := range map[string]func([]Linked, *Redacted){
		"of another entry is told":     func(_ []Linked, told *Redacted) { told.Seq = 2 },
		"its sentence changed later":   func(links []Linked, _ *Redacted) { links[2].Sentence = "Nothing happened." },
		"the person changed later":     func(links []Linked, _ *Redacted) { links[2].Person = "marek" },
		"it is not marked as redacted": func(links []Linked, _ *Redacted) { links[2].Details = map[string]any{} },
	} {
		if _, fault := redacted(t, bend); fault == nil || fault.Seq != 3 {
			t.Errorf("%s: the fault is %v, want one at entry 3", name, fault)
		}
	}
	if fault := check(links[:5], nil); fault == nil || fault.Seq != 3 {
		t.Errorf("nothing told yet: the fault is %v, want one at entry 3", fault)
	}
}
