package restore

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// criterion is one thing by which routes are compared: less is better. than says in
// words why one with the value comes before one with a greater.
type criterion struct {
	of   func(Option) int
	than func(better, worse Option) string
}

func flag(b bool) int {
	if b {
		return 1
	}
	return 0
}

// criteria are what routes are ranked by, the weightiest first: whether they can be
// done and are within the limits, what they harm, what they open, and how long they take.
var criteria = []criterion{
	{
		func(o Option) int { return flag(!o.Possible()) },
		func(_, w Option) string { return "is not possible: " + w.Missing[0].What },
	},
	{
		func(o Option) int { return len(o.Outside) },
		func(_, w Option) string { return "is outside your limits: " + strings.Join(w.Outside, "; ") },
	},
	{func(o Option) int { return flag(len(o.Loses) > 0) }, func(_, w Option) string { return "loses " + w.Loses[0] }},
	{
		func(o Option) int { return flag(o.NewIdentity) },
		func(_, w Option) string { return "puts another machine in its place" },
	},
	{func(o Option) int { return flag(o.Stops) }, func(_, w Option) string {
		return "stops it for about " + Words(w.Downtime)
	}},
	{func(o Option) int { return flag(o.NewAddress) }, func(_, w Option) string { return "changes its address" }},
	{
		func(o Option) int { return flag(len(o.Agree) > 0) },
		func(_, w Option) string { return "needs somebody: " + w.Agree[0] },
	},
	{
		func(o Option) int { return flag(len(o.Opens) > 0) },
		func(_, w Option) string { return "opens " + w.Opens[0].What + " for a while" },
	},
	{
		func(o Option) int { return flag(len(o.Stays) > 0) },
		func(_, w Option) string { return "leaves something in place: " + w.Stays[0] },
	},
	{func(o Option) int { return int(o.Expected / time.Second) }, func(b, w Option) string {
		return fmt.Sprintf("takes longer: about %s against %s", Words(w.Expected), Words(b.Expected))
	}},
}

// Words writes a duration for people.
func Words(d time.Duration) string {
	switch {
	case d < time.Second:
		return "nothing"
	case d < 100*time.Second:
		return fmt.Sprintf("%d s", int(d.Round(time.Second)/time.Second))
	case d < 100*time.Minute:
		return fmt.Sprintf("%d min", int(d.Round(time.Minute)/time.Minute))
	}
	return fmt.Sprintf("%.1f h", d.Hours())
}

// Rank judges all ways for a login and orders them, the best first. Each says why it
// has its rank: the first by what it does not do, every other by the first thing in
// which it is worse than the one before it.
func (w Ways) Rank(f Facts, l Limits) []Option {
	var out []Option
	for _, way := range w {
		if way.WindowsOnly && !f.Windows {
			continue
		}
		o := f.judge(way)
		o.Outside = l.brokenBy(o)
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b Option) int {
		for _, c := range criteria {
			if d := c.of(a) - c.of(b); d != 0 {
				return d
			}
		}
		return 0
	})
	for n := range out {
		if n == 0 {
			out[n].Why = firstWhy(out[n])
			continue
		}
		out[n].Why = worse(out[n-1], out[n])
	}
	return out
}

func worse(before, o Option) string {
	for _, c := range criteria {
		if c.of(o) > c.of(before) {
			return c.than(before, o)
		}
	}
	return "costs the same as the one before it"
}

// firstWhy says what the best route spares.
func firstWhy(o Option) string {
	if !o.Possible() {
		return "no route is possible as things are: " + o.Missing[0].What
	}
	if len(o.Outside) > 0 {
		return "no route keeps to your limits; this one comes nearest: " + strings.Join(o.Outside, "; ")
	}
	var spares []string
	if !o.Stops && !o.NewIdentity {
		spares = append(spares, "nothing stops")
	}
	if len(o.Loses) == 0 {
		spares = append(spares, "nothing is lost")
	}
	if !o.NewAddress {
		spares = append(spares, "the address stays")
	}
	if len(o.Opens) == 0 {
		spares = append(spares, "nothing is opened")
	}
	if len(spares) == 0 {
		return "it is the only one that is possible"
	}
	return strings.Join(spares, ", ") + "; about " + Words(o.Expected)
}

func (l Limits) brokenBy(o Option) (out []string) {
	if !o.Possible() {
		return nil
	}
	if l.NoStop && (o.Stops || o.NewIdentity) {
		out = append(out, "it stops the instance")
	}
	if l.KeepAddress && o.NewAddress {
		out = append(out, "it changes the address")
	}
	if l.MaxDowntime > 0 && o.Downtime > l.MaxDowntime {
		out = append(out, fmt.Sprintf("it is down for about %s, and %s is the most", Words(o.Downtime), Words(l.MaxDowntime)))
	}
	return out
}

// Worry says what is bad about the best route of a login, so that it can be mended
// before it is needed; "" where nothing is.
func Worry(ranked []Option) string {
	best := ranked[0]
	switch {
	case !best.Possible():
		return "there is no way back in: " + best.Missing[0].What
	case len(best.Loses) > 0:
		return strings.ToLower(best.Title) + " is the best way back in, and loses " + best.Loses[0]
	case best.NewIdentity:
		return strings.ToLower(best.Title) + " is the best way back in, and puts another machine in its place"
	case best.Stops:
		return strings.ToLower(
			best.Title,
		) + " is the best way back in, and stops it for about " + Words(
			best.Downtime,
		)
	}
	return ""
}
