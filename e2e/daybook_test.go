package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/pgboot/pgtest"
)

// sql does something to the database that only its owner can.
// told returns the newest entry of the daybook of each name, and fails the test where there is none.
func (h *house) told(names ...string) (found []apiclient.Entry) {
	h.t.Helper()
	var all []apiclient.Entry
	if err := json.Unmarshal([]byte(h.must("daybook", "list", "-all", "-json")), &all); err != nil {
		h.t.Fatal(err)
	}
	for _, name := range names {
		n := slices.IndexFunc(all, func(e apiclient.Entry) bool { return e.Told != nil && *e.Told == name })
		if n < 0 {
			h.t.Fatalf("the daybook does not tell of %s:\n%s", name, h.must("daybook", "list"))
		}
		found = append(found, all[n])
	}
	return found
}

// detail is one of the entry's details, as text.
func detail(e apiclient.Entry, name string) string { return fmt.Sprint((*e.Details)[name]) }

func (h *house) sql(statement string) {
	h.t.Helper()
	conn, err := pgx.Connect(h.t.Context(), h.owner)
	if err != nil {
		h.t.Fatal(err)
	}
	defer conn.Close(h.t.Context())
	if _, err := conn.Exec(h.t.Context(), statement); err != nil {
		h.t.Fatal(err)
	}
}

func TestTheDaybookIsCheckedThereAndHereAndFollowed(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	in := func(name string) string { return filepath.Join(h.dir, name) }
	live := exec.Command(filepath.Join(bin, "plumlatch"), "daybook", "watch", "-action", "key")
	live.Env = append(os.Environ(), "HOME="+h.home(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token)
	said := &output{}
	live.Stdout, live.Stderr = said, said
	if err := live.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = live.Process.Kill(); _ = live.Wait() })
	h.must("key", "new", "gannet")
	h.must("key", "new", "tern")
	eventually(
		t,
		"the client tells of it",
		func() bool { return strings.Contains(said.String(), "ines made the key pair tern") },
	)

	h.must("daybook", "head", "-out", in("head.json"))
	h.refused("file-exists", "daybook", "head", "-out", in("head.json"))
	h.must("key", "delete", "tern", "-yes")
	h.must("daybook", "export", "-out", in("all.jsonl"))
	for _, args := range [][]string{
		{"daybook", "check"},
		{"daybook", "check", "-head", in("head.json")},
		{"daybook", "check", "-file", in("all.jsonl"), "-head", in("head.json")},
	} {
		if out := h.must(args...); !strings.Contains(out, "entries are intact") || strings.Contains(out, "could change") {
			t.Errorf("%v: %s", args, out)
		}
	}

	// Here: an export that was changed, and a head that was.
	text := read(t, in("all.jsonl"))
	writeFile(t, in("bent.jsonl"), strings.Replace(text, "made the key pair gannet", "made the key pair GANNET", 1))
	writeFile(t, in("other.jsonl"), strings.ReplaceAll(text, `"subject":"gannet"`, `"subject":"GANNET"`))
	writeFile(t, in("short.jsonl"), strings.Join(strings.SplitAfter(text, "\n")[:3], ""))
	var head map[string]any
	if err := json.Unmarshal([]byte(read(t, in("head.json"))), &head); err != nil {
		t.Fatal(err)
	}
	head["seq"] = 3
	writeFile(t, in("forged.json"), jsonBody(t, head))
	for says, args := range map[string][]string{
		"its sentence is not what":  {"-file", in("bent.jsonl")},
		"it was changed":            {"-file", in("other.jsonl")},
		"the daybook was shortened": {"-file", in("short.jsonl"), "-head", in("head.json")},
		"forged.json":               {"-head", in("forged.json")},
		"is signed with":            {"-head", in("head.json"), "-signer", "SHA256:x"},
	} {
		if r := h.client(append([]string{"daybook", "check"}, args...)...); r.status == 0 ||
			!strings.Contains(r.out+r.err, says) {
			t.Errorf("%v: %+v", args, r)
		}
	}
	// There: changed by SQL, made again up to the end, and shortened.
	h.sql("ALTER TABLE daybook DISABLE TRIGGER ALL; UPDATE daybook SET person = 'nobody' WHERE seq = 4")
	if r := h.client("daybook", "check"); r.status != 3 ||
		!strings.Contains(r.out, "Entry 4 is not intact: what it says is not what its hash was made of") {
		t.Errorf("changed: %+v", r)
	}
	h.sql("UPDATE daybook SET person = 'ines' WHERE seq = 4; DELETE FROM daybook WHERE seq > 3")
	if out := h.must("daybook", "check"); !strings.Contains(out, "All 3 entries are intact") {
		t.Errorf("shortened, without a head: %s", out)
	}
	if r := h.client("daybook", "check", "-head", in("head.json")); r.status != 3 ||
		!strings.Contains(r.out, "shortened") {
		t.Errorf("shortened: %+v", r)
	}
}

// TestACopyOfTheDatabaseIsTheDrill makes a copy, reads it into an empty database and continues there.
func TestACopyOfTheDatabaseIsTheDrill(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "door")
	copied := filepath.Join(h.dir, "copy.dump")
	service := func(args ...string) (string, error) {
		cmd := exec.CommandContext(context.Background(), filepath.Join(bin, "plumlatchd"), args...)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := service("-database", h.owner, "-backup", copied); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if info, err := os.Stat(copied); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	if out, err := service("-database", h.owner, "-backup", copied); err == nil ||
		!strings.Contains(out, copied) {
		t.Errorf("over a file: %s", out)
	}
	if out, err := service("-database", h.owner, "-restore", copied); err == nil || !strings.Contains(out, "not empty") {
		t.Errorf("over the database: %s", out)
	}
	h.must("daybook", "head", "-out", filepath.Join(h.dir, "head.json"))
	if err := h.service.Stop(20e9); err != nil {
		t.Fatal(err)
	}
	owner, database := pgtest.Empty(t)
	broken := writeFile(t, filepath.Join(h.dir, "broken.dump"), read(t, copied)[:2000])
	if out, err := service("-database", database, "-owner-database", owner, "-restore", broken); err == nil ||
		!strings.Contains(out, "pg_restore") {
		t.Errorf("half a copy: %s", out)
	}
	out, err := service("-database", database, "-owner-database", owner, "-restore", copied)
	if err != nil || !strings.Contains(out, "entries of the daybook are intact") {
		t.Fatalf("%v %s", err, out)
	}
	h.owner, h.database = owner, database
	h.startService("127.0.0.1:0")
	if got := h.must("instance", "list", "-q"); got != "door\n" {
		t.Errorf("the instances are %q", got)
	}
	// The steward key is in the copy, and opens with the safe key's file.
	if out := h.must("sweep", "door"); !strings.Contains(out, "door") {
		t.Error(out)
	}
	if out := h.must("daybook", "check"); !strings.Contains(out, "entries are intact") ||
		strings.Contains(out, "could change") {
		t.Error(out)
	}
}
