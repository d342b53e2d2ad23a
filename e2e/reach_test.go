package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

// login asks for a login as the client's -json gives it.
func (h *house) login(name string) apiclient.Login {
	h.t.Helper()
	var l apiclient.Login
	if err := json.Unmarshal([]byte(h.must("login", "show", name, "-json")), &l); err != nil {
		h.t.Fatal(err)
	}
	return l
}

// holder records a team that can hold keys, and that ines is in.
func (h *house) holder(name string) {
	h.t.Helper()
	conn, err := pgx.Connect(h.t.Context(), h.owner)
	if err != nil {
		h.t.Fatal(err)
	}
	defer conn.Close(h.t.Context())
	if _, err := conn.Exec(
		h.t.Context(), "WITH team AS (INSERT INTO holders (id, name, kind, title) "+
			"VALUES (gen_random_uuid(), $1, 'team', $1) RETURNING id) "+
			"INSERT INTO team_members (team_id, operator_id) SELECT team.id, o.id FROM team, operators o "+
			"WHERE o.name = 'ines'", name,
	); err != nil {
		h.t.Fatal(err)
	}
}

// signed has ssh-keygen sign the text with the private key of a key.
func (h *house) signed(key, namespace, text string) string {
	h.t.Helper()
	cmd := exec.Command("ssh-keygen", "-q", "-Y", "sign", "-f", h.private(key), "-n", namespace)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.Output()
	if err != nil {
		h.t.Fatal(err)
	}
	return string(out)
}

// private is the file of a private key that key new made.
func (h *house) private(key string) string { return filepath.Join(h.home(), ".ssh", key) }

// keysFile is the authorized_keys file on a stand-in instance's disk, for changes by hand.
func (h *house) keysFile(instance string) string {
	h.t.Helper()
	files, err := filepath.Glob(filepath.Join(h.dir, "paddock", "*", "*", "home", "*", ".ssh", "authorized_keys"))
	if err != nil {
		h.t.Fatal(err)
	}
	for _, f := range files {
		root := strings.Split(f, "/home/")[0]
		if name, err := os.ReadFile(filepath.Join(root, "etc/hostname")); err == nil &&
			strings.TrimSpace(string(name)) == instance {
			return f
		}
	}
	h.t.Fatalf("no authorized_keys of %s among %v", instance, files)
	return ""
}

func appendTo(t *testing.T, file, text string) {
	t.Helper()
	f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := f.WriteString(text); err != nil {
		t.Fatal(err)
	}
}

func read(t testing.TB, file string) string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func TestASweepReadsWhatReallyStandsThereAndTellsWhatChanged(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	if out := h.must("sweep", "door"); !strings.Contains(out, "2 known keys") {
		t.Errorf("the first sweep says\n%s", out)
	}
	l := h.login("door")
	if l.Reach.Reach != "thin" || l.Reach.InPlace != 1 || !l.Reach.Steward { // the launch's own login is a proof
		t.Errorf("the login stands at %+v", l.Reach)
	}
	dir := t.TempDir()
	sshKeygen(t, dir, "stranger", "-t", "ed25519", "-N", "")
	file := h.keysFile("door")
	appendTo(t, file, "# by hand\nfrom=\"10.0.0.0/8\" "+read(t, filepath.Join(dir, "stranger.pub")))
	before := read(t, file)
	r := h.client("sweep", "-all")
	if r.status != 3 || !strings.Contains(r.out, "changed !") || !strings.Contains(r.out, "1 stranger") {
		t.Errorf("the sweep after a change by hand: %d\n%s", r.status, r.out)
	}
	if read(t, file) != before {
		t.Error("a sweep changed the file")
	}
	l = h.login("debian@door")
	if len(l.Strangers) != 1 || l.Strangers[0].Comment != "hide 3" ||
		!strings.Contains(*l.Strangers[0].Limits, "only from 10.0.0.0/8") {
		t.Errorf("strangers: %+v", l.Strangers)
	}
	if out := h.must("login", "history", "door"); !strings.Contains(out, "+ # by hand") ||
		!strings.Contains(out, `+ from="10.0.0.0/8"`) {
		t.Errorf("the history says\n%s", out)
	}
	if e := h.told("login.changed")[0]; detail(e, "added") != "2" || detail(e, "removed") != "0" {
		t.Errorf("the daybook says: %+v", e)
	}
	// A key that is then recorded is no stranger now, but nobody granted it.
	h.must("key", "import", "found", "-from", filepath.Join(dir, "stranger.pub"))
	if l := h.login("door"); len(l.Strangers) != 0 || l.Reach.Ungranted != 1 {
		t.Errorf("recorded, it is %+v", l.Reach)
	}
	if r := h.client("reach"); r.status != 3 || !strings.Contains(r.out, "1 known key that nobody granted") {
		t.Errorf("reach: %d\n%s", r.status, r.out)
	}
	// What cannot be reached keeps what was seen, and says so.
	h.must("instance", "stop", "door", "-yes")
	if r := h.client("sweep", "door"); r.status != 3 || !strings.Contains(r.out, "door is stopped") {
		t.Errorf("a stopped one: %d\n%s", r.status, r.out)
	}
	if after := h.login("door"); after.Reach.SweptAt == nil ||
		!after.Reach.SweptAt.Equal(*h.login("door").Reach.SweptAt) ||
		after.Reach.Ungranted != 1 ||
		after.Reach.SweepError == nil {
		t.Errorf("after a failed sweep: %+v", after.Reach)
	}
}

