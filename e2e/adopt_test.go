package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/sshio/sshdtest"
)

func TestAListOfMachinesIsAdoptedAfterTheirHostKeysWereShown(t *testing.T) {
	t.Parallel()
	one, two := sshdtest.StartConfined(t), sshdtest.StartConfined(t)
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	for _, s := range []*sshdtest.Server{one, two} {
		if err := os.WriteFile(s.KeysFile, []byte(read(t, h.private("mine.pub"))), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	list := filepath.Join(t.TempDir(), "machines.csv")
	text := fmt.Sprintf(
		"name,address,port,login,team\n"+
			"mast,127.0.0.1,%d,%s,field\ndead,127.0.0.1,1,pi,field\nno-port,127.0.0.1,ssh,pi,field\n",
		one.Port,
		one.User,
	)
	if err := os.WriteFile(list, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	r := h.client("instance", "adopt", "-list", list)
	if r.status != 2 || !strings.Contains(r.out, ssh.FingerprintSHA256(one.HostKey)) ||
		!strings.Contains(r.err, "adopts 1 of 3") ||
		h.must("instance", "list", "-q") != "" {
		t.Errorf("before they were compared: %d\n%s%s", r.status, r.out, r.err)
	}
	r = h.client("instance", "adopt", "-list", list, "-with", h.private("mine"), "-steward", "-yes", "-label", "site=pier")
	if r.status != 3 || !strings.Contains(r.out, "1 adopted, 2 left out") || !strings.Contains(r.err, "line 3, dead: ") ||
		!strings.Contains(r.err, `line 4, no-port: "ssh" is no port`) {
		t.Errorf("%d\n%s%s", r.status, r.out, r.err)
	}
	i := h.instance("mast")
	if i.Labels["team"] != "field" || i.Labels["site"] != "pier" || !h.login("mast").Reach.Steward {
		t.Errorf("%+v", i)
	}
	// An OpenSSH client configuration, through the standard input.
	config := fmt.Sprintf(
		"Host mast-again\n  HostName 127.0.0.1\n  Port %d\nHost pier\n  HostName 127.0.0.1\n  Port %d\nHost far\n  "+
			"ProxyJump pier\nHost *\n  User %s\n",
		one.Port,
		two.Port,
		two.User,
	)
	r = h.clientIn(config, "instance", "adopt", "-list", "-", "-yes")
	if r.status != 3 || !strings.Contains(r.out, "recorded already as mast") ||
		!strings.Contains(r.out, "1 adopted, 1 left out, 1 recorded before") ||
		!strings.Contains(r.err, "the jump host pier") {
		t.Errorf("%d\n%s%s", r.status, r.out, r.err)
	}
	if r := h.clientIn(config, "instance", "adopt", "-list", "-", "-yes", "-json"); r.status != 3 ||
		!strings.Contains(r.out, `"outcome": "recorded already as pier"`) {
		t.Errorf("again: %d\n%s%s", r.status, r.out, r.err)
	}
	for name, c := range map[string]struct {
		stdin string
		args  []string
		want  string
	}{
		"empty":          {"", []string{"-list", "-"}, "no machine"},
		"no heading":     {"mast,127.0.0.1\n", []string{"-list", "-"}, "heading"},
		"no file":        {"", []string{"-list", "/nowhere"}, "no such file"},
		"name with list": {"", []string{"mast", "-list", "-"}, "come from the list"},
		"nothing":        {"", nil, "-list FILE"},
	} {
		if r := h.clientIn(c.stdin, append([]string{"instance", "adopt"}, c.args...)...); r.status == 0 ||
			!strings.Contains(r.err, c.want) {
			t.Errorf("%s: %d %s", name, r.status, r.err)
		}
	}
}

func TestConsoleAdoptsMachinesAndComparesTheirHostKeys(t *testing.T) {
	t.Parallel()
	one, two := sshdtest.StartConfined(t), sshdtest.StartConfined(t)
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/instances")
	p.press("Adopt machines")
	p.fill("Name", "mast")
	p.fill("Host name or address", "127.0.0.1")
	p.fill("SSH port", fmt.Sprint(one.Port))
	p.fill("Log in as", one.User)
	p.press("Ask it for its host keys")
	p.says(ssh.FingerprintSHA256(one.HostKey))
	if out := h.must("instance", "list", "-q"); out != "" {
		t.Errorf("recorded before it was compared: %s", out)
	}
	p.press("Pin these host keys and adopt 1 machine")
	p.says("1 machine recorded")
	p.open("/adopt")
	p.press("A list")
	p.paste("CSV with the heading", fmt.Sprintf(
		"name,address,port,login\nmast,127.0.0.1,%d,%s\npier,127.0.0.1,%d,%s\ndead,127.0.0.1,1,pi\n", one.Port,
		one.User, two.Port, two.User,
	))
	p.press("Ask them for their host keys")
	p.says("recorded already as mast")
	p.says("connection refused")
	p.says(ssh.FingerprintSHA256(two.HostKey))
	p.press("Pin these host keys and adopt 1 machine")
	p.says("1 machine recorded")
	if out := h.must("instance", "list", "-q"); out != "mast\npier\n" {
		t.Errorf("adopted: %q", out)
	}
	if got := h.instance("pier").Connection.HostKeys[0]; got.Sha256 != ssh.FingerprintSHA256(two.HostKey) ||
		!strings.Contains(got.Learnt, "compared in the console") {
		t.Errorf("pinned: %+v", got)
	}
}
