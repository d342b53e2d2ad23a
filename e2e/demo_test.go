package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"time"

	"plumlatch/internal/pgboot/pgtest"
)

// demoDir is a folder that the user postgres can reach.
func demoDir(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "plumlatch-demo-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func startDemo(t testing.TB, dir string, args ...string) (*process, *house) {
	t.Helper()
	pgtest.Turn(t)
	p := start(t, "plumlatchd", append([]string{"-demo", "-data", dir, "-listen", "127.0.0.1:0"}, args...)...)
	p.await(t, `(Ctrl-C stops all of it)`)
	data, err := os.ReadFile(filepath.Join(dir, "demo.env"))
	if err != nil {
		t.Fatal(err)
	}
	value := func(name string) string {
		m := regexp.MustCompile(`(?m)^export ` + name + `=(.+)$`).FindStringSubmatch(string(data))
		if m == nil {
			t.Fatalf("demo.env has no %s:\n%s", name, data)
		}
		return m[1]
	}
	for _, name := range []string{"PLUMLATCH_TOKEN_OPERATOR", "PLUMLATCH_TOKEN_VIEWER"} {
		value(name)
	}
	return p, &house{t: t, dir: t.TempDir(), url: value("PLUMLATCH_URL"), token: value("PLUMLATCH_TOKEN")}
}

// running counts the processes that have the folder on their command line.
func running(dir string) int {
	out, _ := exec.Command("pgrep", "-f", dir).Output() // status 1 means none
	return len(strings.Fields(string(out)))
}

func TestDemoStartsWholeStopsWholeAndKeepsItsData(t *testing.T) {
	dir := demoDir(t)
	p, h := startDemo(t, dir)
	if out := h.must("instance", "list", "-q", "-all"); len(strings.Fields(out)) != 27 {
		t.Errorf("the fleet has %d instances", len(strings.Fields(out)))
	}
	if out := h.must("opens", "hides-shared", "-q"); len(strings.Fields(out)) != 9 {
		t.Errorf("hides-shared opens %s", out)
	}
	if r := h.client("openers", "atlas-db"); r.status != 3 || !strings.Contains(r.out, "missing") {
		t.Errorf("openers of atlas-db: status %d\n%s%s", r.status, r.out, r.err)
	}
	if out := h.must("key", "list", "-q", "-type", "rsa"); !strings.Contains(out, "id_rsa_2") {
		t.Errorf("rsa keys: %s", out)
	}
	info, err := os.Stat(filepath.Join(dir, "demo.env"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("demo.env: %v %v", info, err)
	}
	if second := exec.Command(filepath.Join(bin, "plumlatchd"), "-demo", "-data", dir, "-listen", "127.0.0.1:0"); true {
		if out, err := second.CombinedOutput(); err == nil || !strings.Contains(string(out), "in use by another plumlatchd") {
			t.Errorf("a second start in the same folder: %v %s", err, out)
		}
	}
	h.must("instance", "launch", "extra", "-image", "fedora-42", "-size", "small", "-new", "extra-key")
	if err := p.Stop(20 * time.Second); err != nil || p.Err() != nil {
		t.Fatalf("the demo ended with %v, %v", err, p.Err())
	}
	if n := running(dir); n != 0 {
		t.Errorf("%d processes are left", n)
	}
	_, again := startDemo(t, dir)
	if again.token != h.token {
		t.Error("the second start made new tokens")
	}
	again.dir = h.dir // where the private key is
	if out, err := again.ssh(again.instance("extra"), "extra-key", "whoami"); err != nil || out != "fedora" {
		t.Errorf("after the second start: %s %v", out, err)
	}
}

func TestDemoKilledLeavesNothingRunningAndStartsAgain(t *testing.T) {
	dir := demoDir(t)
	p, _ := startDemo(t, dir)
	p.kill(t)
	eventually(t, "its PostgreSQL and its cloud end", func() bool { return running(dir) == 0 })
	_, h := startDemo(t, dir)
	if out := h.must("instance", "list", "-q", "-all"); len(strings.Fields(out)) != 27 {
		t.Errorf("after the kill: %s", out)
	}
}

func TestDemoSizeGrowsTheFleet(t *testing.T) {
	_, h := startDemo(t, demoDir(t), "-demo-size", "60")
	if out := h.must("instance", "list", "-q", "-all"); len(strings.Fields(out)) != 60 {
		t.Errorf("the fleet has %d instances", len(strings.Fields(out)))
	}
}