func TestAGrantPlacesItsLineAndAWithdrawalRemovesIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "second")
	file := h.keysFile("door")
	before := "# kept as it is\t\r\n" + read(t, file) + "half a line"
	if err := os.WriteFile(file, []byte(before), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("grant", "add", "second", "door", "-reason", "in case the first is lost")
	if out, err := h.ssh(h.instance("door"), "second", "hostname"); err != nil || out != "door" {
		t.Errorf("the granted key: %s %v", out, err)
	}
	if got := read(t, file); !strings.HasPrefix(got, before) {
		t.Errorf("other lines were changed:\n%q", got)
	}
	h.must("grant", "add", "second", "debian@door") // again: nothing doubles
	if got := read(t, file); strings.Count(got, "second") != 1 {
		t.Errorf("granted twice, the line is in place there more than once:\n%s", got)
	}
	h.must("prove", "mine", "second")
	if l := h.login("door"); l.Reach.Reach != "thin" || l.Reach.InPlace != 2 {
		t.Errorf("both keys are of one holder: %+v", l.Reach)
	}
	h.must("grant", "withdraw", "second", "door")
	if _, err := h.ssh(h.instance("door"), "second", "hostname"); err == nil {
		t.Error("the withdrawn key still opens the login")
	}
	h.refused("would-be-shut", "grant", "withdraw", "mine", "door")
	h.refused("no-reason", "grant", "withdraw", "mine", "door", "-anyway")
	if out, err := h.ssh(h.instance("door"), "mine", "hostname"); err != nil || out != "door" {
		t.Errorf("the key that was to stay: %s %v", out, err)
	}
	h.must("grant", "withdraw", "mine", "door", "-anyway", "-reason", "the machine is to be closed")
	if l := h.login("door"); l.Reach.Reach != "shut" {
		t.Errorf("without any key it is %s", l.Reach.Reach)
	}
	h.refused("steward-from-here", "grant", "withdraw", "steward-door", "door")
	// The steward lets somebody in again.
	h.must("grant", "add", "mine", "door")
	if out, err := h.ssh(h.instance("door"), "mine", "hostname"); err != nil || out != "door" {
		t.Errorf("let in again: %s %v", out, err)
	}
	if got := read(t, file); !strings.HasPrefix(got, "# kept as it is\t\r\n") || !strings.Contains(got, "half a line") {
		t.Errorf("foreign lines did not stay:\n%q", got)
	}
}

