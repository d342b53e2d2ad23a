package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

// bringIn brings in a real machine whose server lets in by an authority, a password and a stranger's key, and whose
// keys are where a Match in an included file puts them. It returns the folder with the private keys of those.
func (h *house) bringIn(t *testing.T, name, key string) (dir string, m *sshdtest.Machine) {
	t.Helper()
	h.must("key", "new", key)
	dir = t.TempDir()
	for _, name := range []string{"stranger", "ca", "certified"} {
		if out, err := exec.Command(
			"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", filepath.Join(dir, name),
		).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	public := func(name string) string { return read(t, filepath.Join(dir, name+".pub")) }
	m = sshdtest.StartMachine(t, "Include sshd_config.d/*.conf\n", map[string]string{
		"/etc/ssh/sshd_config.d/10.conf": "Match User w*\nAuthorizedKeysFile /etc/ssh/keys/%u\n" +
			"TrustedUserCAKeys /etc/ssh/ca.pub\n",
		"/etc/ssh/keys/warden": read(t, h.private(key+".pub")) + public("stranger"),
		"/etc/ssh/ca.pub":      public("ca"),
		// Not read by the server, so nothing of it is said.
		"/home/warden/.ssh/authorized_keys": public("certified"),
	})
	list := writeFile(t, filepath.Join(dir, "machines.csv"), fmt.Sprintf(
		"name,address,port,login\n%s,127.0.0.1,%d,%s\n", name, m.Port, sshdtest.MachineUser,
	))
	h.client("instance", "adopt", "-list", list, "-with", h.private(key), "-yes")
	return dir, m
}

// TestAnAuthorityAPasswordAndAStrangerOfARealServerAreTold brings in a real machine whose server lets in by all
// three, and whose keys are where a Match in an included file puts them.
func TestAnAuthorityAPasswordAndAStrangerOfARealServerAreTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir, m := h.bringIn(t, "pump", "mine")
	// What is told is so: the stranger's key and a certificate of the authority get in, the key in the home
	// folder does not.
	if out, err := exec.Command(
		"ssh-keygen", "-q", "-s", filepath.Join(dir, "ca"), "-I", "id", "-n", sshdtest.MachineUser,
		filepath.Join(dir, "certified.pub"),
	).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	enters := func(key string) bool {
		out, err := exec.Command(
			"ssh", "-F", "none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null",
			"-o", "IdentitiesOnly=yes", "-o", "IdentityAgent=none", "-i", filepath.Join(dir, key), "-p", fmt.Sprint(m.Port),
			sshdtest.MachineUser+"@127.0.0.1", "id", "-un",
		).Output()
		return err == nil && strings.TrimSpace(string(out)) == sshdtest.MachineUser
	}
	if !enters("stranger") || !enters("certified") {
		t.Fatal("the stranger, or whoever has a certificate, does not get in")
	}
	if err := os.Remove(filepath.Join(dir, "certified-cert.pub")); err != nil {
		t.Fatal(err)
	}
	if enters("certified") {
		t.Fatal("a key in a file that is not read gets in")
	}
	var l apiclient.Login
	if err := json.Unmarshal([]byte(h.must("login", "show", "pump", "-json")), &l); err != nil {
		t.Fatal(err)
	}
	if len(l.Strangers) != 1 || l.Strangers[0].Comment != "stranger" {
		t.Errorf("strangers: %+v", l.Strangers)
	}
	if s := l.Server; s == nil || len(s.Authorities) != 1 || *s.Authorities[0].Comment != "ca" ||
		len(s.Methods) != 1 || s.Methods[0] != "password" || s.Unread != nil {
		t.Errorf("the server: %+v", s)
	}
	r := h.client("openers", "pump")
	if r.status != 3 || !strings.Contains(r.out, l.Strangers[0].Sha256) || !strings.Contains(r.out, "password") ||
		!strings.Contains(r.out, l.Server.Authorities[0].Fingerprint) {
		t.Errorf("%+v", r)
	}
	if out := h.must("instance", "show", "pump"); !strings.Contains(out, l.Strangers[0].Sha256) ||
		!strings.Contains(out, l.Server.Authorities[0].Fingerprint) || !strings.Contains(out, "password") {
		t.Errorf("instance show:\n%s", out)
	}
	r = h.client("openers", "pump", "-json")
	var rows []struct{ Login, Status, Kind, Name string }
	if err := json.Unmarshal([]byte(r.out), &rows); err != nil || r.status != 3 {
		t.Errorf("as JSON: %d %v", r.status, err)
	}
	for status, name := range map[string]string{
		"stranger": l.Strangers[0].Sha256, "open": l.Server.Authorities[0].Fingerprint, "unread": "root",
	} {
		if !slices.ContainsFunc(rows, func(r struct{ Login, Status, Kind, Name string }) bool {
			return r.Status == status && r.Name == name
		}) {
			t.Errorf("no row %s %s among %+v", status, name, rows)
		}
	}
	if in := h.access("pump"); in.Beyond == nil || in.Beyond.Strangers != 1 || in.Beyond.OtherWays != 2 ||
		in.Beyond.Unread == 0 {
		t.Errorf("counted: %+v", in.Beyond)
	}
	if p := h.login("pump").Reach; *p.OtherWays != 2 || *p.Unread != 0 {
		t.Errorf("the reach counts %d other ways, %d unread", *p.OtherWays, *p.Unread)
	}
	// A fingerprint from a log leads to each of them.
	for name, kind := range map[string]apiclient.TracedKind{
		"stranger": apiclient.TracedKindStranger, "ca": apiclient.TracedKindAuthority,
	} {
		var traced apiclient.Trace
		r := h.client("trace", filepath.Join(dir, name+".pub"), "-json")
		if err := json.Unmarshal([]byte(r.out), &traced); err != nil {
			t.Fatal(err, r.err)
		}
		if r.status != 0 || len(traced.Matches) != 1 || traced.Matches[0].Kind != kind ||
			traced.Matches[0].Name != "warden@pump" {
			t.Errorf("trace of the %s: %d %+v", name, r.status, traced.Matches)
		}
	}
	md5, err := exec.Command("ssh-keygen", "-lf", filepath.Join(dir, "stranger.pub"), "-E", "md5").Output()
	if err != nil {
		t.Fatal(err)
	}
	if r := h.client("trace", strings.TrimSpace(string(md5))); r.status != 0 || !strings.Contains(r.out, "warden@pump") {
		t.Errorf("by MD5: %+v", r)
	}
	p := h.console(t)
	p.open("/logins/warden@pump")
	p.says("What else lets somebody in")
	p.says(l.Server.Authorities[0].Fingerprint)
	p.says("password")
	// The holder of the authority gets in while their proof is fresh, also where every key is lost.
	h.must("key", "import", "tide-authority", "-from", filepath.Join(dir, "ca.pub"))
	loss := func() string {
		var l struct {
			Changes []struct{ Login, After string }
		}
		if err := json.Unmarshal([]byte(h.must("key", "loss", "mine", "-json")), &l); err != nil || len(l.Changes) != 1 {
			t.Fatalf("%v %+v", err, l)
		}
		return l.Changes[0].After
	}
	if got := loss(); got != "shut" {
		t.Errorf("before anybody proved the authority: %s", got)
	}
	h.must("prove", "tide-authority", "-with", filepath.Join(dir, "ca"))
	if l := h.login("pump"); l.Reach.Reach != "thin" || !strings.Contains(l.Reach.Why, "authority") {
		t.Errorf("with the authority: %+v", l.Reach)
	}
	h.must("key", "mark-lost", "mine", "-reason", "left on the ferry", "-yes")
	if l := h.login("pump"); l.Reach.Reach != "thin" || l.Reach.Holders != 1 {
		t.Errorf("with the authority alone: %+v", l.Reach)
	}
	h.must("key", "mark-lost", "tide-authority", "-reason", "left on the ferry", "-yes")
	if l := h.login("pump"); l.Reach.Reach != "shut" {
		t.Errorf("with neither: %+v", l.Reach)
	}
	// Read by a user without root's rights, the others' files are not known, and said so with what would change it.
	h.client("sweep", "pump", "-with", h.private("mine"))
	in := h.access("pump")
	if m := in.Machine; in.Whole || m.Rights == nil || *m.Rights != "user" || m.Remedy == nil || m.Accounts != 4 ||
		!slices.ContainsFunc(m.Unread, func(u apiclient.UnreadAccount) bool { return u.User == "root" }) {
		t.Errorf("the machine: %+v", in.Machine)
	}
	if r := h.client("openers", "pump"); r.status != 3 || !strings.Contains(r.out, "NOPASSWD") {
		t.Errorf("openers: %d\n%s", r.status, r.out)
	}
	// The file is root's: nobody is told that a line was placed, and what root types is said.
	r = h.client("instance", "steward", "pump", "-with", h.private("mine"))
	if r.status == 0 || !strings.Contains(r.err, "sudo tee -a /etc/ssh/keys/warden") {
		t.Errorf("placing in a file of root's: %d %s", r.status, r.err)
	}
	// Somebody who may not read the settings is told that they are not known.
	m.Secret(t, "/etc/ssh/sshd_config.d/10.conf")
	h.client("sweep", "pump", "-with", h.private("mine"))
	var after apiclient.Login
	if err := json.Unmarshal([]byte(h.must("login", "show", "pump", "-json")), &after); err != nil {
		t.Fatal(err)
	}
	if s := after.Server; s == nil || s.Unread == nil || len(after.Also) != 1 {
		t.Errorf("the server, unread: %+v %q", s, after.Also)
	}
}

