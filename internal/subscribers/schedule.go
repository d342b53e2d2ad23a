package subscribers

import "time"

// MostAttempts is how often a delivery is tried.
const MostAttempts = 8

const firstRetry = 5 * time.Second

// NextTry returns how long after a failed attempt the next one is made: 5 s after the first, and
// three times as long after each further one. dead is whether that was the last of eight, after
// about an hour and a half.
func NextTry(attempts int) (after time.Duration, dead bool) {
	if attempts >= MostAttempts {
		return 0, true
	}
	after = firstRetry
	for range attempts - 1 {
		after *= 3
	}
	return after, false
}