func TestAGrantThatCannotBePlacedIsUndoneAndSaid(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.must("key", "new", "second")
	for name, c := range map[string]struct {
		args []string
		code string
	}{
		"no steward":  {[]string{"second", "bare"}, "no-means"},
		"no login":    {[]string{"second", "nobody@door"}, "no-such-login"},
		"no instance": {[]string{"second", "gone"}, "no-such-instance"},
		"no key":      {[]string{"gone", "door"}, "no-such-key"},
		"past":        {[]string{"second", "door", "-until", "2020-01-01"}, "bad-until"},
	} {
		t.Run(name, func(t *testing.T) { h.in(t).refused(c.code, append([]string{"grant", "add"}, c.args...)...) })
	}
	file := h.keysFile("door")
	before := read(t, file)
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(file, 0o700); err != nil { // the steward can no longer get in
		t.Fatal(err)
	}
	r := h.client("grant", "add", "second", "door")
	if r.status != 1 {
		t.Errorf("a steward that is shut out: %d %s", r.status, r.err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(before), 0o600); err != nil {
		t.Fatal(err)
	}
	if out := h.must("opens", "second"); !strings.Contains(out, "opens nothing") {
		t.Errorf("the grant that was not placed is still there:\n%s", out)
	}
	if read(t, file) != before {
		t.Error("the file was changed")
	}
	r = h.client("sweep", "bare", "-with", h.private("mine"))
	if r.status != 0 || h.login("bare").Reach.SweptAt == nil {
		t.Errorf("read from here: %d %s%s", r.status, r.out, r.err)
	}
	h.must("grant", "add", "second", "bare", "-with", h.private("mine"))
	if out, err := h.ssh(h.instance("bare"), "second", "hostname"); err != nil || out != "bare" {
		t.Errorf("placed from here: %s %v", out, err)
	}
	h.refused("own-line", "grant", "withdraw", "second", "bare", "-with", h.private("second"))
	h.must("grant", "withdraw", "second", "bare", "-with", h.private("mine"))
	if _, err := h.ssh(h.instance("bare"), "second", "hostname"); err == nil {
		t.Error("removed from here, the key still opens the login")
	}
}

// TestAnUndoneGrantLeavesWhatStoodThereBefore accepts a line that the server does
// not take (its option from excludes everybody): the run is undone, and the line,
// which the run did not place, stays.
func TestAnUndoneGrantLeavesWhatStoodThereBefore(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "second")
	file := h.keysFile("door")
	appendTo(t, file, `from="192.0.2.1" `+read(t, h.private("second.pub")))
	before := read(t, file)
	h.refused("run-undone", "grant", "add", "second", "door")
	if got := read(t, file); got != before {
		t.Errorf("the undo changed the file to\n%s", got)
	}
	h.client("sweep", "door")
	if l := h.login("door"); l.Reach.Ungranted != 1 {
		t.Errorf("the grant that was undone is still recorded: %+v", l.Reach)
	}
	// A withdrawal that cannot be done puts back what it took, with its options.
	h.must("prove", "mine")
	h.must("grant", "withdraw", "second", "door")
	if got := read(t, file); strings.Contains(got, "second") || !strings.HasPrefix(before, got) {
		t.Errorf("withdrawn, the file is\n%s", got)
	}
}

func TestAHostileFileHoldsUpNoSweepAndReachesNoTerminal(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	for _, name := range []string{"calm", "hostile", "long"} {
		args := []string{"instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mine", "-steward"}
		if name == "calm" {
			h.must("key", "new", "mine")
		}
		h.must(args...)
	}
	dir := t.TempDir()
	sshKeygen(t, dir, "x", "-t", "ed25519", "-N", "")
	line := strings.TrimSuffix(read(t, filepath.Join(dir, "x.pub")), " hide 3\n")
	h.must("sweep", "-all")
	hostile := h.keysFile("hostile")
	appendTo(
		t,
		hostile,
		line+" a\x00b\x1b]0;owned\x07\n"+"command=\"\x1b[2J\x00\" "+line+"\n\x00\xff\xfe\n"+strings.Repeat(
			"no-pty,", 5000,
		)+"\n",
	)
	var many strings.Builder
	for n := range 9_000 { // of which each takes more than one of a statement's 65,535 places for parameters
		blob := fmt.Appendf([]byte("\x00\x00\x00\x07ssh-tes"), "%08d", n)
		fmt.Fprintf(&many, "ssh-tes %s bird %d\n", base64.StdEncoding.EncodeToString(blob), n)
	}
	appendTo(t, h.keysFile("long"), many.String())
	for range 2 {
		r := h.client("sweep", "-all")
		if r.status != 3 && r.status != 0 || strings.Contains(r.out, "failed !") ||
			!strings.Contains(r.out, "9000 strangers") ||
			!strings.Contains(r.out, "1 stranger") {
			t.Fatalf("%d\n%.2000s", r.status, r.out)
		}
	}
	for _, args := range [][]string{
		{"login", "show", "hostile"},
		{"login", "history", "hostile"},
		{"daybook", "list"},
		{"login", "show", "long"},
		{"reach"},
	} {
		if r := h.client(args...); strings.ContainsAny(r.out, "\x00\x1b\x07") || len(r.out) == 0 || len(r.out) > 1<<20 {
			t.Errorf("%v writes %d bytes, with control characters: %.300q", args, len(r.out), r.out)
		}
	}
	if l := h.login("calm"); l.Reach.Strangers != 0 || l.Reach.SweptAt == nil {
		t.Errorf("the login beside them: %+v", l.Reach)
	}
}

