package moment

import (
	"testing"
	"time"
)

// now is a Saturday afternoon in a zone that changes its clocks.
func now(t *testing.T) time.Time {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Fatal(err)
	}
	return time.Date(2026, 10, 24, 15, 30, 0, 0, zone)
}

func TestTimesAreReadAsPeopleWriteThem(t *testing.T) {
	for text, want := range map[string][2]string{ // until, since
		"2d":                        {"2026-10-26T14:30:00+01:00", "2026-10-22T15:30:00+02:00"},
		"48h":                       {"2026-10-26T14:30:00+01:00", "2026-10-22T15:30:00+02:00"},
		"1d12h":                     {"2026-10-26T02:30:00+01:00", "2026-10-23T03:30:00+02:00"},
		"2 days":                    {"2026-10-26T14:30:00+01:00", "2026-10-22T15:30:00+02:00"},
		"today":                     {"2026-10-25T00:00:00+02:00", "2026-10-24T00:00:00+02:00"},
		"tomorrow":                  {"2026-10-26T00:00:00+01:00", "2026-10-25T00:00:00+02:00"},
		"tomorrow 18:00":            {"2026-10-25T18:00:00+01:00", "2026-10-25T18:00:00+01:00"},
		"18:00":                     {"2026-10-24T18:00:00+02:00", "2026-10-24T18:00:00+02:00"},
		"friday":                    {"2026-10-31T00:00:00+01:00", "2026-10-23T00:00:00+02:00"},
		"Fri 09:15":                 {"2026-10-30T09:15:00+01:00", "2026-10-23T09:15:00+02:00"},
		"saturday":                  {"2026-11-01T00:00:00+01:00", "2026-10-17T00:00:00+02:00"},
		"2026-12-31":                {"2027-01-01T00:00:00+01:00", "2026-12-31T00:00:00+01:00"},
		"2026-12-31 18:00":          {"2026-12-31T18:00:00+01:00", "2026-12-31T18:00:00+01:00"},
		"31 Dec 2026":               {"2027-01-01T00:00:00+01:00", "2026-12-31T00:00:00+01:00"},
		"28 Nov 2026 06:41":         {"2026-11-28T06:41:00+01:00", "2026-11-28T06:41:00+01:00"},
		"2026-12-31T18:00:00Z":      {"2026-12-31T18:00:00Z", "2026-12-31T18:00:00Z"},
		"2026-12-31T18:00:00+02:00": {"2026-12-31T18:00:00+02:00", "2026-12-31T18:00:00+02:00"},
	} {
		for n, sense := range []Sense{Until, Since} {
			if at, err := Read(text, now(t), sense); err != nil || at.Format(time.RFC3339) != want[n] {
				t.Errorf("%q in sense %d is %s, want %s: %v", text, sense, at.Format(time.RFC3339), want[n], err)
			}
		}
	}
}

func TestWhatIsNoTimeIsRefused(t *testing.T) {
	for _, text := range []string{
		"", "soon", "-2d", "2", "2x", "2d3", "d", "31.12.2026", "2026-13-01", "tomorrow 25:00", "noon", "friday:",
		"99999999999999999999d", "9999999h9999999999h", "36601d1000000000h",
	} {
		if at, err := Read(text, now(t), Until); err == nil {
			t.Errorf("%q is taken as %s", text, at)
		}
	}
}

func TestSpansAreWholeDaysWhereDaysAreAskedFor(t *testing.T) {
	for text, want := range map[string]int{"7": 7, "0": 0, "48h": 2, "49h": 3, "2d": 2, "1w": 7, "90m": 1} {
		if n, err := Days(text); err != nil || n != want {
			t.Errorf("%q is %d days, want %d: %v", text, n, want, err)
		}
	}
	for _, text := range []string{"", "x", "-1", "99999"} {
		if n, err := Days(text); err == nil {
			t.Errorf("%q is %d days", text, n)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"2d", "tomorrow 18:00", "friday", "2026-12-31", "28 Nov 2026 06:41", "1w2d3h"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		at := time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC)
		if got, err := Read(text, at, Until); err == nil && got.IsZero() {
			t.Errorf("%q is read as no time", text)
		}
	})
}
