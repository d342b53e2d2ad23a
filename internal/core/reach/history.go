package reach

import "time"

// Turn is how many logins came to have a reach by a point in time, or, where Count is less than nothing, no longer
// have it.
type Turn struct {
	State State
	// Point is the number of the first point in time that it counts for.
	Point int
	Count int
}

// Moment is how many logins had which reach at a point in time.
type Moment struct {
	At     time.Time
	Counts map[State]int
}

// History returns the counts at n+1 points in time, the last of which is until and each of which is a step before the
// next, out of what came and went. Turns of points beyond the last count for nothing.
func History(until time.Time, step time.Duration, n int, turns []Turn) []Moment {
	came := make([]map[State]int, n+1)
	for _, t := range turns {
		point := max(t.Point, 0)
		if point > n {
			continue
		}
		if came[point] == nil {
			came[point] = map[State]int{}
		}
		came[point][t.State] += t.Count
	}
	out := make([]Moment, n+1)
	now := map[State]int{}
	for p := range out {
		for state, count := range came[p] {
			now[state] += count
		}
		counts := make(map[State]int, len(States))
		for _, state := range States {
			counts[state] = now[state]
		}
		out[p] = Moment{At: until.Add(-time.Duration(n-p) * step), Counts: counts}
	}
	return out
}
