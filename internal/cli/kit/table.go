package kit

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"

	"plumlatch/internal/core/text"
)

// Table writes rows for people: columns as wide as their widest cell. On a terminal that is too narrow, the least
// important columns are left out and long cells are cut.
type Table struct {
	Head []string
	Rows [][]string
	// Least names the columns that are left out on a narrow terminal, the least important first; the columns
	// of leastOfAll where it is nil. The first column stays.
	Least []string
	// Wraps names the columns whose cells continue in further lines where they are too long, rather than being cut.
	Wraps []string
	// Whole names the columns whose cells are never cut, such as commands that will be copied.
	Whole []string
}

// WithoutEmpty returns the table without the columns that have nothing in any row.
func (t *Table) WithoutEmpty() *Table {
	out := &Table{Least: t.Least, Wraps: t.Wraps, Whole: t.Whole, Rows: make([][]string, len(t.Rows))}
	for n, head := range t.Head {
		if !slices.ContainsFunc(t.Rows, func(row []string) bool { return row[n] != "" }) {
			continue
		}
		out.Head = append(out.Head, head)
		for i, row := range t.Rows {
			out.Rows[i] = append(out.Rows[i], row[n])
		}
	}
	return out
}

// leastOfAll are columns that matter less than others in most tables, the least important first.
var leastOfAll = []string{
	"ID", "BITS", "WAY", "IMAGE", "FROM", "REGION", "LABELS", "BY", "LAST USED", "MADE", "GRANTED", "BEGUN", "TYPE",
	"SWEPT", "LAST SEEN", "SHA-256", "HOLDER",
}

const (
	columnGap = 2
	// A cell is cut to no less than cutTo characters before a column is left out, and to cutAtLast after that.
	cutTo     = 24
	cutAtLast = 12
)

// Add adds a row.
func (t *Table) Add(cells ...string) { t.Rows = append(t.Rows, cells) }

// Write writes the table, in the columns that -columns names.
func (t *Table) Write(s *Session) {
	rows := append([][]string{slices.Clone(t.Head)}, t.Rows...)
	for _, row := range rows {
		for i, c := range row {
			row[i] = text.Plain(c) // a cell is one line, whoever wrote what is in it
		}
	}
	columns := make([]int, len(t.Head))
	for n := range columns {
		columns[n] = n
	}
	if s.Columns != "" {
		chosen, err := t.chosen(s.Columns)
		if err != nil {
			s.fault = err
			return
		}
		columns = chosen
	}
	widths := make([]int, len(t.Head))
	for _, row := range rows {
		for i, c := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	if w := s.width(); w > 0 {
		columns, widths = t.fit(columns, widths, w, s.Columns == "")
	}
	for n, row := range rows {
		for _, line := range t.linesOf(row, columns, widths) {
			if n == 0 {
				line = s.Faint(line)
			}
			fmt.Fprintln(s.Env.Out, line)
		}
	}
}

// linesOf lays a row out in its columns.
func (t *Table) linesOf(row []string, columns, widths []int) []string {
	cells, lines := make([][]string, len(columns)), 1
	for place, i := range columns {
		if i >= len(row) {
			continue
		}
		cells[place] = []string{cut(row[i], widths[i])}
		if slices.Contains(t.Wraps, t.Head[i]) {
			cells[place] = wrapped(row[i], widths[i])
		}
		lines = max(lines, len(cells[place]))
	}
	out := make([]string, lines)
	for n := range out {
		var b strings.Builder
		for place, i := range columns {
			cell := ""
			if n < len(cells[place]) {
				cell = cells[place][n]
			}
			b.WriteString(cell)
			b.WriteString(strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell)+columnGap))
		}
		out[n] = strings.TrimRight(b.String(), " ")
	}
	return out
}

// WriteCompared writes the table; where that is too wide for the terminal, turned: each row becomes a column whose
// cells continue in further lines, and as many fit side by side as there is room for.
func (t *Table) WriteCompared(s *Session) {
	width := s.width()
	label, total := 0, 0
	for n, h := range t.Head {
		label = max(label, utf8.RuneCountInString(h))
		widest := utf8.RuneCountInString(h)
		for _, row := range t.Rows {
			row[n] = text.Plain(row[n])
			widest = max(widest, utf8.RuneCountInString(row[n]))
		}
		total += widest + columnGap
	}
	if width == 0 || total-columnGap <= width || s.Columns != "" {
		t.Write(s)
		return
	}
	const least = 14
	side := max(1, (width-label)/(least+columnGap))
	for rows := range slices.Chunk(t.Rows, side) {
		turned := t.turned(rows)
		turned.lay(s, append([]int{label}, turned.shares(width-label-columnGap*len(rows))...))
	}
}

// turned returns the table of the rows whose columns are the rows, and whose rows the columns.
func (t *Table) turned(rows [][]string) *Table {
	out := &Table{}
	for n, h := range t.Head {
		row := []string{h}
		for _, r := range rows {
			row = append(row, r[n])
		}
		if n == 0 {
			out.Head, out.Wraps = row, row[1:]
			continue
		}
		out.Add(row...)
	}
	return out
}

// shares parts a width among the columns behind the first: equally, but so that no word, such as an address,
// is parted where there is room for all.
func (t *Table) shares(width int) []int {
	shares, words := make([]int, len(t.Head)-1), 0
	for n := range shares {
		for _, row := range append([][]string{t.Head}, t.Rows...) {
			for word := range strings.FieldsSeq(row[n+1]) {
				shares[n] = max(shares[n], utf8.RuneCountInString(word))
			}
		}
		words += shares[n]
	}
	each := width / len(shares)
	if words > width {
		for n := range shares {
			shares[n] = each
		}
		return shares
	}
	// What is left goes to the narrowest, so that they become equal as far as they can.
	for left := width - words; left > 0; left-- {
		narrowest := 0
		for n := range shares {
			if shares[n] < shares[narrowest] {
				narrowest = n
			}
		}
		shares[narrowest]++
	}
	return shares
}

