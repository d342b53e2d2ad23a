package reach

import (
	"cmp"
	"encoding/binary"
	"slices"
)

// Mark is a key, by its number, and the status of it and a login.
type Mark struct {
	Key    int
	Status Status
}

// Row is logins that have the same keys with the same statuses. Logins are their numbers, Marks its columns, by place.
type Row struct {
	Logins []int
	Marks  []Mark
}

// Column is keys that are, with the same statuses, in the same logins.
type Column struct {
	Keys []int
	// Logins is how many logins they are in, or should be.
	Logins int
}

// Groups are logins against keys, with what is alike taken together.
type Groups struct {
	Rows    []Row
	Columns []Column
}

// Group takes logins with the same keys together, and keys with the same logins, and orders both so that blocks form:
// the column with the most logins first, and the rows by their columns. marks has, for each login, its keys, each
// once.
func Group(marks [][]Mark) Groups {
	rows := alike(len(marks), func(login int) []Mark { return marks[login] })
	keys := 0
	for _, r := range rows {
		for _, m := range marks[r[0]] {
			keys = max(keys, m.Key+1)
		}
	}
	// The marks of a key are the rows that it is in.
	byKey := make([][]Mark, keys)
	for n, r := range rows {
		for _, m := range marks[r[0]] {
			byKey[m.Key] = append(byKey[m.Key], Mark{n, m.Status})
		}
	}
	columns := alike(keys, func(key int) []Mark { return byKey[key] })
	columns = slices.DeleteFunc(columns, func(c []int) bool { return len(byKey[c[0]]) == 0 })
	out := Groups{Columns: make([]Column, len(columns)), Rows: make([]Row, len(rows))}
	for n, c := range columns {
		out.Columns[n].Keys = c
		for _, m := range byKey[c[0]] {
			out.Columns[n].Logins += len(rows[m.Key])
		}
	}
	slices.SortStableFunc(out.Columns, func(a, b Column) int { return cmp.Compare(b.Logins, a.Logins) })
	for n := range rows {
		out.Rows[n].Logins = rows[n]
	}
	for place, c := range out.Columns {
		for _, m := range byKey[c.Keys[0]] {
			out.Rows[m.Key].Marks = append(out.Rows[m.Key].Marks, Mark{place, m.Status})
		}
	}
	slices.SortStableFunc(out.Rows, func(a, b Row) int {
		if len(a.Marks) == 0 || len(b.Marks) == 0 {
			return cmp.Compare(len(b.Marks), len(a.Marks)) // what no key opens comes last
		}
		return slices.CompareFunc(a.Marks, b.Marks, func(x, y Mark) int { return cmp.Compare(x.Key, y.Key) })
	})
	return out
}

// alike takes things together whose marks are the same, in the order of the first of each.
func alike(count int, marksOf func(int) []Mark) (groups [][]int) {
	places := map[string]int{}
	var text []byte
	for n := range count {
		marks := slices.Clone(marksOf(n))
		slices.SortFunc(marks, func(a, b Mark) int { return cmp.Compare(a.Key, b.Key) })
		text = text[:0]
		for _, m := range marks {
			text = binary.AppendUvarint(text, uint64(m.Key))
			text = append(append(text, m.Status...), 0)
		}
		place, known := places[string(text)]
		if !known {
			place = len(groups)
			places[string(text)] = place
			groups = append(groups, nil)
		}
		groups[place] = append(groups[place], n)
	}
	return groups
}
