package name

import (
	"slices"
	"strings"
)

// Nearest returns those among the names that may be meant by a mistyped one, the likeliest first, three at most:
// those that differ by few letters, and those that begin with it. The number of letters is the distance of
// Damerau and Levenshtein in its restricted form, where two neighbours that changed places count once.
func Nearest(typed string, among []string) []string {
	typed = strings.ToLower(typed)
	type near struct {
		name string
		far  int
	}
	var found []near
	for _, n := range among {
		far := distance(typed, strings.ToLower(n))
		switch {
		case far <= max(1, min(len(typed), len(n))/3):
		case len(typed) >= 3 && strings.HasPrefix(strings.ToLower(n), typed):
			far = len(typed)
		default:
			continue
		}
		found = append(found, near{n, far})
	}
	slices.SortStableFunc(found, func(a, b near) int { return a.far - b.far })
	var out []string
	for _, f := range found[:min(3, len(found))] {
		out = append(out, f.name)
	}
	return out
}

// longest is how many bytes of a name are compared.
const longest = 100

func distance(a, b string) int {
	a, b = a[:min(len(a), longest)], b[:min(len(b), longest)]
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := range len(a) {
		row[0] = i + 1
		for j := range len(b) {
			change := last[j]
			if a[i] != b[j] {
				change++
			}
			row[j+1] = min(change, last[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(b)]
}
