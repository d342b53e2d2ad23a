package visit

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"
)

func TestAVisitIsOverAtTheFirstOfItsBounds(t *testing.T) {
	start := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	after := func(d time.Duration) time.Time { return start.Add(d) }
	l := Limits{Idle: 15 * time.Minute, Longest: 8 * time.Hour, Away: 2 * time.Minute, Record: 100}
	for name, c := range map[string]struct {
		facts Facts
		now   time.Time
		want  How
	}{
		"busy":                 {Facts{Opened: start, Typed: after(time.Hour)}, after(time.Hour + time.Minute), ""},
		"idle":                 {Facts{Opened: start, Typed: start}, after(15 * time.Minute), Idle},
		"almost idle":          {Facts{Opened: start, Typed: start}, after(15*time.Minute - 1), ""},
		"too long":             {Facts{Opened: start, Typed: after(8 * time.Hour)}, after(8 * time.Hour), TooLong},
		"away":                 {Facts{Opened: start, Typed: start, Away: after(1)}, after(2*time.Minute + 1), Away},
		"back in time":         {Facts{Opened: start, Typed: start}, after(3 * time.Minute), ""},
		"a full recording":     {Facts{Opened: start, Typed: start, Recorded: 100}, after(1), Unkept},
		"not yet a full one":   {Facts{Opened: start, Typed: start, Recorded: 99}, after(1), ""},
		"too long before idle": {Facts{Opened: start, Typed: start}, after(9 * time.Hour), TooLong},
	} {
		how, over := l.Over(c.facts, c.now)
		if how != c.want || over != (c.want != "") {
			t.Errorf("%s: %q, %v, want %q", name, how, over, c.want)
		}
	}
	if how, over := (Limits{}).Over(Facts{}, start); over {
		t.Errorf("without bounds it ends: %s", how)
	}
}

func TestThereAreThreeWays(t *testing.T) {
	for way, want := range map[Way]bool{OwnKey: true, VisitKey: true, KeptKey: true, "": false, "password": false} {
		if way.Known() != want {
			t.Errorf("%q: %v, want %v", way, !want, want)
		}
	}
}

// TestARecordingIsAsciicast reads what is written as the format says: a header, then an array for each event.
func TestARecordingIsAsciicast(t *testing.T) {
	at := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	var cast bytes.Buffer
	cast.Write(Header(80, 24, at, "warden@mast"))
	cast.Write(Event(1500*time.Millisecond, Shown, "naïve\x1b[1m\n\u2028"))
	cast.Write(Event(2*time.Second, Typed, "\x03"))
	cast.Write(Event(3*time.Second, Resized, Size(100, 30)))
	lines := strings.Split(strings.TrimSuffix(cast.String(), "\n"), "\n")
	var head struct {
		Version, Width, Height int
		Timestamp              int64
		Title                  string
	}
	if err := json.Unmarshal([]byte(lines[0]), &head); err != nil || head.Version != 2 || head.Width != 80 ||
		head.Height != 24 || head.Timestamp != at.Unix() || head.Title != "warden@mast" {
		t.Errorf("%+v, %v", head, err)
	}
	want := [][]any{{1.5, "o", "naïve\x1b[1m\n\u2028"}, {2.0, "i", "\x03"}, {3.0, "r", "100x30"}}
	for n, line := range lines[1:] {
		var got []any
		if err := json.Unmarshal([]byte(line), &got); err != nil || len(got) != 3 || got[0] != want[n][0] ||
			got[1] != want[n][1] || got[2] != want[n][2] {
			t.Errorf("line %d: %v, %v, want %v", n+2, got, err, want[n])
		}
	}
}

func TestTextIsNotCutInARune(t *testing.T) {
	whole := "a naïve façade — 海鳥 🐦 b"
	for size := 1; size <= 5; size++ {
		var text Text
		got := ""
		for rest := []byte(whole); len(rest) > 0; {
			n := min(size, len(rest))
			got += text.Take(rest[:n])
			rest = rest[n:]
		}
		if got != whole {
			t.Errorf("in pieces of %d bytes: %q", size, got)
		}
	}
	var text Text
	if got := text.Take([]byte("a\xff\xfeb")); got != "a\uFFFDb" {
		t.Errorf("%q", got)
	}
}

func FuzzText(f *testing.F) {
	f.Add([]byte("naïve \xff\xe2\x82"), uint8(2))
	f.Fuzz(func(t *testing.T, all []byte, size uint8) {
		var text Text
		for rest := all; len(rest) > 0; {
			n := min(int(size)+1, len(rest))
			if got := text.Take(rest[:n]); !utf8.ValidString(got) {
				t.Errorf("%q is no text", got)
			}
			rest = rest[n:]
		}
	})
}
