package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func TestConnectAndSSHConfigPinTheHostKeySoThatSSHAsksNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-label", "team=field")
	h.must(
		"instance", "launch", "other", "-image", "debian-12", "-size", "small", "-new", "elsewhere", "-out",
		filepath.Join(t.TempDir(), "elsewhere"),
	)
	command := strings.TrimSpace(h.must("connect", "door", "-print", "ssh"))
	out, err := exec.Command("sh", "-c", command+" hostname </dev/null").CombinedOutput()
	if err != nil || strings.TrimSpace(string(out)) != "door" {
		t.Errorf("%s\nsays %s %v", command, out, err)
	}
	h.refused("no-private-key", "connect", "other")
	if out := h.must("connect", "door", "-windows"); !strings.Contains(out, "-to ppk3") ||
		!strings.Contains(out, h.instance("door").Connection.HostKeys[0].Sha256) {
		t.Errorf("in words:\n%s", out)
	}
	if out := h.must("ssh-config"); !strings.Contains(out, "1 instance that you can open") {
		t.Errorf("%s", out)
	}
	config := filepath.Join(h.home(), ".config", "plumlatch", "ssh_config")
	if info, err := os.Stat(config); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	if out, err := exec.Command("ssh", "-F", config, "-n", "door", "hostname").CombinedOutput(); err != nil ||
		strings.TrimSpace(string(out)) != "door" {
		t.Errorf("ssh door says %s %v", out, err)
	}
	if out := h.must("ssh-config", "-label", "team=atlas", "-print"); strings.Contains(out, "Host door") {
		t.Errorf("another label:\n%s", out)
	}
	// Another host key is refused by ssh itself.
	pins := filepath.Join(h.home(), ".config", "plumlatch", "known_hosts")
	if err := os.WriteFile(
		pins, []byte("door "+strings.TrimSpace(read(t, h.private("mine.pub")))+"\n"), 0o600,
	); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("ssh", "-F", config, "-n", "door", "hostname").CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "verification failed") {
		t.Errorf("with another pinned key ssh says %s %v", out, err)
	}
}

// TestTheAgentsKeysConnect has the private key in the ssh-agent alone. It sets the environment, and so runs alone.
func TestTheAgentsKeysConnect(t *testing.T) {
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	startAgent(t, h.private("mine"))
	for _, file := range []string{"mine", "mine.pub"} {
		if err := os.Remove(h.private(file)); err != nil {
			t.Fatal(err)
		}
	}
	if out := h.must("connect", "door", "--", "whoami"); strings.TrimSpace(out) != "debian" {
		t.Errorf("by the agent it says %s", out)
	}
	if out := h.must("connect", "debian@door", "-agent", "--", "hostname"); strings.TrimSpace(out) != "door" {
		t.Errorf("with -agent it says %s", out)
	}
	if r := h.clientIn("ls\n", "connect", "door", "-sftp"); r.status != 0 {
		t.Errorf("sftp: %d %s%s", r.status, r.out, r.err)
	}
	if out := h.must("connect", "door", "-print", "scp"); !strings.HasPrefix(out, "scp -i "+
		"") || !strings.Contains(out, " -P ") {
		t.Errorf("the line for scp is %s", out)
	}
	h.must("why", "door")
	h.must("why", "debian@door", "-agent")
	h.must("ssh-config")
	config := filepath.Join(h.home(), ".config", "plumlatch", "ssh_config")
	if out, err := exec.Command("ssh", "-F", config, "-n", "door", "hostname").CombinedOutput(); err != nil {
		t.Errorf("ssh door by the agent says %s %v", out, err)
	}
	h.refused("no-key-in-agent", "connect", "door", "-agent", "-pick", "puffin")
	h.refused("usage", "connect", "door", "-print", "telnet")
	if r := h.client("connect", "door", "--", "false"); r.status == 0 {
		t.Error("the status of the command is lost")
	}
}

