package cli

import "fmt"

// listing says how rows of one kind are shown.
type listing[T any] struct {
	head  []string
	cells func(T) []string
	name  func(T) string // what -q shows
	none  string         // what is said when there are no rows
}

// show writes the rows as the flags ask: JSON, names, or a table.
func (l listing[T]) show(s *session, rows []T, total int) error {
	switch {
	case s.json:
		return s.writeJSON(rows)
	case s.quiet:
		for _, r := range rows {
			fmt.Fprintln(s.env.Out, l.name(r))
		}
	case len(rows) == 0:
		fmt.Fprintln(s.env.Err, l.none)
	default:
		t := table{head: l.head}
		for _, r := range rows {
			t.add(l.cells(r)...)
		}
		t.write(s)
		s.rest(len(rows), total)
	}
	return nil
}
