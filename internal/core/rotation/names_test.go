package rotation

import (
	"errors"
	"testing"
	"time"
)

func TestNewKeysAreNamedByAPattern(t *testing.T) {
	old := Key{Name: "hides-shared", Holder: "team-field"}
	now := time.Date(2026, 11, 28, 23, 0, 0, 0, time.UTC)
	for pattern, want := range map[string]string{
		"{key}-{year}": "hides-shared-2026", "{instance}-{key}": "hide-cam-1-hides-shared",
		"{holder}.{year}{month}{day}": "team-field.20261128",
		"fixed":                       "fixed-2",
	} {
		if got := NamedBy(pattern, old, "hide-cam-1", now, func(n string) bool { return n == "fixed" }); got != want {
			t.Errorf("%q names %q, want %q", pattern, got, want)
		}
	}
}

func TestAPatternThatMakesNoNameIsRefused(t *testing.T) {
	for pattern, ok := range map[string]bool{
		"": true, "{key}-{year}": true, "{instance}": false, "{user}": false, "{key": false, "Key " +
			"{key}": false, "-{key}": false,
	} {
		var fault *Fault
		if err := CheckNames(pattern, EachKey); ok != (err == nil) || !ok && !errors.As(err, &fault) {
			t.Errorf("%q: %v", pattern, err)
		}
	}
	if err := CheckNames("{instance}-{key}", EachInstance); err != nil {
		t.Error(err)
	}
}
