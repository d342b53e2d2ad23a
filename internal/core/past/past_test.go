package past

import (
	"testing"
	"time"
)

func day(n int) time.Time { return time.Date(2026, 11, n, 12, 0, 0, 0, time.UTC) }

// history has a key that comes between 5 and 9, one that goes between 9 and 12, and one that stays.
func history() []Version[string] {
	return []Version[string]{
		{Path: "b", SeenAt: day(3), SeenUntil: day(20), Keys: []string{"other"}},
		{Path: "a", SeenAt: day(9), SeenUntil: day(9), Keys: []string{"stays", "goes", "comes", "comes"}},
		{Path: "a", SeenAt: day(3), SeenUntil: day(5), Keys: []string{"stays", "goes"}},
		{Path: "a", SeenAt: day(12), SeenUntil: day(20), Keys: []string{"comes", "stays"}},
	}
}

func TestWhatNobodyLookedAtIsNotKnown(t *testing.T) {
	for _, c := range []struct {
		key  string
		at   time.Time
		want Known
	}{
		{"stays", day(2), Not}, {"stays", day(3), Seen}, {"stays", day(7), Seen}, {"stays", day(20), Seen},
		{"stays", day(25), Since},
		{"comes", day(4), Not}, {"comes", day(5), Not}, {"comes", day(7), Between}, {"comes", day(9), Seen},
		{"comes", day(21), Since},
		{"goes", day(9), Seen}, {"goes", day(10), Between}, {"goes", day(12), Not}, {"goes", day(30), Not},
	} {
		got := Not
		for _, i := range Intervals(history()) {
			if i.Key == c.key {
				if is := i.At(c.at); is != Not {
					got = is
				}
			}
		}
		if got != c.want {
			t.Errorf("%s on %s: %q, want %q", c.key, c.at.Format("2 Jan"), got, c.want)
		}
	}
	if got := FirstRead(history()); !got.Equal(day(3)) {
		t.Errorf("first read on %v", got)
	}
}

func TestAKeyThatComesBackHasTwoIntervals(t *testing.T) {
	all := Intervals([]Version[string]{
		{SeenAt: day(1), SeenUntil: day(2), Keys: []string{"k"}},
		{SeenAt: day(4), SeenUntil: day(5)},
		{SeenAt: day(7), SeenUntil: day(8), Keys: []string{"k"}},
	})
	if len(all) != 2 || !all[0].GoneBy.Equal(day(4)) || !all[1].NotBefore.Equal(day(5)) || !all[1].StillThere {
		t.Fatalf("%+v", all)
	}
	for _, c := range []struct {
		from, until int
		want        [2]bool
	}{{1, 1, [2]bool{true, false}}, {3, 3, [2]bool{true, false}}, {6, 6, [2]bool{false, true}},
		{9, 30, [2]bool{false, true}},
		{1, 30, [2]bool{true, true}}} {
		if got := [2]bool{all[0].Within(day(c.from), day(c.until)), all[1].Within(day(c.from), day(c.until))}; got != c.want {
			t.Errorf("from %d to %d: %v", c.from, c.until, got)
		}
	}
}

func TestAKeyWasHeldByWhoHadItThen(t *testing.T) {
	handovers := []Handover{{day(20), "oona", "ines"}, {day(10), "marek", "oona"}}
	for at, want := range map[int]string{5: "marek", 10: "oona", 15: "oona", 20: "ines", 25: "ines"} {
		if got := HolderAt("ines", handovers, day(at)); got != want {
			t.Errorf("on %d: %s, want %s", at, got, want)
		}
	}
}
