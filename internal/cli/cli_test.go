package cli

import (
	"bytes"
	"encoding/json"
	"flag"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/core/keypair"
)

func TestFlagsGoBeforeBetweenAndAfterArguments(t *testing.T) {
	for _, args := range [][]string{
		{"-n", "3", "a", "b", "-v"}, {"a", "-n", "3", "-v", "b"}, {"a", "b", "-v", "-n=3"},
	} {
		fs := flag.NewFlagSet("t", flag.ContinueOnError)
		n, v := fs.Int("n", 0, ""), fs.Bool("v", false, "")
		got, err := parse(fs, args)
		if err != nil || *n != 3 || !*v || !slices.Equal(got, []string{"a", "b"}) {
			t.Errorf("%v: %v %d %v %v", args, got, *n, *v, err)
		}
	}
	fs := flag.NewFlagSet("t", flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	if got, err := parse(fs, []string{"a", "--", "-b", "c"}); err != nil || !slices.Equal(got, []string{"a", "-b", "c"}) {
		t.Errorf("after --: %v %v", got, err)
	}
	if _, err := parse(fs, []string{"a", "-unknown"}); err == nil {
		t.Error("an unknown flag was taken")
	}
}

func TestEveryCommandHasHelpWithAnExample(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range commands() {
		if seen[c.name] {
			t.Errorf("%s is there twice", c.name)
		}
		seen[c.name] = true
		if c.summary == "" || len(c.examples) == 0 {
			t.Errorf("%s has no summary or no example", c.name)
		}
		for _, e := range c.examples {
			if !strings.Contains(e, "plumlatch "+c.name) {
				t.Errorf("the example %q is not of %s", e, c.name)
			}
		}
		var out bytes.Buffer
		if status := Run(
			t.Context(),
			append([]string{"help"}, strings.Fields(c.name)...),
			Env{Out: &out, Err: &out, Getenv: os.Getenv},
		); status != 0 ||
			!strings.Contains(out.String(), c.summary) {
			t.Errorf("help %s: %d %s", c.name, status, &out)
		}
	}
}

func TestWrongUsageEndsWithStatusTwoAndSaysWhatToDo(t *testing.T) {
	for _, c := range []struct{ line, says string }{
		{"frob", `no command "frob"`}, {"key", "new, import, list"}, {"key new", "an argument is missing"},
		{"key show a b", `"b" is one argument too many`},
		{"key list -limit x", "plumlatch help key list"},
		{"help frob", "plumlatch help"},
		{"key import a -label x -from y", "name=value"},
	} {
		var out bytes.Buffer
		status := Run(
			t.Context(),
			strings.Fields(c.line),
			Env{Out: &out, Err: &out, Getenv: func(string) string { return "" }},
		)
		if status != exitUsage || !strings.Contains(out.String(), c.says) {
			t.Errorf("%s: %d %s", c.line, status, &out)
		}
	}
}

// TestShellWordsComeBackUnchanged asks a real shell.
func TestShellWordsComeBackUnchanged(t *testing.T) {
	for _, word := range []string{
		"plain",
		"/a/b.c_d-e",
		"two words",
		"it's",
		`"quoted"`,
		"$HOME",
		"a;b",
		"*",
		"",
		"ünï",
		"line\nbreak",
	} {
		out, err := exec.Command("sh", "-c", "printf %s "+shellWord(word)).Output()
		if err != nil || string(out) != word {
			t.Errorf("%q comes back as %q, %v", word, out, err)
		}
	}
}

func TestPathsAreShownFromHomeOnlyWhereAShellWouldReadThemSo(t *testing.T) {
	s := &session{env: Env{Getenv: func(name string) string { return map[string]string{"HOME": "/home/ines"}[name] }}}
	for path, want := range map[string]string{
		"/home/ines/.ssh/atlas": "~/.ssh/atlas",
		"/home/ines/my key":     "'/home/ines/my key'",
		"/home/inesita/k":       "/home/inesita/k",
		"k":                     "k",
	} {
		if got := s.shown(path); got != want {
			t.Errorf("%s is shown as %s, want %s", path, got, want)
		}
	}
}

func TestListedKeysGetDistinctGoodNames(t *testing.T) {
	made := byte(0)
	key := func(comment string) keypair.Listed {
		made++
		return keypair.Listed{
			PublicFile: keypair.PublicFile{
				Public: keypair.Public{Algorithm: "ssh-ed25519", Blob: []byte{made}, Comment: comment},
			},
		}
	}
	keys, refused := nameListed(
		"office",
		[]keypair.Listed{
			key("Sunniva @ Desk"),
			key(""),
			{Refused: &keypair.Refusal{}},
			key("sunniva @ desk"),
			key(strings.Repeat("x", 80)),
		},
		true,
	)
	var names []string
	for _, k := range keys {
		names = append(names, k.Name)
		if strings.Contains(strings.ToLower(k.PublicKey), "sunniva") {
			t.Errorf("the comment was not dropped from %s", k.PublicKey)
		}
	}
	if want := []string{"office-sunniva-desk", "office-2", "office-3", "office-4"}; !slices.Equal(names, want) ||
		len(refused) != 1 {
		t.Errorf("%v, %d refused; want %v", names, len(refused), want)
	}
}

func TestALongListIsReadInPartsWithItsLineNumbers(t *testing.T) {
	file := filepath.Join(t.TempDir(), "list")
	var b strings.Builder
	const lines = 30_000 // over the limit of one list, several times
	for n := range lines {
		b.WriteString("ssh-frob AAAA" + strings.Repeat("x", 80) + "\n")
		if n == lines-2 {
			b.WriteString("# the line before the last\n")
		}
	}
	if err := os.WriteFile(file, []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	listed, err := readListFile(file)
	if err != nil || len(listed) != lines || listed[0].Line != 1 || listed[lines-2].Line != lines-1 ||
		listed[lines-1].Line != lines+1 {
		t.Fatalf("%d lines, %v", len(listed), err)
	}
	if err := os.WriteFile(file, []byte(strings.Repeat("A", 2<<20)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := readListFile(file); err == nil {
		t.Error("a line of 2 MiB was read")
	}
}

func TestReserveHoldsAPlaceAndKeepsWhatSomebodyPutThereMeanwhile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "key")
	place, err := reserve(path)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Dir(path)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("the folder: %v %v", info, err)
	}
	if err := os.WriteFile(path, []byte("meanwhile"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := place.keep([]byte("private"), keypair.Public{Algorithm: "ssh-ed25519"}); err == nil {
		t.Error("a file that came meanwhile was written over")
	}
	if data, err := os.ReadFile(path); err != nil || string(data) != "meanwhile" {
		t.Errorf("%q %v", data, err)
	}
	if left, err := filepath.Glob(filepath.Join(filepath.Dir(path), ".plumlatch-*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v %v", left, err)
	}
}

// TestEveryCommandThatAMessageNamesIsThere reads the sources of the service, the client
// and the console for commands that somebody is told to type.
func TestEveryCommandThatAMessageNamesIsThere(t *testing.T) {
	actions, named := map[string]map[string]bool{}, 0
	for _, c := range commands() {
		thing, action, _ := strings.Cut(c.name, " ")
		if actions[thing] == nil {
			actions[thing] = map[string]bool{}
		}
		actions[thing][action] = true
	}
	told := regexp.MustCompile("plumlatch ([a-z][a-z-]*)(?: ([a-z][a-z-]*))?")
	broken := regexp.MustCompile(`["` + "`" + `] ?\+\s*["` + "`" + `]`) // over two lines
	look := func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".gen.go") || strings.HasSuffix(path, "_test.go") ||
			!strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, ".tsx") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range told.FindAllStringSubmatch(broken.ReplaceAllString(string(text), ""), -1) {
			of, there := actions[m[1]]
			if !there || of[""] { // no command, or one without an action, whose argument follows
				continue
			}
			if named++; !of[m[2]] {
				t.Errorf("%s tells to type %q, which is no command", path, m[0])
			}
		}
		return err
	}
	for _, folder := range []string{"../../internal", "../../console/src", "../../cmd"} {
		if err := filepath.WalkDir(folder, look); err != nil {
			t.Fatal(err)
		}
	}
	if named < 100 {
		t.Errorf("only %d commands were found", named)
	}
}

