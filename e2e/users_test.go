package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
)

// disk is the folder of a stand-in instance's disk.
func (h *house) disk(instance string) string {
	h.t.Helper()
	return strings.Split(h.keysFile(instance), "/home/")[0]
}

// user adds an OS user to a stand-in machine, with what is in their authorized_keys file.
func (h *house) user(disk, name, uid, shell, keys string) {
	h.t.Helper()
	passwd := filepath.Join(disk, "etc/passwd")
	line := name + ":x:" + uid + ":" + uid + "::/home/" + name + ":" + shell + "\n"
	if err := os.WriteFile(passwd, []byte(read(h.t, passwd)+line), 0o644); err != nil {
		h.t.Fatal(err)
	}
	folder := filepath.Join(disk, "home", name, ".ssh")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, "authorized_keys"), []byte(keys), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

func (h *house) access(instance string) (in apiclient.InstanceAccess) {
	h.t.Helper()
	status, body := h.call("GET", "/api/v1/instances/"+instance+"/access", h.token, "")
	if err := json.Unmarshal([]byte(body), &in); err != nil || status != 200 {
		h.t.Fatalf("%d %s %v", status, body, err)
	}
	return in
}

// openers runs the command, which ends with 3 where something is beyond the grants or not known.
func (h *house) openers(args ...string) string {
	h.t.Helper()
	r := h.client(append([]string{"openers"}, args...)...)
	if r.status != 0 && r.status != 3 {
		h.t.Fatalf("openers %v: %d %s%s", args, r.status, r.out, r.err)
	}
	return r.out
}