func TestKilledInMidGrantItFinishes(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "second")
	before := read(t, h.keysFile("door"))
	for _, action := range []string{"add", "withdraw", "add", "withdraw"} {
		done := make(chan struct{})
		go func() {
			defer close(done)
			h.client("grant", action, "second", "door")
		}()
		time.Sleep(30 * time.Millisecond) // anywhere: before, in the middle, after
		h.service.kill(t)
		h.startService(h.listen())
		<-done // it watched through the break, or was told at once
		eventually(t, "the end of the run", func() bool {
			var runs []apiclient.Run
			if err := json.Unmarshal([]byte(h.must("run", "list", "-json")), &runs); err != nil {
				t.Fatal(err)
			}
			for _, r := range runs {
				if r.EndedAt == nil {
					return false
				}
			}
			return true
		})
		h.client("grant", action, "second", "door")
		text := read(t, h.keysFile("door"))
		if want := map[string]int{"add": 1, "withdraw": 0}[action]; strings.Count(text, " second") != want ||
			!strings.HasPrefix(text, before) {
			t.Errorf("after a kill in mid-%s the file is\n%s", action, text)
		}
	}
}

func TestAProofHoldsOnceForItsKeyAndPerson(t *testing.T) {
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "other", "-type", "rsa", "-bits", "2048")
	status, body := h.call("POST", "/api/v1/keys/mine/challenges", h.token, "")
	var c apiclient.Challenge
	if err := json.Unmarshal([]byte(body), &c); status != 201 || err != nil || !strings.Contains(c.Text, "person: ines") {
		t.Fatalf("%d %s", status, body)
	}
	sign := func(key, namespace string) string {
		return jsonBody(t, map[string]string{"challenge": c.Id.String(), "signature": h.signed(key, namespace, c.Text)})
	}
	for name, bad := range map[string]struct{ body, want string }{
		"another key":       {sign("other", c.Namespace), "another key"},
		"another namespace": {sign("mine", "file"), "another purpose"},
		"no signature":      {jsonBody(t, map[string]string{"challenge": c.Id.String(), "signature": "x"}), "no SSHSIG"},
	} {
		if status, body := h.call("POST", "/api/v1/keys/mine/proofs", h.token, bad.body); status != 422 && status != 400 ||
			!strings.Contains(body, bad.want) {
			t.Errorf("%s: %d %s", name, status, body)
		}
	}
	if status, body := h.call("POST", "/api/v1/keys/other/proofs", h.token, sign("other", c.Namespace)); status < 400 {
		t.Errorf("a challenge for another key was taken: %d %s", status, body)
	}
	good := sign("mine", c.Namespace)
	if status, body := h.call("POST", "/api/v1/keys/mine/proofs", h.token, good); status != 200 ||
		!strings.Contains(body, `"proved_by":"ines"`) {
		t.Errorf("ssh-keygen's signature: %d %s", status, body)
	}
	if status, body := h.call("POST", "/api/v1/keys/mine/proofs", h.token, good); status < 400 ||
		!strings.Contains(body, "signed already") {
		t.Errorf("the same proof again: %d %s", status, body)
	}
	startAgent(t, h.private("other"))
	if out := h.must("prove", "-agent"); !strings.Contains(out, "other: possession is proved") {
		t.Errorf("by the agent, with RSA:\n%s", out)
	}
	if r := h.client("prove", "mine", "-agent"); r.status != 4 {
		t.Errorf("a key that the agent has not: %d %s", r.status, r.err)
	}
}

