// Package past says who could get in at a time that is over: from readings of files, each with the times between
// which it was seen, and from grants. What nobody looked at is not known, and is said so.
package past

import (
	"slices"
	"time"
)

// Version is a content of one file of a login, as it was read from SeenAt to SeenUntil. Keys are the keys in it, by
// any name that the caller has for them.
type Version[K comparable] struct {
	Path      string
	SeenAt    time.Time
	SeenUntil time.Time
	Keys      []K
	Method    string
}

// Interval is a stretch of time in which a key was in a login's files. It was seen there at From and at To and was
// there at each reading between. It may have come at any time after NotBefore, when it was seen not to be there,
// and have gone at any time before GoneBy; they are zero where no reading says so.
type Interval[K comparable] struct {
	Key             K
	NotBefore, From time.Time
	To, GoneBy      time.Time
	Method          string
	StillThere      bool // at the last reading
}

// Intervals returns when each key was in the files of a login, ordered by From.
func Intervals[K comparable](versions []Version[K]) []Interval[K] {
	byPath := map[string][]Version[K]{}
	var paths []string
	for _, v := range versions {
		if byPath[v.Path] == nil {
			paths = append(paths, v.Path)
		}
		byPath[v.Path] = append(byPath[v.Path], v)
	}
	slices.Sort(paths)
	var out []Interval[K]
	for _, path := range paths {
		all := byPath[path]
		slices.SortFunc(all, func(a, b Version[K]) int { return a.SeenAt.Compare(b.SeenAt) })
		out = append(out, ofFile(all)...)
	}
	slices.SortStableFunc(out, func(a, b Interval[K]) int { return a.From.Compare(b.From) })
	return out
}

func ofFile[K comparable](versions []Version[K]) (out []Interval[K]) {
	open := map[K]int{} // of out
	for n, v := range versions {
		here := map[K]bool{}
		for _, k := range v.Keys {
			if here[k] {
				continue
			}
			here[k] = true
			if at, going := open[k]; going {
				out[at].To = v.SeenUntil
				continue
			}
			i := Interval[K]{Key: k, From: v.SeenAt, To: v.SeenUntil, Method: v.Method}
			if n > 0 {
				i.NotBefore = versions[n-1].SeenUntil
			}
			open[k] = len(out)
			out = append(out, i)
		}
		for k, at := range open {
			if !here[k] {
				out[at].GoneBy = v.SeenAt
				delete(open, k)
			}
		}
	}
	for _, at := range open {
		out[at].StillThere = true
	}
	return out
}

// Known is how well it is known that a key was in a login at a time.
type Known string

// The degrees. Seen is between two readings that both saw it, Between before it was first seen or after it was
// last seen while a reading that did not see it is on the other side, Since after the last reading of all, which saw
// it.
const (
	Seen    Known = "seen"
	Between Known = "not known between readings"
	Since   Known = "seen before, not read since"
	Not     Known = "not there"
)

// At returns how well it is known that the key of the interval was there at a time.
func (i Interval[K]) At(t time.Time) Known {
	switch {
	case t.Before(i.From) && (i.NotBefore.IsZero() || !t.After(i.NotBefore)):
		return Not
	case t.Before(i.From):
		return Between
	case !t.After(i.To):
		return Seen
	case i.StillThere:
		return Since
	case !i.GoneBy.IsZero() && t.Before(i.GoneBy):
		return Between
	}
	return Not
}

// Within reports whether the key was, or may have been, there at some time from one to the other.
func (i Interval[K]) Within(from, until time.Time) bool {
	begins, ends := i.From, i.To
	if !i.NotBefore.IsZero() {
		begins = i.NotBefore
	}
	switch {
	case i.StillThere:
		return !begins.After(until)
	case !i.GoneBy.IsZero():
		ends = i.GoneBy
	}
	return !begins.After(until) && !ends.Before(from)
}

// FirstRead returns when a login was first read; zero for never. Before that nothing is known.
func FirstRead[K comparable](versions []Version[K]) (first time.Time) {
	for _, v := range versions {
		if first.IsZero() || v.SeenAt.Before(first) {
			first = v.SeenAt
		}
	}
	return first
}

// Handover is when a key went from one holder to another.
type Handover struct {
	At       time.Time
	From, To string
}

// HolderAt returns who held a key at a time, "" for nobody: now is who does now, the hand-overs are those that were
// completed, in any order.
func HolderAt(now string, handovers []Handover, t time.Time) string {
	after := slices.Clone(handovers)
	slices.SortFunc(after, func(a, b Handover) int { return b.At.Compare(a.At) })
	holder := now
	for _, h := range after {
		if !t.Before(h.At) {
			break
		}
		holder = h.From
	}
	return holder
}
