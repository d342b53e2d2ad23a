package machines

import (
	"strings"
	"testing"

	"plumlatch/internal/core/name"
)

func TestEachInstanceOfACloudGetsANameThatFits(t *testing.T) {
	taken := func(s string) bool { return s == "atlas-web" || s == strings.Repeat("a", name.MaxLength) }
	for called, want := range map[string]string{
		"hide-cam":                            "hide-cam",
		"Hide Cam 7":                          "hide-cam-7",
		"atlas-web":                           "atlas-web-3c4d5e",
		"":                                    "i-1a2b3c4d5e",
		"…":                                   "i-1a2b3c4d5e",
		strings.Repeat("a", name.MaxLength):   strings.Repeat("a", name.MaxLength-7) + "-3c4d5e",
		strings.Repeat("b", 3*name.MaxLength): strings.Repeat("b", name.MaxLength),
	} {
		got := NameFor(called, "i-1a2b3c4d5e", taken)
		if got != want || name.Check(got) != nil {
			t.Errorf("%q is recorded as %q (%v), want %q", called, got, name.Check(got), want)
		}
	}
}
