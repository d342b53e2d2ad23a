package name

import (
	"errors"
	"slices"
	"strings"
	"testing"
)

func TestCheckSaysWhichCharacterAndOffersACorrectedName(t *testing.T) {
	for _, c := range []struct {
		in         string
		column     int
		suggestion string
	}{
		{"Atlas Deploy", 1, "atlas-deploy"},
		{"atlas deploy", 6, "atlas-deploy"},
		{"atlas\ndeploy", 6, "atlas-deploy"},
		{"atlas/../etc", 6, "atlas-..-etc"},
		{"möwe", 2, "m-we"},
		{"bad\xffbyte", 4, "bad-byte"},
		{"-rf", 1, "rf"},
		{"tide.", 5, "tide"},
		{"", 0, ""},
		{"***", 1, ""},
		{strings.Repeat("a", 65), 65, strings.Repeat("a", 64)},
	} {
		var e *Error
		if err := Check(c.in); !errors.As(err, &e) {
			t.Errorf("Check(%q) = %v, want *Error", c.in, err)
			continue
		}
		if e.Column != c.column || e.Suggestion != c.suggestion {
			t.Errorf("Check(%q): column %d, suggestion %q; want %d, %q", c.in, e.Column, e.Suggestion, c.column, c.suggestion)
		}
	}
}

func TestCheckAcceptsGoodNames(t *testing.T) {
	for _, s := range []string{"a", "0", "atlas-web-1", "id_rsa_2", "hide.north", strings.Repeat("k", 64)} {
		if err := Check(s); err != nil {
			t.Errorf("Check(%q) = %v", s, err)
		}
	}
}

func FuzzSuggestionIsAlwaysGood(f *testing.F) {
	f.Add("Ångström key")
	f.Add("..--__")
	f.Add("\x00\xff")
	f.Fuzz(func(t *testing.T, s string) {
		if out := Suggest(s); out != "" {
			if err := Check(out); err != nil {
				t.Errorf("Suggest(%q) = %q: %v", s, out, err)
			}
		}
	})
}

func TestEveryKeyOfAListGetsANameOfItsOwn(t *testing.T) {
	got := ForList("hides", []string{"Ines@Laptop", "ines@laptop", "", "5", "oona tablet", strings.Repeat("x", 80)})
	want := []string{"hides-ines-laptop", "hides-2", "hides-3", "hides-5", "hides-oona-tablet", "hides-6"}
	if !slices.Equal(got, want) {
		t.Errorf("names %q, want %q", got, want)
	}
	// A comment that is another's place must not take its name.
	got = ForList("k", []string{"2", "", "4", ""})
	slices.Sort(got)
	if len(slices.Compact(got)) != 4 {
		t.Errorf("two keys got one name: %q", got)
	}
}