// TestEveryUserOfAMachineIsReadAndTold adds users behind the service's back.
func TestEveryUserOfAMachineIsReadAndTold(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	if in := h.access("door"); !in.Whole || len(in.Logins) != 1 || in.Machine.Accounts != 2 || in.Machine.NoWay != 1 ||
		*in.Machine.Rights != "sudo" {
		t.Errorf("a new machine: %+v", in)
	}
	if r := h.client("openers", "door"); r.status != 0 {
		t.Errorf("a new machine: %d %s", r.status, r.out)
	}
	disk := h.disk("door")
	mallory := h.pairOutside("mallory")
	h.must("key", "new", "ours")
	ours := strings.TrimSpace(read(t, h.private("ours")+".pub"))
	h.user(disk, "deploy", "1001", "/bin/sh", mallory+"\n"+ours+"\n")
	h.user(disk, "daemon", "1002", "/usr/sbin/nologin", "")
	h.user(disk, "linked", "1003", "/bin/sh", "")
	if err := os.Remove(filepath.Join(disk, "home/linked/.ssh/authorized_keys")); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/shadow", filepath.Join(disk, "home/linked/.ssh/authorized_keys")); err != nil {
		t.Fatal(err)
	}
	r := h.client("sweep", "door", "-json")
	var swept struct{ Logins []apiclient.SweepItem }
	if err := json.Unmarshal([]byte(r.out), &swept); err != nil || r.status != 3 || len(swept.Logins) != 2 {
		t.Errorf("sweep: %d %v %s", r.status, err, r.out)
	}
	if own := swept.Logins[0]; own.Login != "debian@door" || *own.Unread != 1 || *own.OtherWays != 0 ||
		own.Missing+own.Ungranted+own.Strangers != 0 {
		t.Errorf("of the login by which the machine is read: %+v", own)
	}
	in := h.access("door")
	if in.Whole || len(in.Logins) != 2 || in.Machine.UnreadTotal != 1 || in.Machine.Unread[0].User != "linked" {
		t.Fatalf("it is %+v", in)
	}
	deploy := in.Logins[1]
	if deploy.Reach.OsUser == "debian" {
		deploy = in.Logins[0]
	}
	if deploy.FoundAt == nil || len(deploy.Strangers) != 1 || len(deploy.Openers) != 1 ||
		deploy.Openers[0].Status != "ungranted" || deploy.Reach.Reach == "shut" {
		t.Errorf("deploy@door is %+v", deploy)
	}
	if r := h.client("find", "mallory"); r.status != 0 || !strings.Contains(r.out, "deploy@door") {
		t.Errorf("find: %d %s", r.status, r.out)
	}
	r = h.client("openers", "door")
	for _, want := range []string{"deploy@door", "mallory", "linked", "ours"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("openers does not tell of %s:\n%s", want, r.out)
		}
	}
	if r.status != 3 {
		t.Errorf("openers: %d", r.status)
	}
	if e := h.told("login.found")[0]; e.Subject != "deploy@door" {
		t.Errorf("the daybook says %+v", e)
	}
	// Granted from here, it is as wanted; and what is taken away is noticed.
	h.must("login", "add", "deploy@door")
	h.must("settle", "deploy@door", "-ungranted", "accept", "-yes")
	if l := h.login("deploy@door"); l.FoundAt != nil || l.Openers[0].Status != "in place" {
		t.Errorf("accepted: %+v", l)
	}
	h.refused("has-history", "login", "forget", "deploy@door")
	h.refused("main-login", "login", "forget", "debian@door")
	if err := os.RemoveAll(filepath.Join(disk, "home/deploy")); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	if l := h.login("deploy@door"); len(l.Strangers) != 0 || l.Openers[0].Status != "missing" {
		t.Errorf("the folder is gone: %+v", l)
	}
	// A recorded key whose line is limited is told with its limit, wherever it is listed.
	file := filepath.Join(disk, "home/debian/.ssh/authorized_keys")
	mine := "ssh-ed25519 " + strings.Fields(read(t, h.private("mine")+".pub"))[1]
	limited := strings.Replace(read(t, file), mine, "cert-authority "+mine, 1)
	if limited == read(t, file) {
		t.Fatalf("no line of mine in\n%s", limited)
	}
	if err := os.WriteFile(file, []byte(limited), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	for _, args := range [][]string{{"openers", "door"}, {"opens", "mine"}, {"login", "show", "debian@door"}} {
		if r := h.client(args...); !strings.Contains(r.out, "a certificate authority") {
			t.Errorf("%v does not tell of the limit:\n%s", args, r.out)
		}
	}
	p := h.console(t)
	p.open("/instances/door")
	p.says("a certificate authority, not a key")
	// A fingerprint from an old log leads to where the key was.
	var traced apiclient.Trace
	r = h.client("trace", mallory, "-json")
	if err := json.Unmarshal([]byte(r.out), &traced); err != nil || r.status != 0 || len(traced.Matches) != 1 {
		t.Fatalf("trace: %d %v %s", r.status, err, r.out)
	}
	if m := traced.Matches[0]; m.Kind != apiclient.TracedKindFormer || m.Name != "deploy@door" ||
		m.Former.Comment != "mallory" || !m.Former.GoneBy.After(m.Former.SeenAt) {
		t.Errorf("traced: %+v %+v", m, m.Former)
	}
	out, err := exec.Command("ssh-keygen", "-lE", "md5", "-f", h.private("ours")+".pub").Output()
	if err != nil {
		t.Fatal(err)
	}
	if r := h.client("trace", strings.Fields(string(out))[1]); r.status != 0 || !strings.Contains(r.out, "gone by") {
		t.Errorf("the recorded key by MD5: %+v", r)
	}
	// Users of a directory that lists nobody are not taken for gone.
	nsswitch := filepath.Join(disk, "etc/nsswitch.conf")
	if err := os.WriteFile(nsswitch, []byte("passwd: files sss\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.must("login", "add", "elsewhere@door")
	h.client("sweep", "door")
	if l := h.login("elsewhere@door"); l.Reach.SweptAt != nil || l.Reach.SweepError == nil {
		t.Errorf("a user of a directory: %+v", l.Reach)
	}
	if in := h.access("door"); in.Whole || !strings.Contains(in.Machine.Unread[len(in.Machine.Unread)-1].User, "sss") {
		t.Errorf("the machine: %+v", in.Machine)
	}
	h.must("login", "add", "backup@door")
	h.must("login", "forget", "backup@door")
	h.refused("no-such-login", "login", "show", "backup@door")
	h.refused("bad-login", "login", "add", "door")
}