func TestAnAdoptedMachineIsReadChangedAndReleased(t *testing.T) {
	t.Parallel()
	server := sshdtest.StartConfined(t)
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "second")
	foreign := "# set up by hand\r\nssh-puffin AAAA  odd\r\n"
	if err := os.WriteFile(server.KeysFile, []byte(foreign+read(t, h.private("mine.pub"))), 0o600); err != nil {
		t.Fatal(err)
	}
	adopt := []string{
		"instance",
		"adopt",
		"mast",
		"-address",
		"127.0.0.1",
		"-port",
		fmt.Sprint(server.Port),
		"-login",
		server.User,
		"-with",
		h.private("mine"),
		"-steward",
	}
	if r := h.client(adopt...); r.status != 2 || !strings.Contains(r.err, ssh.FingerprintSHA256(server.HostKey)) {
		t.Errorf("the host key was not shown for comparison: %d %s", r.status, r.err)
	}
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("recorded before the host key was taken: %s", out)
	}
	out := h.must(append(adopt, "-yes")...)
	if !strings.Contains(out, "ungranted") || !strings.Contains(out, "the service's own") {
		t.Errorf("adopted, it says\n%s", out)
	}
	text := read(t, server.KeysFile)
	if !strings.HasPrefix(text, foreign) || !strings.Contains(text, "restrict ssh-ed25519 ") {
		t.Errorf("with the steward key the file is\n%q", text)
	}
	h.must("grant", "add", "mine", "mast") // it is in place there already, so it is only accepted
	if read(t, server.KeysFile) != text {
		t.Error("accepting what is in place there changed the file")
	}
	h.must("grant", "add", "second", "mast")
	h.must("prove", server.User+"@mast", "-with", h.private("second"))
	if out := h.must("sweep", "mast"); !strings.Contains(out, "3 known keys, 1 line that cannot be read") {
		t.Errorf("swept, it says\n%s", out)
	}
	h.must("grant", "withdraw", "second", "mast", "-anyway", "-reason", "done")
	if read(t, server.KeysFile) != text {
		t.Errorf("granted and withdrawn, the file is\n%q, was\n%q", read(t, server.KeysFile), text)
	}
	h.refused("adopted", "instance", "stop", "mast", "-yes")
	h.must("grant", "withdraw", "steward-mast", "mast", "-with", h.private("mine"))
	if got := read(t, server.KeysFile); strings.Contains(got, "steward") || !strings.HasPrefix(got, foreign) {
		t.Errorf("without the steward key the file is\n%q", got)
	}
	if out := h.must("key", "show", "steward-mast"); !strings.Contains(out, "retired") {
		t.Errorf("the withdrawn steward key is still in use:\n%s", out)
	}
	h.must("instance", "steward", "mast", "-with", h.private("mine"))
	h.must("sweep", "mast")
	h.must("instance", "release", "mast", "-yes")
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("released, it is still there: %s", out)
	}
}

