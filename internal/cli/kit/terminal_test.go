package kit

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"plumlatch/internal/cli/clitest"
)

// at returns a session whose input is in and that writes to out and errs.
func at(in *os.File, out, errs *bytes.Buffer) *Session {
	return &Session{Env: Env{In: in, Out: out, Err: errs, Getenv: func(string) string { return "" }}}
}

// typed returns the end of a terminal on which the text was typed.
func typed(t *testing.T, text string) *os.File {
	t.Helper()
	master, slave := clitest.Terminal(t)
	if _, err := master.WriteString(text); err != nil {
		t.Fatal(err)
	}
	return slave
}

func TestConfirmTakesTheWordAndNothingElse(t *testing.T) {
	for text, want := range map[string]bool{
		"yes\n": true, "y\n": false, "\n": false, "yes please\n": false, "no\n": false,
	} {
		var out, errs bytes.Buffer
		err := at(typed(t, text), &out, &errs).Confirm(false, "All of it goes.", "yes")
		if (err == nil) != want {
			t.Errorf("%q: got %v, want it to continue: %t", text, err, want)
		}
		if !strings.Contains(errs.String(), "All of it goes.") || out.Len() > 0 {
			t.Errorf("%q: asked %q, and wrote %q; want the question on stderr alone", text, &errs, &out)
		}
	}
	var out, errs bytes.Buffer
	if err := at(typed(t, ""), &out, &errs).Confirm(true, "All of it goes.", "yes"); err != nil || errs.Len() > 0 {
		t.Errorf("with -yes: got %v and %q, want no question", err, &errs)
	}
}

func TestConfirmAsksNobodyWhereThereIsNoTerminal(t *testing.T) {
	in, out, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); out.Close() })
	if _, err := out.WriteString("yes\n"); err != nil {
		t.Fatal(err)
	}
	var usage *UsageError
	if err := at(in, &bytes.Buffer{}, &bytes.Buffer{}).Confirm(false, "All of it goes.", "yes"); !errors.As(err, &usage) {
		t.Errorf("got %v, want wrong usage", err)
	}
}

