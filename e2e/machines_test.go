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

// token makes one and returns its secret.
func (h *house) newToken(args ...string) string {
	h.t.Helper()
	return strings.TrimSpace(h.must(append([]string{"token", "new", "-q"}, args...)...))
}

func (h *house) refusedTo(token, code string, args ...string) {
	h.t.Helper()
	r := h.as(token, append(args, "-json")...)
	var p apiclient.Problem
	if err := json.Unmarshal([]byte(r.err), &p); err != nil || p.Code != code || r.status == 0 {
		h.t.Errorf("%v: status %d, code %q, want %q: %s%s", args, r.status, p.Code, code, r.out, r.err)
	}
}

func TestAMachineHasTokensAloneForWhatTheyAreFor(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("operator", "add", "ci", "-machine", "-role", "operator")
	h.refused("bad-machine", "operator", "add", "cd", "-machine", "-role", "admin")
	password := writeFile(t, filepath.Join(h.dir, "ci.password"), "harbour kittiwake")
	h.refused("bad-machine", "operator", "change", "ci", "-password-file", password, "-reason", "x")
	h.refused("bad-machine", "operator", "change", "ci", "-role", "admin", "-reason", "x")
	h.refused("no-machine", "token", "new", "for-ines", "-for", "ines")
	h.refused("bad-charter", "token", "new", "x", "-for", "ci", "-only", "settle")
	h.refused("role-too-high", "token", "new", "x", "-for", "ci", "-role", "admin")
	if status, out := h.call("POST", "/api/v1/session", "", `{"name": "ci", "password": ""}`); status == 200 ||
		status == 204 {
		t.Errorf("a machine signs in: %d %s", status, out)
	}

	path := h.charter(t, "access:\n"+may("mine, second", "debian@door"))
	p := h.console(t)
	p.open("/settings/people")
	p.says("operator, machine")
	compare := h.newToken("gate", "-for", "ci", "-only", "compare")
	if r := h.as(compare, "charter", "compare", path); r.status != 3 {
		t.Errorf("%+v", r)
	}
	h.refusedTo(compare, "role-too-low", "charter", "settle", path, "-yes")
	h.refusedTo(compare, "token-for-less", "key", "list")
	h.refusedTo(compare, "token-for-less", "charter", "write", "x")

	settle := h.newToken("settle-field", "-for", "ci", "-only", "settle", "-charter", "field")
	before := read(t, h.keysFile("door"))
	h.refusedTo(settle, "not-signed", "charter", "settle", path, "-yes")
	h.refusedTo(settle, "token-for-less", "grant", "add", "second", "debian@door")
	other := writeFile(
		t,
		filepath.Join(t.TempDir(), "a.yaml"),
		"charter: other\naccess:\n"+may("mine, second", "debian@door"),
	)
	h.refusedTo(settle, "token-for-less", "charter", "settle", other, "-yes")

	// A signature by a person who may, and nobody else's, over these files, after this version.
	sig := filepath.Join(t.TempDir(), "field.sig")
	h.must("charter", "sign", path, "-with", h.private("mine"), "-into", sig)
	evil := h.charter(t, "access:\n"+may("mine, third", "debian@door"))
	h.refusedTo(settle, "bad-signature", "charter", "settle", evil, "-signed", sig, "-yes")
	sshKeygen(t, h.dir, "unknown", "-t", "ed25519", "-N", "")
	wrong := filepath.Join(t.TempDir(), "wrong.sig")
	h.must("charter", "sign", path, "-with", filepath.Join(h.dir, "unknown"), "-into", wrong)
	h.refusedTo(settle, "bad-signature", "charter", "settle", path, "-signed", wrong, "-yes")
	if read(t, h.keysFile("door")) != before {
		t.Error("something was changed")
	}
	if r := h.as(settle, "charter", "settle", path, "-signed", sig, "-yes"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if text := read(t, h.keysFile("door")); !strings.Contains(text, " second\n") {
		t.Errorf("the file is\n%s", text)
	}
	if r := h.as(settle, "charter", "settle", path, "-yes"); r.status != 0 { // it is so already
		t.Errorf("again: %+v", r)
	}
	var d apiclient.CharterDetail
	if err := json.Unmarshal([]byte(h.must("charter", "show", "field", "-json")), &d); err != nil ||
		d.Versions[0].SettledBy != "ci" || d.Versions[0].SignedBy == nil || *d.Versions[0].SignedBy != "mine" {
		t.Errorf("%v %+v", err, d.Versions)
	}
	h.refusedTo(settle, "token-for-less", "charter", "undo", "field", "-yes")
	// What was signed once does not bring an earlier version back.
	h.must("charter", "settle", h.charter(t, "access:\n"+may("mine, third", "debian@door")), "-yes")
	h.refusedTo(settle, "bad-signature", "charter", "settle", path, "-signed", sig, "-yes")
	if out := h.must("daybook", "list", "-json"); !strings.Contains(out, `"via": "machine"`) {
		t.Errorf("the daybook does not show the machine:\n%s", out)
	}
	// An account that is closed has no token that works.
	h.must("operator", "leave", "ci", "-to", "ines", "-yes", "-reason", "moved")
	if r := h.as(settle, "charter", "compare", path); r.status != 5 {
		t.Errorf("closed: %+v", r)
	}
}

// TestAPushToAPlainGitServerIsComparedAndSettled has the hooks of the docs in a bare repository.
func TestAPushToAPlainGitServerIsComparedAndSettled(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("operator", "add", "ci", "-machine", "-role", "operator")
	env := func(name, token string) string {
		return writeFile(t, filepath.Join(h.dir, name), "export PLUMLATCH_URL="+h.url+" PLUMLATCH_TOKEN="+token+"\n")
	}
	hooks := map[string]string{
		"pre-receive":  env("compare.env", h.newToken("gate", "-for", "ci", "-only", "compare")),
		"post-receive": env("settle.env", h.newToken("settle", "-for", "ci", "-only", "settle", "-charter", "field")),
	}
	bare, work := filepath.Join(t.TempDir(), "access.git"), t.TempDir()
	git := func(in string, args ...string) (string, error) {
		cmd := exec.Command(
			"git",
			append([]string{"-c", "user.name=oona", "-c", "user.email=oona@wrackline.example"}, args...)...)
		cmd.Dir = in
		cmd.Env = append(
			os.Environ(),
			"PATH="+bin+":"+os.Getenv("PATH"),
			"GIT_CONFIG_GLOBAL=/dev/null",
			"GIT_CONFIG_SYSTEM=/dev/null",
		)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	must := func(in string, args ...string) string {
		t.Helper()
		out, err := git(in, args...)
		if err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
		return out
	}
	must(work, "init", "-q", "--bare", bare)
	for hook, file := range hooks {
		text := strings.ReplaceAll(
			read(t, filepath.Join("..", "docs", "examples", "hooks", hook)),
			"${PLUMLATCH_HOOK_ENV:-",
			"${UNSET_"+
				strings.ToUpper(strings.ReplaceAll(hook, "-", "_"))+":-",
		)
		for _, place := range []string{"/etc/plumlatch/compare.env", "/etc/plumlatch/settle.env"} {
			text = strings.ReplaceAll(text, place, file)
		}
		if err := os.WriteFile(filepath.Join(bare, "hooks", hook), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	must(work, "init", "-q", "-b", "main")
	folder := filepath.Join(work, "charters", "field")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	declare := func(access string) {
		writeFile(t, filepath.Join(folder, "access.yaml"), "charter: field\naccess:\n"+access)
		h.must("charter", "sign", folder, "-with", h.private("mine"), "-into", filepath.Join(folder, "field.sig"))
		must(work, "add", "-A")
		must(work, "commit", "-qm", "Change who may open the door")
	}
	declare(may("mine, second", "debian@door", "why: the field team"))
	out := must(work, "push", bare, "main")
	if !strings.Contains(out, "| place the key | second |") || !strings.Contains(out, "field is settled") {
		t.Errorf("the push says\n%s", out)
	}
	if _, err := h.ssh(h.instance("door"), "second", "true"); err != nil {
		t.Error(err)
	}
	// One that would shut the door is refused, and main stays.
	declare(may("nobody-has-it", "debian@door"))
	if out, err := git(work, "push", bare, "main"); err == nil || !strings.Contains(out, "refused: field") {
		t.Errorf("a flawed push: %v\n%s", err, out)
	}
	must(work, "reset", "-q", "--hard", "HEAD~1")
	writeFile(t, filepath.Join(folder, "access.yaml"), "charter: field\n")
	must(work, "add", "-A")
	must(work, "commit", "-qm", "Let nobody in")
	if out, err := git(work, "push", bare, "main"); err == nil || !strings.Contains(out, "refused") {
		t.Errorf("a push that shuts a login: %v\n%s", err, out)
	}
	if text := read(t, h.keysFile("door")); !strings.Contains(text, " second\n") || !strings.Contains(text, " mine\n") {
		t.Errorf("the file is\n%s", text)
	}
}
