package rotation

import (
	"fmt"
	"time"
)

// Hours are a part of the day, which may go over midnight.
type Hours struct {
	// From and To are minutes since midnight; To is not among them.
	From, To int
}

// ReadHours reads hours written as 22:00-04:00.
func ReadHours(text string) (Hours, error) {
	var h1, m1, h2, m2 int
	if n, err := fmt.Sscanf(text+"\n", "%2d:%2d-%2d:%2d\n", &h1, &m1, &h2, &m2); n != 4 || err != nil || len(text) > 11 ||
		h1 < 0 || m1 < 0 || h2 < 0 || m2 < 0 || h1 > 23 || h2 > 24 || m1 > 59 || m2 > 59 || h2 == 24 && m2 > 0 ||
		h1 == h2 && m1 == m2 {
		return Hours{}, fmt.Errorf("%q are no hours", text)
	}
	return Hours{h1*60 + m1, h2*60 + m2}, nil
}

// Has reports whether a time, in the zone that it is given in, is within the hours.
func (h Hours) Has(at time.Time) bool {
	m := at.Hour()*60 + at.Minute()
	if h.From < h.To {
		return m >= h.From && m < h.To
	}
	return m >= h.From || m < h.To
}
