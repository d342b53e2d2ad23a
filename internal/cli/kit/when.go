package kit

import (
	"time"

	"plumlatch/internal/core/moment"
)

// When is a flag that is a time, as people write it. It means an end that is ahead.
type When struct{ At *time.Time }

func (w *When) String() string { return "" }

// Set reads the time. Units of days and times of day are those of this machine's time zone.
func (w *When) Set(text string) error {
	at, err := moment.Read(text, time.Now(), moment.Until)
	if err == nil {
		w.At = &at
	}
	return err
}

// Days returns in how many days it is, rounded up, or otherwise where none was given.
func (w *When) Days(otherwise int) int {
	if w.At == nil {
		return otherwise
	}
	return int((time.Until(*w.At) + 24*time.Hour - time.Second) / (24 * time.Hour))
}

// Ago is a flag that is a time, as people write it. It means a beginning that has been.
type Ago struct{ At *time.Time }

func (a *Ago) String() string { return "" }

// Set reads the time.
func (a *Ago) Set(text string) error {
	at, err := moment.Read(text, time.Now(), moment.Since)
	if err == nil {
		a.At = &at
	}
	return err
}

// Span is a flag that is a span of time, such as 48h or 2d.
type Span struct{ time.Duration }

func (s *Span) String() string { return "" }

// Set reads the span.
func (s *Span) Set(text string) error {
	d, err := moment.Span(text)
	if err == nil {
		s.Duration = d
	}
	return err
}

// Days is a flag that is a number of days, or a span of time.
type Days int

func (d *Days) String() string { return "" }

// Set reads the days.
func (d *Days) Set(text string) error {
	n, err := moment.Days(text)
	if err == nil {
		*d = Days(n)
	}
	return err
}
