// Package moment reads times and spans as people write them: 48h, 2d, tomorrow 18:00, friday, 31 Dec 2026, or
// as in RFC 3339. It knows no language but English and no calendar but the Gregorian, and no clock: what now is,
// and in which time zone, comes in.
package moment

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Sense is what a time is for.
type Sense int

// The senses.
const (
	// Until is an end that is ahead: a span counts from now on, a weekday is the next one, and a day without a
	// time of day means its end.
	Until Sense = iota + 1
	// Since is a beginning that has been: a span counts back, a weekday is the last one, and a day without a time
	// of day means its beginning.
	Since
)

var units = map[string]time.Duration{
	"s": time.Second, "sec": time.Second, "second": time.Second, "seconds": time.Second,
	"m": time.Minute, "min": time.Minute, "minute": time.Minute, "minutes": time.Minute,
	"h": time.Hour, "hour": time.Hour, "hours": time.Hour,
	"d": 24 * time.Hour, "day": 24 * time.Hour, "days": 24 * time.Hour,
	"w": 7 * 24 * time.Hour, "week": 7 * 24 * time.Hour, "weeks": 7 * 24 * time.Hour,
}

// maxSpan is a hundred years; what is longer is a slip.
const maxSpan = 100 * 366 * 24 * time.Hour

// Span reads a span such as 90s, 48h, 2d, 1w, 1d12h or "2 days". A day has 24 hours.
func Span(text string) (time.Duration, error) {
	bad := fmt.Errorf("%q is not a span of time such as 90m, 48h, 2d or 1w", text)
	rest := strings.ToLower(strings.ReplaceAll(text, " ", ""))
	if rest == "" {
		return 0, bad
	}
	var sum time.Duration
	for rest != "" {
		digits := rest[:len(rest)-len(strings.TrimLeft(rest, "0123456789"))]
		rest = rest[len(digits):]
		word := rest[:len(rest)-len(strings.TrimLeft(rest, "abcdefghijklmnopqrstuvwxyz"))]
		rest = rest[len(word):]
		unit, known := units[word]
		n, err := strconv.ParseInt(digits, 10, 64)
		if err != nil || !known || n > int64(maxSpan/unit) {
			return 0, bad
		}
		if sum += time.Duration(n) * unit; sum > maxSpan {
			return 0, bad
		}
	}
	return sum, nil
}

// Days reads a span as whole days, rounded up; a bare number is of days.
func Days(text string) (int, error) {
	if n, err := strconv.Atoi(text); err == nil && n >= 0 && n <= 36600 {
		return n, nil
	}
	span, err := Span(text)
	return int((span + 24*time.Hour - 1) / (24 * time.Hour)), err
}

var layouts = []string{time.DateOnly, "2 Jan 2006", "2 January 2006", "Jan 2 2006"}

// Read reads a time: a span from now, a day, a day and a time of day, a time of day, or RFC 3339. Days and times
// of day are those of now's time zone.
func Read(text string, now time.Time, sense Sense) (time.Time, error) {
	text = strings.TrimSpace(text)
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, nil
	}
	if span, err := Span(text); err == nil {
		if sense == Since {
			span = -span
		}
		return now.Add(span), nil
	}
	day, clock := text, ""
	if at := strings.LastIndexAny(text, " T"); at >= 0 && strings.Contains(text[at:], ":") {
		day, clock = strings.TrimSpace(text[:at]), text[at+1:]
	} else if strings.Contains(text, ":") {
		day, clock = "today", text
	}
	begins, ok := dayOf(strings.ToLower(day), now, sense)
	if !ok {
		return time.Time{}, fmt.Errorf(
			"%q is not a time: give a span (48h, 2d), a day (tomorrow, friday, 2026-12-31), a day and a time "+
				"(tomorrow 18:00), or RFC 3339 (2026-12-31T18:00:00Z)", text,
		)
	}
	if clock == "" {
		if sense == Until {
			return begins.AddDate(0, 0, 1), nil
		}
		return begins, nil
	}
	for _, layout := range []string{"15:04", "15:04:05"} {
		if of, err := time.Parse(layout, clock); err == nil {
			return time.Date(
				begins.Year(), begins.Month(), begins.Day(), of.Hour(), of.Minute(), of.Second(), 0, now.Location(),
			), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time of day such as 18:00", clock)
}

// dayOf returns when a day begins.
func dayOf(word string, now time.Time, sense Sense) (time.Time, bool) {
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch word {
	case "today":
		return today, true
	case "tomorrow":
		return today.AddDate(0, 0, 1), true
	case "yesterday":
		return today.AddDate(0, 0, -1), true
	}
	for _, layout := range layouts {
		if at, err := time.ParseInLocation(layout, word, now.Location()); err == nil {
			return at, true
		}
	}
	for n := 1; n <= 7; n++ {
		at := today.AddDate(0, 0, n)
		if sense == Since {
			at = today.AddDate(0, 0, -n)
		}
		if name := strings.ToLower(at.Weekday().String()); word == name || word == name[:3] {
			return at, true
		}
	}
	return time.Time{}, false
}