func TestErrorsAreJSONForPrograms(t *testing.T) {
	for args, code := range map[string]string{
		"key show -json":                          "usage",
		"rotate show nonsense -json":              "usage",
		"key inspect /nowhere -json":              "failed",
		"whoami -json -server http://127.0.0.1:1": "unreachable",
	} {
		var out, errs bytes.Buffer
		status := Run(t.Context(), strings.Fields(args), Env{Out: &out, Err: &errs, Getenv: func(name string) string {
			if name == "PLUMLATCH_TOKEN" {
				return "x"
			}
			return ""
		}})
		var problem struct{ Code, Detail string }
		if err := json.Unmarshal(errs.Bytes(), &problem); err != nil || status == 0 || problem.Code != code ||
			problem.Detail == "" {
			t.Errorf("%s: %d %v\n%s%s", args, status, err, &out, &errs)
		}
	}
}

// TestAServerThatSaysNothingIsNotWaitedForWithoutEnd has one that takes connections alone, and one
// that takes its time within a stream.
func TestAServerThatSaysNothingIsNotWaitedForWithoutEnd(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	client := newHTTPClient(time.Second, 100*time.Millisecond)
	begun := time.Now()
	if r, err := client.Get("http://" + silent.Addr().String()); err == nil || time.Since(begun) > 20*time.Second {
		t.Errorf("%v %v after %s, want an error", r, err, time.Since(begun))
	}
	stream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(http.StatusOK)
		w.(http.Flusher).Flush()
		time.Sleep(300 * time.Millisecond)
		io.WriteString(w, "event")
	}))
	defer stream.Close()
	r, err := client.Get(stream.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer r.Body.Close()
	if text, err := io.ReadAll(r.Body); err != nil || string(text) != "event" {
		t.Errorf("a stream: %q %v", text, err)
	}
}
