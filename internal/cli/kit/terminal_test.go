package kit

import (
	"bytes"
	"errors"
	"os"
	"strings"
	"testing"

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
			t.Errorf("%q: got %v, want it to go on: %t", text, err, want)
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
