package name

import (
	"slices"
	"testing"
)

func TestTheNearestNamesAreThoseOfFewOtherLetters(t *testing.T) {
	among := []string{"atlas-web-1", "atlas-web-2", "atlas-db", "ringing-db", "walk", "hide-cam-1", "hide-cam-10"}
	for typed, want := range map[string][]string{
		"atlas-wbe-1": {"atlas-web-1", "atlas-web-2"}, "altas-db": {"atlas-db"}, "Walk": {"walk"}, "wlk": {"walk"},
		"hide": {"hide-cam-1", "hide-cam-10"}, "zebra": nil, "": nil, "x": nil,
	} {
		if got := Nearest(typed, among); !slices.Equal(got, want) {
			t.Errorf("%q may mean %v, want %v", typed, got, want)
		}
	}
}
