package kit

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"plumlatch/internal/core/text"
)

// Table writes rows for people: columns as wide as their widest cell.
type Table struct {
	Head []string
	Rows [][]string
}

func (t *Table) Add(cells ...string) { t.Rows = append(t.Rows, cells) }

func (t *Table) Write(s *Session) {
	for _, row := range t.Rows {
		for i, c := range row {
			row[i] = text.Plain(c) // a cell is one line, whoever wrote what is in it
		}
	}
	widths := make([]int, len(t.Head))
	for _, row := range append([][]string{t.Head}, t.Rows...) {
		for i, c := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	for n, row := range append([][]string{t.Head}, t.Rows...) {
		var b strings.Builder
		for i, c := range row {
			b.WriteString(c)
			if i < len(row)-1 {
				b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(c)+2))
			}
		}
		line := strings.TrimRight(b.String(), " ")
		if n == 0 {
			line = s.Faint(line)
		}
		fmt.Fprintln(s.Env.Out, line)
	}
}

// Facts writes names and values below each other.
func (s *Session) Facts(pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, utf8.RuneCountInString(pairs[i]))
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		pad := strings.Repeat(" ", width-utf8.RuneCountInString(pairs[i])+2)
		fmt.Fprintf(s.Env.Out, "%s%s%s\n", s.Faint(pairs[i]), pad, text.PlainLines(pairs[i+1]))
	}
}

func (s *Session) colour(code, text string) string {
	if s.Env.Getenv("NO_COLOR") != "" || !IsTerminal(s.Env.Out) {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (s *Session) Faint(text string) string { return s.colour("2", text) }
func (s *Session) Good(text string) string  { return s.colour("32", text) }
func (s *Session) Bad(text string) string   { return s.colour("31", text) }

func Day(t time.Time) string { return t.Local().Format("2 Jan 2006") }

func Moment(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

// Given returns what p points to, or the zero value.
func Given[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}

func Optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func LabelText(l map[string]string) string {
	names := make([]string, 0, len(l))
	for _, k := range sortedKeys(l) {
		names = append(names, k+"="+l[k])
	}
	return strings.Join(names, " ")
}
