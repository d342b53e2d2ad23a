package cli

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"plumlatch/internal/core/text"
)

// table writes rows for people: columns as wide as their widest cell.
type table struct {
	head []string
	rows [][]string
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

func (t *table) write(s *session) {
	for _, row := range t.rows {
		for i, c := range row {
			row[i] = text.Plain(c) // a cell is one line, whoever wrote what is in it
		}
	}
	widths := make([]int, len(t.head))
	for _, row := range append([][]string{t.head}, t.rows...) {
		for i, c := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	for n, row := range append([][]string{t.head}, t.rows...) {
		var b strings.Builder
		for i, c := range row {
			b.WriteString(c)
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c)+2))
			}
		}
		line := strings.TrimRight(b.String(), " ")
		if n == 0 {
			line = s.faint(line)
		}
		fmt.Fprintln(s.env.Out, line)
	}
}

// facts writes names and values below each other.
func (s *session) facts(pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, utf8.RuneCountInString(pairs[i]))
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		pad := strings.Repeat(" ", width-utf8.RuneCountInString(pairs[i])+2)
		fmt.Fprintf(s.env.Out, "%s%s%s\n", s.faint(pairs[i]), pad, text.PlainLines(pairs[i+1]))
	}
}

func (s *session) colour(code, text string) string {
	if s.env.Getenv("NO_COLOR") != "" || !isTerminal(s.env.Out) {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (s *session) faint(text string) string { return s.colour("2", text) }
func (s *session) good(text string) string  { return s.colour("32", text) }
func (s *session) bad(text string) string   { return s.colour("31", text) }

func day(t time.Time) string { return t.Local().Format("2 Jan 2006") }

func moment(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// given returns what p points to, or the zero value.
func given[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func labelText(l map[string]string) string {
	names := make([]string, 0, len(l))
	for _, k := range sortedKeys(l) {
		names = append(names, k+"="+l[k])
	}
	return strings.Join(names, " ")
}