// TestTheHolderOfAnAuthorityGetsSomebodyBackIn restores a login whose only key is lost by a certificate of an
// authority that its server trusts.
func TestTheHolderOfAnAuthorityGetsSomebodyBackIn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "ca", "-t", "ed25519", "-N", "")
	sshKeygen(t, dir, "helper", "-t", "ed25519", "-N", "")
	h.must("key", "new", "gone")
	m := sshdtest.StartMachine(t, "PasswordAuthentication no\nTrustedUserCAKeys /etc/ssh/ca.pub\n", map[string]string{
		"/etc/ssh/ca.pub":                   read(t, filepath.Join(dir, "ca.pub")),
		"/home/warden/.ssh/authorized_keys": read(t, h.private("gone.pub")),
	})
	list := writeFile(t, filepath.Join(dir, "machines.csv"), fmt.Sprintf(
		"name,address,port,login\npump,127.0.0.1,%d,%s\n", m.Port, sshdtest.MachineUser,
	))
	h.client("instance", "adopt", "-list", list, "-with", h.private("gone"), "-yes")
	h.must("key", "import", "tide-authority", "-from", filepath.Join(dir, "ca.pub"))
	h.must("prove", "tide-authority", "-with", filepath.Join(dir, "ca"))
	h.must("key", "mark-lost", "gone", "-reason", "left on the ferry", "-yes")
	var routes apiclient.Routes
	if err := json.Unmarshal([]byte(h.must("restore", "routes", "pump", "-json")), &routes); err != nil {
		t.Fatal(err)
	}
	first := routes.Routes[0]
	if first.Route != "standing-key" || !first.Possible ||
		!strings.Contains(strings.Join(first.Agree, " "), "ines (with a certificate of tide-authority)") {
		t.Errorf("the best way back in is %+v", first)
	}
	start := []string{
		"restore", "start", "pump", "-route", "standing-key", "-new", "back", "-lost", "gone",
		"-with", filepath.Join(dir, "helper"),
	}
	if err := exec.Command(
		"ssh-keygen", "-q", "-s", filepath.Join(dir, "ca"), "-I", "help", "-n", sshdtest.MachineUser,
		filepath.Join(dir, "helper.pub"),
	).Run(); err != nil {
		t.Fatal(err)
	}
	if r := h.client(start...); r.status != 0 {
		t.Fatalf("with a certificate: %+v", r)
	}
	if file := read(t, filepath.Join(m.Home("warden"), ".ssh/authorized_keys")); file != read(t, h.private("back.pub")) {
		t.Errorf("the file is\n%s", file)
	}
	// A certificate shows nothing of the key that it is of.
	h.must("key", "import", "helper", "-from", filepath.Join(dir, "helper.pub"))
	if r := h.client("prove", "pump", "-with", filepath.Join(dir, "helper")); r.status == 0 {
		t.Errorf("a login by a certificate proved the key: %+v", r)
	}
}
