package digest

import (
	"strings"
	"testing"
	"time"
)

func TestADigestComesOnceADayUnlessSomebodyIsKeptOut(t *testing.T) {
	now := time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
	ago := func(d time.Duration) *time.Time { return new(now.Add(-d)) }
	prove := Task{Prove, "a", now.Add(-time.Minute)}
	bring := Task{Bring, "b", now.Add(-time.Minute)}
	for _, c := range []struct {
		name  string
		tasks []Task
		last  *time.Time
		want  bool
	}{
		{"nothing to do", nil, nil, false},
		{"the first", []Task{prove}, nil, true},
		{"a proof an hour after a mail", []Task{prove}, ago(time.Hour), false},
		{"a proof a day after a mail", []Task{prove}, ago(Every), true},
		{"a key to bring, new since the mail", []Task{prove, bring}, ago(time.Hour), true},
		{"a key to bring, right after a mail", []Task{bring}, ago(5 * time.Minute), false},
		{"a key to bring that was told of", []Task{{Bring, "b", now.Add(-2 * time.Hour)}}, ago(time.Hour), false},
	} {
		if got := Due(c.tasks, c.last, now); got != c.want {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func TestAMailNamesKeysAndIsPlain(t *testing.T) {
	tasks := []Task{{Kind: Take, Key: "atlas\x1b[31m-2"}}
	for range 12 {
		tasks = append(tasks, Task{Kind: Prove, Key: "cam"})
	}
	subject, body := Mail("Oona Vik", tasks, "https://latch.wrackline.example")
	for _, want := range []string{
		"1 key to take", "12 keys to prove", "and 2 more", "plumlatch prove -due", "https://latch.wrackline.example",
	} {
		if !strings.Contains(body, want) {
			t.Errorf("no %q in:\n%s", want, body)
		}
	}
	if strings.Contains(body, "\x1b") || subject != "Plum Latch: 13 things to do" {
		t.Errorf("%q\n%q", subject, body)
	}
}
