package text

import (
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"
)

func TestLineHoldsNothingThatSteersATerminal(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                  "plain",
		"two\r\nlines\t here":    "two lines here",
		"a\x1b[2Jb\x00c":         "a?[2Jb?c",
		"bad \xff byte":          "bad ? byte",
		"left\u202eright":        "left?right",
		"title\x1b]0;pwned\x07 ": "title?]0;pwned?",
		"c1 \u009b31m":           "c1 ?31m",
	} {
		if got := Line(in, MaxLine); got != want {
			t.Errorf("Line(%q) is %q, want %q", in, got, want)
		}
	}
}

func TestCutEndsBetweenCharactersWithinTheLimit(t *testing.T) {
	for in, want := range map[string]string{
		"short":                       "short",
		strings.Repeat("é", 600):      strings.Repeat("é", 48) + "…",
		"x" + strings.Repeat("é", 60): "x" + strings.Repeat("é", 48) + "…",
	} {
		if got := Cut(in, 100); got != want || len(got) > 100 {
			t.Errorf("Cut of %d bytes is %q of %d bytes, want %q", len(in), got, len(got), want)
		}
	}
}

func TestPlainLinesKeepsLineEndsAndTabsAlone(t *testing.T) {
	if got, want := PlainLines("a\tb\nc\rd\x1b"), "a\tb\nc?d?"; got != want {
		t.Errorf("PlainLines is %q, want %q", got, want)
	}
}

func FuzzLine(f *testing.F) {
	f.Add("x\x1b[31m \u202e", 10)
	f.Fuzz(func(t *testing.T, s string, limit int) {
		limit = min(max(limit, 3), 400)
		got := Line(s, limit)
		if len(got) > limit || !utf8.ValidString(got) || strings.ContainsFunc(got, unicode.IsControl) {
			t.Errorf("Line(%q, %d) is %q", s, limit, got)
		}
	})
}