// lay writes a table whose columns have the widths.
func (t *Table) lay(s *Session, widths []int) {
	columns := make([]int, len(t.Head))
	for n := range columns {
		columns[n] = n
	}
	for n, row := range append([][]string{t.Head}, t.Rows...) {
		for _, line := range t.linesOf(row, columns, widths) {
			if n == 0 {
				line = s.Faint(line)
			}
			fmt.Fprintln(s.Env.Out, line)
		}
	}
	fmt.Fprintln(s.Env.Out)
}

// wrapped parts a text into lines of at most so many characters: at its blanks, and within words that are longer.
func wrapped(words string, width int) []string {
	var lines []string
	line := ""
	for word := range strings.FieldsSeq(words) {
		if line != "" && utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) <= width {
			line += " " + word
			continue
		}
		if line != "" {
			lines = append(lines, line)
		}
		rest := []rune(word)
		for ; len(rest) > width; rest = rest[width:] {
			lines = append(lines, string(rest[:width]))
		}
		line = string(rest)
	}
	return append(lines, line)
}

// looks are what colour puts before and after a text.
var looks = regexp.MustCompile("\x1b\\[[0-9]+m")

// Below writes a text behind a beginning; on a terminal that is too narrow it continues below itself.
func (s *Session) Below(beginning, words string, look func(string) string) {
	indent := utf8.RuneCountInString(looks.ReplaceAllString(beginning, ""))
	lines := []string{text.Plain(words)}
	if width := s.width() - indent; s.width() > 0 && width >= cutAtLast {
		lines = wrapped(lines[0], width)
	}
	for n, line := range lines {
		if n > 0 {
			beginning = strings.Repeat(" ", indent)
		}
		fmt.Fprintf(s.Env.Out, "%s%s\n", beginning, look(line))
	}
}

// AsItIs is a look of Below that changes nothing.
func AsItIs(line string) string { return line }

// chosen returns the places of the columns that are named, with commas between.
func (t *Table) chosen(names string) ([]int, error) {
	plain := func(name string) string {
		return strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), " ", "-")
	}
	var places []int
	for name := range strings.SplitSeq(names, ",") {
		at := slices.IndexFunc(t.Head, func(h string) bool { return h != "" && plain(h) == plain(name) })
		if at < 0 {
			var there []string
			for _, h := range t.Head {
				if h != "" {
					there = append(there, plain(h))
				}
			}
			return nil, &UsageError{fmt.Sprintf("no column %q; there are: %s", name, strings.Join(there, ", "))}
		}
		places = append(places, at)
	}
	return places, nil
}

// fit returns the columns that stay, and their widths, so that a line is at most so wide. Where drop is false
// all columns stay.
func (t *Table) fit(columns, natural []int, width int, drop bool) ([]int, []int) {
	least := t.Least
	if least == nil {
		least = leastOfAll
	}
	if _, fits := t.squeeze(columns, natural, width, cutTo); drop && !fits {
		columns = slices.DeleteFunc(slices.Clone(columns), func(n int) bool {
			return n > 0 && !slices.ContainsFunc(t.Rows, func(row []string) bool { return row[n] != "" })
		})
	}
	for least := least; ; {
		if widths, fits := t.squeeze(columns, natural, width, cutTo); fits {
			return columns, widths
		}
		left := slices.Clone(columns)
		for drop && len(least) > 0 && len(left) == len(columns) {
			left = slices.DeleteFunc(left, func(n int) bool { return n > 0 && t.Head[n] == least[0] })
			least = least[1:]
		}
		if len(left) == len(columns) {
			widths, _ := t.squeeze(columns, natural, width, cutAtLast)
			return columns, widths
		}
		columns = left
	}
}

// squeeze narrows the widest columns, to no less than least, until a line is at most so wide; fits tells
// whether it is.
func (t *Table) squeeze(columns, natural []int, width, least int) (widths []int, fits bool) {
	widths = slices.Clone(natural)
	total := columnGap * (len(columns) - 1)
	for _, n := range columns {
		total += widths[n]
	}
	for total > width {
		widest := -1
		for place, n := range columns {
			if place == 0 || slices.Contains(t.Whole, t.Head[n]) || widths[n] <= max(least, len(t.Head[n])) {
				continue
			}
			if widest < 0 || widths[n] > widths[widest] {
				widest = n
			}
		}
		if widest < 0 {
			return widths, false
		}
		widths[widest]--
		total--
	}
	return widths, true
}

// cut returns at most so many characters of a cell, the last of which is … where some are left out.
func cut(cell string, width int) string {
	if utf8.RuneCountInString(cell) <= width {
		return cell
	}
	return strings.TrimRight(string([]rune(cell)[:max(width-1, 0)]), " ") + "…"
}

// width is that of the terminal that is written to; 0 where it is none or its width is not to matter.
func (s *Session) width() int {
	f, ok := s.Env.Out.(interface{ Fd() uintptr })
	if s.Wide || !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

// Narrower reports whether what is written to is a terminal of less than so many columns.
func (s *Session) Narrower(columns int) bool {
	w := s.width()
	return w > 0 && w < columns
}

// Live reports whether lines on stderr may be written over: on a terminal that can.
func (s *Session) Live() bool { return IsTerminal(s.Env.Err) && s.Env.Getenv("TERM") != "dumb" }

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
	if s.Env.Getenv("NO_COLOR") != "" || s.Env.Getenv("TERM") == "dumb" || !IsTerminal(s.Env.Out) {
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