func TestTheReachOfALoginFollowsItsProofsAndLosses(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.holder("marek")
	h.holder("oona")
	h.must("key", "new", "mine")
	h.must("key", "new", "mareks", "-holder", "marek")
	// From a home without private keys no login is tried, so nobody proves anything.
	status, body := h.call(
		"POST", "/api/v1/instances", h.token,
		`{"name": "door", "image": "debian-12", "size": "small", "keys": ["mine", "mareks"], "steward": true}`,
	)
	if status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	eventually(t, "the launch", func() bool { return h.instance("door").State == "running" })
	if l := h.login("door"); l.Reach.Reach != "stale" {
		t.Errorf("nobody proved: %s", l.Reach.Reach)
	}
	h.must("prove", "debian@door", "-with", h.private("mine"))
	if l := h.login("door"); l.Reach.Reach != "thin" || l.Reach.Holders != 1 {
		t.Errorf("one login completed: %+v", l.Reach)
	}
	h.must("prove", "-with", filepath.Join(h.home(), ".ssh"))
	if l := h.login("door"); l.Reach.Reach != "solid" {
		t.Errorf("both proved: %+v", l.Reach)
	}
	h.must("key", "new", "spare")
	if out := h.must("key", "loss", "spare"); !strings.Contains(out, "no login would be less safe") {
		t.Errorf("the loss of a key that opens nothing:\n%s", out)
	}
	if out := h.must("key", "loss", "mareks"); !strings.Contains(out, "solid") || !strings.Contains(out, "thin") {
		t.Errorf("the loss of one:\n%s", out)
	}
	if r := h.client("key", "mark-lost", "mareks", "-reason", "stolen"); r.status != 2 ||
		!strings.Contains(r.err, "Say -yes") {
		t.Errorf("marked as lost without being asked: %d %s", r.status, r.err)
	}
	h.must("key", "mark-lost", "mareks", "-reason", "stolen", "-yes")
	if l := h.login("door"); l.Reach.Reach != "thin" {
		t.Errorf("after the loss: %+v", l.Reach)
	}
	h.refused("key-not-active", "grant", "add", "mareks", "door")
	h.must("grant", "withdraw", "mareks", "door")
	if l := h.login("door"); l.Reach.Reach != "thin" || len(l.Openers) != 2 {
		t.Errorf("after its line is gone: %+v", l.Reach)
	}
	var page apiclient.ReachPage
	if err := json.Unmarshal([]byte(h.must("reach", "-json")), &page); err != nil || page.Counts["thin"] != 1 ||
		page.Total != 1 {
		t.Errorf("%+v %v", page, err)
	}
	for _, filter := range [][]string{
		{"-state", "shut"},
		{"-holder", "oona"},
		{"-key", "mareks"},
		{"-region", "nowhere"},
		{"-label", "a=b"},
		{"-find", "window"},
		{"-drift"},
	} {
		if out := h.must(append([]string{"reach", "-q"}, filter...)...); out != "" {
			t.Errorf("reach %v lists %q", filter, out)
		}
	}
}

func TestAGrantWithAnEndIsWithdrawnByTheService(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "guest")
	h.must("prove", "mine")
	h.must("grant", "add", "guest", "door", "-until", "1h")
	if out, err := h.ssh(h.instance("door"), "guest", "hostname"); err != nil || out != "door" {
		t.Fatalf("%s %v", out, err)
	}
	if err := h.service.Stop(10 * time.Second); err != nil {
		t.Fatal(err)
	}
	h.sql("UPDATE grants SET until = now() - interval '1 second' WHERE until IS NOT NULL")
	h.startService(h.listen()) // it ends what is over at its start
	eventually(t, "the end of the grant", func() bool {
		_, err := h.ssh(h.instance("door"), "guest", "hostname")
		return err != nil
	})
	if e := h.told("grant.withdraw")[0]; e.Person != "service" || e.Subject != "debian@door" ||
		detail(e, "key") != "guest" {
		t.Errorf("the daybook says: %+v", e)
	}
	if out, err := h.ssh(h.instance("door"), "mine", "hostname"); err != nil || out != "door" {
		t.Errorf("the other key: %s %v", out, err)
	}
}

func TestWhatCannotBeReadIsSaidAndKeepsWhatWasSeen(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	file := h.keysFile("door")
	home := filepath.Dir(filepath.Dir(file))
	seen := h.login("door").Reach.SweptAt
	fails := func(what, want string) {
		t.Helper()
		r := h.client("sweep", "door")
		if l := h.login("door"); r.status != 3 || !strings.Contains(r.out, want) || !l.Reach.SweptAt.Equal(*seen) ||
			l.Reach.InPlace != 1 ||
			l.Reach.SweepError == nil {
			t.Errorf("%s: %d\n%s%+v", what, r.status, r.out, l.Reach)
		}
	}
	if err := os.Chmod(file, 0o200); err != nil {
		t.Fatal(err)
	}
	fails("a file that its owner may not read", "permission denied")
	if err := os.Chmod(file, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(home, home+".away"); err != nil {
		t.Fatal(err)
	}
	fails("no home folder", "refuses the login")
	if err := os.Rename(home+".away", home); err != nil {
		t.Fatal(err)
	}
	if out := h.must("sweep", "door"); !strings.Contains(out, "as before") {
		t.Errorf("put right: %s", out)
	}
}
