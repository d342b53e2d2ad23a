package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// scripts are those of docs/programs.md, by the heading they are under.
func scripts(t *testing.T) map[string]string {
	t.Helper()
	page := read(t, filepath.Join("..", "docs", "programs.md"))
	found := map[string]string{}
	for _, m := range regexp.MustCompile("(?s)\n## ([^\n]+)\n(.*?)```sh\n(.*?)```").FindAllStringSubmatch(page, -1) {
		if strings.Contains(m[2], "\n## ") { // it is of a later heading
			m[1] = m[2][strings.LastIndex(m[2], "\n## ")+4:]
			m[1] = m[1][:strings.IndexByte(m[1], '\n')]
		}
		found[m[1]] = m[3]
	}
	return found
}

// TestTheScriptsOfTheDocsWork types the scripts of docs/programs.md with the statuses that they are to end with.
func TestTheScriptsOfTheDocsWork(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	dir := t.TempDir()
	run := func(heading string, more ...string) (string, int) {
		t.Helper()
		script := scripts(t)[heading]
		if script == "" {
			t.Fatalf("docs/programs.md has no script under %q", heading)
		}
		cmd := exec.Command("sh", "-c", script)
		cmd.Dir = dir
		cmd.Env = append(append(
			os.Environ(), "HOME="+h.home(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token,
			"PATH="+bin+":"+os.Getenv("PATH"),
		), more...)
		out, err := cmd.CombinedOutput()
		var ended *exec.ExitError
		if err != nil && !errors.As(err, &ended) {
			t.Fatal(err)
		}
		return string(out), cmd.ProcessState.ExitCode()
	}
	if out, status := run("A nightly check"); status != 0 || out != "" {
		t.Errorf("all is well: %d %s", status, out)
	}
	file := h.keysFile("door")
	sshKeygen(t, dir, "foreign", "-t", "ed25519", "-N", "", "-C", "lars@lamp")
	if err := os.WriteFile(file, []byte(read(t, file)+read(t, filepath.Join(dir, "foreign.pub"))), 0o600); err != nil {
		t.Fatal(err)
	}
	for night := range 2 {
		if out, status := run("A nightly check"); status != 3 || !strings.Contains(out, "stranger: ") {
			t.Errorf("a stranger in night %d: %d %s", night, status, out)
		}
	}
	config := filepath.Join(h.disk("door"), "etc/ssh/sshd_config")
	if err := os.WriteFile(config, []byte("AuthorizedKeysCommand /opt/names %u\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, status := run("A nightly check"); status != 3 || !strings.Contains(out, "debian@door: 1 other ways in") {
		t.Errorf("a program: %d %s", status, out)
	}
	if out, status := run("A nightly check", "PLUMLATCH_URL=http://127.0.0.1:1"); status != 7 {
		t.Errorf("no service: %d %s", status, out)
	}
	sshKeygen(t, dir, "deploy", "-t", "ed25519", "-N", "")
	for range 2 { // twice is once
		if out, status := run("A step of a pipeline", "BUILD=7"); status != 0 || !strings.Contains(out, "atlas-7") {
			t.Errorf("the step: %d %s", status, out)
		}
	}
	sshKeygen(t, dir, "other", "-t", "ed25519", "-N", "")
	if err := os.Rename(filepath.Join(dir, "other.pub"), filepath.Join(dir, "deploy.pub")); err != nil {
		t.Fatal(err)
	}
	if out, status := run("A step of a pipeline", "BUILD=8"); status != 6 {
		t.Errorf("another key under the name: %d %s", status, out)
	}
	if out, status := run("An inventory"); status != 0 || !strings.HasPrefix(out, `"name","address"`) ||
		!strings.Contains(out, `"door","127.`) || !strings.Contains(out, `"debian","running"`) {
		t.Errorf("the inventory: %d\n%s", status, out)
	}
}

// TestALaunchCanBeRepeated launches twice, and with other facts.
func TestALaunchCanBeRepeated(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	launch := []string{
		"instance",
		"launch",
		"door",
		"-image",
		"debian-12",
		"-size",
		"small",
		"-new",
		"mine",
		"-label",
		"a=b",
	}
	h.must(launch...)
	before := h.cloudInstances()
	h.must(launch...)
	if n := h.cloudInstances(); n != before {
		t.Errorf("%d instances, there were %d", n, before)
	}
	for _, other := range [][]string{
		{"instance", "launch", "door", "-image", "ubuntu-24.04", "-size", "small", "-key", "mine", "-label", "a=b"},
		{"instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "mine"},
		{"instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "none", "-label", "a=b"},
	} {
		h.refused("name-taken", other...)
	}
	// What the image does not take is refused before a pair is made.
	h.refused("wrong-type", "instance", "launch", "desk", "-image", "windows-2022", "-size", "small", "-new", "curve")
	h.refused("no-such-key", "key", "show", "curve")
	if _, err := os.Stat(h.private("curve")); err == nil {
		t.Error("a private key was written for nothing")
	}
}
