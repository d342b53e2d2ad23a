package kit

import "fmt"

// Listing says how rows of one kind are shown.
type Listing[T any] struct {
	Head  []string
	Least []string // as of a Table
	Whole []string // as of a Table
	Wraps []string // as of a Table
	Cells func(T) []string
	Name  func(T) string // what -q shows
	None  string         // what is said when there are no rows
}

// Show writes the rows as the flags ask: JSON, names, or a table.
func (l Listing[T]) Show(s *Session, rows []T, total int) error {
	switch {
	case s.Json:
		return s.WriteJSON(rows)
	case s.Quiet:
		for _, r := range rows {
			fmt.Fprintln(s.Env.Out, l.Name(r))
		}
	case len(rows) == 0:
		fmt.Fprintln(s.Env.Err, l.None)
	default:
		t := Table{Head: l.Head, Least: l.Least, Whole: l.Whole, Wraps: l.Wraps}
		for _, r := range rows {
			t.Add(l.Cells(r)...)
		}
		t.Write(s)
		s.Rest(len(rows), total)
	}
	return nil
}