// TestWhyStopsAtTheFirstThingThatIsWrong breaks one thing after another, the
// last first, and asks each time.
func TestWhyStopsAtTheFirstThingThatIsWrong(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	dir := t.TempDir()
	sshKeygen(t, dir, "unknown", "-t", "ed25519", "-N", "")
	sshKeygen(t, dir, "closed", "-t", "ed25519", "-N", "storm petrel")
	h.must("key", "new", "second")
	h.must("key", "new", "gone")
	h.must("key", "mark-lost", "gone", "-reason", "test", "-yes")
	open := filepath.Join(dir, "open")
	if err := os.WriteFile(open, []byte(read(t, h.private("mine"))), 0o644); err != nil {
		t.Fatal(err)
	}
	crlf := filepath.Join(dir, "quoted")
	if err := os.WriteFile(
		crlf, []byte("> "+strings.ReplaceAll(read(t, h.private("mine")), "\n", "\n> ")), 0o600,
	); err != nil {
		t.Fatal(err)
	}
	ask := func(name string, passed int, want, remedy string, args ...string) {
		t.Helper()
		r := h.client(append([]string{"why", "door", "-json"}, args...)...)
		var checks []struct{ State, Detail, Remedy string }
		if err := json.Unmarshal([]byte(r.out), &checks); err != nil {
			t.Fatalf("%s: %v %s", name, err, r.err)
		}
		for n, c := range checks {
			state := map[bool]string{true: "passed", false: "not reached"}[n < passed]
			if n == len(checks)-1 && passed >= 7 && passed < n { // the server is asked all the same, and refuses it too
				state = "failed"
			}
			if n == passed {
				state = "failed"
				if !strings.Contains(c.Detail, want) || !strings.Contains(c.Remedy, remedy) || c.Remedy == "" {
					t.Errorf("%s: check %d says %q, %q", name, n+1, c.Detail, c.Remedy)
				}
			}
			if c.State != state {
				t.Errorf("%s: check %d is %s (%s), want %s", name, n+1, c.State, c.Detail, state)
			}
		}
		if wantStatus := map[bool]int{true: 0, false: 3}[passed == len(checks)]; r.status != wantStatus {
			t.Errorf("%s: status %d", name, r.status)
		}
	}
	mine := h.private("mine")
	ask("all is well", 12, "", "", "-with", mine)
	ask("found by itself", 12, "", "")
	ask(
		"a key that is not granted", 9, "neither granted", "plumlatch grant add second debian@door", "-with",
		h.private("second"),
	)
	ask("a lost key", 7, "is lost", "plumlatch key new", "-with", h.private("gone"))
	ask("a key in no record", 7, "not recorded", "plumlatch key import", "-with", filepath.Join(dir, "unknown"))
	h.opensThoughNotRecorded(t, filepath.Join(dir, "unknown"))
	ask("no passphrase", 6, "encrypted", "-passphrase-file", "-with", filepath.Join(dir, "closed"))
	ask("quoted in a mail", 6, "a form that ssh does not read", "plumlatch key convert", "-with", crlf)
	ask("the public key", 5, "has no private key", "-with", "-with", filepath.Join(dir, "unknown.pub"))
	ask("others can read it", 5, "lets others read it", "chmod 600", "-with", open)
	ask("no file", 5, "no such file", "-with", "-with", filepath.Join(dir, "none"))
	ask("another user", 8, "no login that is recorded", "-login debian", "-login", "root", "-with", mine)
	file := h.keysFile("door")
	text := read(t, file)
	if err := os.WriteFile(file, []byte(strings.SplitAfterN(text, "\n", 2)[1]), 0o600); err != nil {
		t.Fatal(err)
	}
	ask("its line was taken out by hand", 11, "refuses the login", "plumlatch sweep door", "-with", mine)
	h.client("sweep", "door")
	ask("and that was seen", 9, "was not there at the last look", "plumlatch grant add mine", "-with", mine)
	h.must("grant", "add", "mine", "door")
	c := h.cloudPort()
	id := h.instance("door").CloudId
	if err := c.PermitAgent(t.Context(), id, true); err != nil {
		t.Fatal(err)
	}
	home := filepath.Dir(filepath.Dir(file))
	if err := os.Chmod(home, 0o775); err != nil {
		t.Fatal(err)
	}
	if out := h.must("sweep", "door"); !strings.Contains(
		out, "as before",
	) { // sshd refuses the steward too, so the agent reads
		t.Errorf("%s", out)
	}
	ask("others may write the home folder", 10, "/home/debian has the mode 0775", "chmod go-w /home/debian", "-with", mine)
	if err := os.Chmod(home, 0o755); err != nil {
		t.Fatal(err)
	}
	h.must("sweep", "door")
	rules, err := c.FirewallRules(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range rules {
		h.adapter("DELETE", "/firewall-rules/"+r.Id, "")
	}
	ask("no rule at all", 2, "no rule lets anybody in", "Have a rule added", "-with", mine)
	h.adapter("POST", "/firewall-rules", `{"group": "default", "source": "192.0.2.0/24", "port": 2222}`)
	ask(
		"no rule for this address", 2, "no rule lets 127.0.0.1 in; there are rules for 192.0.2.0/24", "-from ADDRESS",
		"-with", mine,
	)
	h.adapter("POST", "/firewall-rules", `{"group": "default", "source": "127.0.0.0/8", "port": 2222}`)
	if out := h.must("why", "door", "-with", mine); !strings.Contains(out, "the rule for 127.0.0.0/8 lets 127.0.0.1 in") {
		t.Errorf("%s", out)
	}
	before := h.instance("door").PublicAddress
	h.adapter("POST", "/instances/"+id+"/stop", "")
	eventually(
		t,
		"a stop behind the service's back",
		func() bool { return h.adapter("GET", "/instances/"+id, "")["state"] == "stopped" },
	)
	ask("stopped by somebody else", 1, "the cloud says that it is stopped", "plumlatch instance start door", "-with", mine)
	h.adapter("POST", "/instances/"+id+"/start", "")
	eventually(
		t,
		"a start behind the service's back",
		func() bool { return h.adapter("GET", "/instances/"+id, "")["state"] == "running" },
	)
	ask("moved by somebody else", 1, "it changed from "+before+" to ", "plumlatch instance stop door", "-with", mine)
	h.must("instance", "stop", "door", "-yes")
	h.must("instance", "start", "door")
	if out := h.must("why", "door", "-with", mine); !strings.Contains(out, "it was "+before) {
		t.Errorf("after a start that moved it:\n%s", out)
	}
	h.must("instance", "stop", "door", "-yes")
	ask("stopped", 0, "is stopped", "plumlatch instance start door", "-with", mine)
}

// opensThoughNotRecorded puts the line of a key in no record into door's file: then why must not say that the key
// cannot open it.
func (h *house) opensThoughNotRecorded(t *testing.T, key string) {
	t.Helper()
	file := h.keysFile("door")
	before := read(t, file)
	if err := os.WriteFile(file, []byte(before+read(t, key+".pub")), 0o600); err != nil {
		t.Fatal(err)
	}
	r := h.client("why", "door", "-json", "-with", key)
	var checks []struct{ State, Detail string }
	if err := json.Unmarshal([]byte(r.out), &checks); err != nil {
		t.Fatalf("%v %s", err, r.err)
	}
	if checks[7].State != "differs" || checks[11].State != "passed" || r.status != 3 {
		t.Errorf("a key that opens, in no record: %d %+v", r.status, checks)
	}
	if err := os.WriteFile(file, []byte(before), 0o600); err != nil {
		t.Fatal(err)
	}
}