func TestASecretIsReadFromAFileATerminalOrAPipe(t *testing.T) {
	file := t.TempDir() + "/secret"
	if err := os.WriteFile(file, []byte("from a file\r\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	pipe, end, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { pipe.Close(); end.Close() })
	if _, err := end.WriteString("from a pipe\nand more"); err != nil {
		t.Fatal(err)
	}
	for want, from := range map[string]struct {
		in   *os.File
		file string
	}{
		"from a file":     {nil, file},
		"from a pipe":     {pipe, ""},
		"from a terminal": {typed(t, "from a terminal\n"), ""},
	} {
		var errs bytes.Buffer
		got, err := at(from.in, &bytes.Buffer{}, &errs).Secret("Password: ", from.file)
		if err != nil || got != want {
			t.Errorf("got %q, %v; want %q", got, err, want)
		}
		if strings.Contains(errs.String(), want) {
			t.Errorf("it was shown: %q", &errs)
		}
	}
	rest := make([]byte, 20)
	if n, err := pipe.Read(rest); err != nil || string(rest[:n]) != "and more" {
		t.Errorf("got %q, %v of the rest of the pipe, want all of it", rest[:n], err)
	}
}

// lines writes the table to a terminal of so many columns and returns what it shows.
func lines(t *testing.T, columns uint16, write func(*Session)) []string {
	t.Helper()
	master, slave := clitest.Terminal(t)
	if err := unix.IoctlSetWinsize(int(slave.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 24, Col: columns}); err != nil {
		t.Fatal(err)
	}
	s := &Session{Env: Env{Out: slave, Err: slave, Getenv: func(name string) string {
		return map[string]string{"TERM": "dumb"}[name]
	}}}
	write(s)
	fmt.Fprintln(slave, "end")
	data := make([]byte, 0, 4096)
	for !strings.HasSuffix(string(data), "end\r\n") {
		part := make([]byte, 1024)
		n, err := master.Read(part)
		if err != nil {
			t.Fatal(err)
		}
		data = append(data, part[:n]...)
	}
	return strings.Split(strings.TrimSuffix(string(data), "end\r\n"), "\r\n")
}

func TestATableIsNoWiderThanTheTerminal(t *testing.T) {
	table := func() *Table {
		t := &Table{
			Head:  []string{"NAME", "KIND", "WHY", "NEXT"},
			Least: []string{"KIND", "WHY"},
			Whole: []string{"NEXT"},
		}
		t.Add("warden@hide-cam-1", "rsa 2048", "no key in place has a fresh proof of anybody", "plumlatch sweep hide-cam-1")
		t.Add("root@gateway-3", "ed25519 256", "nobody has read it", "plumlatch sweep gateway-3")
		return t
	}
	for columns, want := range map[uint16]string{
		200: "NAME KIND WHY NEXT", 110: "NAME KIND WHY NEXT", 80: "NAME WHY NEXT", 50: "NAME NEXT",
	} {
		got := lines(t, columns, func(s *Session) { table().Write(s) })
		if head := strings.Join(strings.Fields(got[0]), " "); head != want {
			t.Errorf("%d columns: got %q, want %q", columns, head, want)
		}
		for _, line := range got {
			if n := utf8.RuneCountInString(line); n > int(columns) {
				t.Errorf("%d columns: a line has %d: %s", columns, n, line)
			}
			if strings.ContainsRune(line, '\x1b') {
				t.Errorf("a dumb terminal gets an escape: %q", line)
			}
		}
		if !strings.Contains(got[1], "plumlatch sweep hide-cam-1") {
			t.Errorf("%d columns: the command is cut: %s", columns, got[1])
		}
	}
	for _, line := range lines(t, 80, func(s *Session) { s.Wide = true; table().Write(s) }) {
		if strings.Contains(line, "…") {
			t.Errorf("with -wide a cell is cut: %s", line)
		}
	}
	got := lines(t, 80, func(s *Session) { s.Columns = "next,Kind"; table().Write(s) })
	if head := strings.Join(strings.Fields(got[0]), " "); head != "NEXT KIND" {
		t.Errorf("-columns next,Kind: got %q", head)
	}
	s := at(nil, &bytes.Buffer{}, &bytes.Buffer{})
	s.Columns = "colour"
	table().Write(s)
	var usage *UsageError
	if !errors.As(s.Fault(), &usage) {
		t.Errorf("an unknown column: got %v, want wrong usage", s.Fault())
	}
}

func TestAComparisonStaysOneOnANarrowTerminal(t *testing.T) {
	table := &Table{Head: []string{"ROUTE", "STOPS IT", "OPENS MEANWHILE"}}
	for _, name := range []string{"guest-agent", "browser-shell", "helper-disk", "replacement", "password"} {
		table.Add(name, "nothing stops", "the SSH port to the cloud's own 127.255.16.0/28, 10 min at most")
	}
	got := lines(t, 80, func(s *Session) { table.WriteCompared(s) })
	if !strings.Contains(got[0], "guest-agent") || !strings.Contains(got[0], "helper-disk") {
		t.Errorf("got %q first, want several routes side by side", got[0])
	}
	text := strings.Join(got, "\n")
	for _, want := range []string{"replacement", "password", "SSH port"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not there:\n%s", want, text)
		}
	}
	for _, line := range got {
		if n := utf8.RuneCountInString(line); n > 80 {
			t.Errorf("a line has %d characters: %s", n, line)
		}
	}
}

func TestTablesAlignByWhatIsSeen(t *testing.T) {
	var out bytes.Buffer
	table := Table{Head: []string{"Name", "What"}}
	table.Add("möwe", "a")
	table.Add("x\x1b[31m\nred", "b")
	table.Write(at(nil, &out, &bytes.Buffer{}))
	lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
	if len(lines) != 3 {
		t.Fatalf("got %d lines, want 3:\n%s", len(lines), &out)
	}
	column := func(line, text string) int { return len([]rune(line[:strings.LastIndex(line, text)])) }
	if a, b, c := column(lines[0], "What"), column(lines[1], "a"), column(lines[2], "b"); a != b || b != c {
		t.Errorf("got the second column at %d, %d and %d, want it at one:\n%s", a, b, c, &out)
	}
	if strings.ContainsAny(out.String(), "\x1b\r") {
		t.Errorf("got %q, want no control characters", &out)
	}
}
