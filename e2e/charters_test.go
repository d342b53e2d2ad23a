package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
)

// chartered has instances with a steward key each, which the key mine opens, and more keys that are recorded.
func (h *house) chartered(t *testing.T, instances ...string) {
	t.Helper()
	for _, k := range []string{"mine", "second", "third"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	for _, i := range instances {
		h.must("instance", "launch", i, "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	}
	h.must(append([]string{"sweep"}, instances...)...)
}

// charter writes a file of a charter called field, and returns its path.
func (h *house) charter(t *testing.T, text string) string {
	t.Helper()
	return writeFile(t, filepath.Join(t.TempDir(), "field.yaml"), "charter: field\n"+text)
}

// may is an entry of access: keys, with commas between, and a login or a pattern.
func may(keys, login string, more ...string) string {
	out := fmt.Sprintf("- who: {keys: [%s]}\n  logins: [%q]\n", keys, login)
	for _, m := range more {
		out += "  " + m + "\n"
	}
	return out
}

func (h *house) compared(status int, args ...string) apiclient.CharterComparison {
	h.t.Helper()
	r := h.client(append([]string{"charter", "compare", "-json"}, args...)...)
	var c apiclient.CharterComparison
	if err := json.Unmarshal([]byte(r.out), &c); err != nil || r.status != status {
		h.t.Fatalf("%v: %v, status %d, want %d\n%s%s", args, err, r.status, status, r.out, r.err)
	}
	return c
}

func changesOf(c apiclient.CharterComparison) string {
	var out []string
	for _, one := range c.Changes {
		var words []string
		for _, w := range []*string{new(string(one.Kind)), one.Key, one.Login, one.Instance} {
			if w != nil && *w != "" {
				words = append(words, *w)
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	return strings.Join(out, "; ")
}

func (h *house) settlement(name string) apiclient.CharterSettlement {
	h.t.Helper()
	var page apiclient.CharterSettlementPage
	_, out := h.call("GET", "/api/v1/charter-settlements?charter="+name, h.token, "")
	if err := json.Unmarshal([]byte(out), &page); err != nil || len(page.Items) == 0 {
		h.t.Fatal(err, out)
	}
	return page.Items[0]
}

func TestACharterIsComparedSettledRepeatedAndTakenBack(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door", "mast")
	before := read(t, h.keysFile("door"))

	// What there is, as a file, changes no line.
	whole := filepath.Join(t.TempDir(), "whole.yaml")
	h.must("charter", "write", "field", "-into", whole)
	h.must("charter", "check", whole)
	if c := h.compared(3, whole); changesOf(c) != "own mine debian@door; own mine debian@mast" {
		t.Errorf("what is written differs: %s", changesOf(c))
	}
	h.must("charter", "settle", whole, "-yes", "-reason", "as it is")
	if c := h.compared(0, whole); len(c.Changes) > 0 || read(t, h.keysFile("door")) != before {
		t.Errorf("settled, it differs: %s", changesOf(c))
	}
	if r := h.client("charter", "settle", whole); r.status != 0 { // with nothing to ask
		t.Errorf("again: %+v", r)
	}

	// One key more, and another in the place of the first.
	two := h.charter(
		t,
		"access:\n"+may("second, third", "debian@door", "why: the field team")+may("mine, second", "debian@mast"),
	)
	c := h.compared(3, two)
	if changesOf(
		c,
	) != "place second debian@door; place third debian@door; place second debian@mast; withdraw mine debian@door" {
		t.Errorf("%s", changesOf(c))
	}
	if r := h.client("charter", "settle", two); r.status != 2 {
		t.Errorf("nobody is asked: %+v", r)
	}
	h.refused("moved", "charter", "settle", two, "-as", "0123", "-yes")
	h.must("charter", "settle", two, "-as", c.Id, "-reason", "oona joins")
	for key, in := range map[string]bool{"mine": false, "second": true, "third": true} {
		if _, err := h.ssh(h.instance("door"), key, "true"); (err == nil) != in {
			t.Errorf("%s opens door: %v, want %v", key, err == nil, in)
		}
	}
	if c := h.compared(0, two); len(c.Changes) > 0 {
		t.Errorf("settled, it differs: %s", changesOf(c))
	}
	if c := h.compared(0, "-settled", "field"); len(c.Changes) > 0 {
		t.Errorf("what was settled differs: %s", changesOf(c))
	}
	h.refused("moved", "charter", "settle", two, "-as", c.Id) // the world is another
	var d apiclient.CharterDetail
	if err := json.Unmarshal([]byte(h.must("charter", "show", "field", "-json")), &d); err != nil ||
		d.Charter.Version != 2 || len(d.Versions) != 2 || d.Versions[0].Reason != "oona joins" || d.Charter.Grants != 4 {
		t.Errorf("%v %+v", err, d)
	}
	if out := h.must("charter", "show", "field", "-files", "-version", "1"); out != read(t, whole) {
		t.Errorf("version 1 is\n%s", out)
	}

	// A line that is withdrawn comes back as it was, with its options.
	limited := ""
	for line := range strings.Lines(read(t, h.keysFile("door"))) {
		if strings.HasSuffix(line, " third\n") {
			line = `from="127.0.0.0/8",no-pty ` + line
		}
		limited += line
	}
	if err := os.WriteFile(h.keysFile("door"), []byte(limited), 0o600); err != nil {
		t.Fatal(err)
	}
	three := h.charter(t, "access:\n"+may("mine, second", "debian@*", "why: all"))
	if r := h.client("charter", "settle", three, "-yes"); r.status != 0 {
		t.Fatalf("%+v\n%s", r, h.must("charter", "changes", "field"))
	}
	h.must("charter", "undo", "field", "-yes", "-reason", "the wrong file")
	text := read(t, h.keysFile("door"))
	if strings.Contains(text, " mine\n") || !strings.Contains(text, `from="127.0.0.0/8",no-pty`) ||
		strings.Count(text, "third") != 1 {
		t.Errorf("taken back, the file is\n%s\nwas\n%s", text, limited)
	}
	if c := h.compared(3, two); changesOf(c) != "loosen third debian@door" { // the limits that somebody gave it
		t.Errorf("taken back, it differs: %s", changesOf(c))
	}
	h.refused("nothing-to-undo", "charter", "undo", "field", "-yes")
	h.must("charter", "settle", two, "-yes")

	// What somebody changes on a machine is found by the next reading, and told.
	gone := strings.Split(read(t, h.keysFile("mast")), "\n")
	gone = slices.DeleteFunc(gone, func(line string) bool { return strings.HasSuffix(line, " second") })
	if err := os.WriteFile(h.keysFile("mast"), []byte(strings.Join(gone, "\n")), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "mast")
	differs := func() []apiclient.Charter {
		var list []apiclient.Charter
		if err := json.Unmarshal([]byte(h.must("charter", "list", "-json")), &list); err != nil {
			t.Fatal(err)
		}
		return list
	}
	eventually(t, "the charter to be compared", func() bool { return len(differs()) == 1 && differs()[0].Differs == 1 })
	if h.toldOften("charter.differs") == 0 {
		t.Error("the daybook does not tell that something differs")
	}
	var reach apiclient.ReachPage
	_, out := h.call("GET", "/api/v1/reach", h.token, "")
	if err := json.Unmarshal([]byte(out), &reach); err != nil || reach.Charters == nil || *reach.Charters != 1 {
		t.Errorf("%v %s", err, out)
	}
	if _, figures := h.call("GET", "/metrics", h.token, ""); !strings.Contains(figures, "plumlatch_charter_changes 1") {
		t.Error("the figures do not tell that something differs")
	}
	h.must("daybook", "check")
}

func TestAllChangesOfACharterAreJudgedTogether(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("charter", "settle", h.charter(t, "access:\n"+may("mine", "debian@door")), "-yes")
	file := read(t, h.keysFile("door"))
	// A key whose private key nobody has proved may not be the only one.
	sshKeygen(t, h.dir, "stranger", "-t", "ed25519", "-N", "", "-C", "stranger")
	public := strings.TrimSpace(read(t, filepath.Join(h.dir, "stranger.pub")))
	for name, text := range map[string]string{
		"nobody":          "note: empty\n",
		"an unproved key": "keys:\n  stranger: {public-key: '" + public + "'}\naccess:\n" + may("stranger", "debian@door"),
	} {
		path := h.charter(t, text)
		if c := h.compared(5, path); c.Refused == nil || len(c.Reach) != 1 || c.Reach[0].Refused == nil {
			t.Errorf("%s: %+v", name, c)
		}
		if r := h.client("charter", "settle", path, "-yes"); r.status != 5 {
			t.Errorf("%s: %+v", name, r)
		}
		// Nor by who asks the service itself.
		var c apiclient.CharterComparison
		body := fmt.Sprintf(`{"files": [{"path": "a.yaml", "content": %q}]`, "charter: field\n"+text)
		_, out := h.call("POST", "/api/v1/charter-comparisons", h.token, body+"}")
		if err := json.Unmarshal([]byte(out), &c); err != nil {
			t.Fatal(err)
		}
		if status, out := h.call("POST", "/api/v1/charter-settlements", h.token, body+`, "as": "`+c.Id+`"}`); status != 403 {
			t.Errorf("%s: %d %s", name, status, out)
		}
	}
	if now := read(t, h.keysFile("door")); now != file {
		t.Errorf("the file is\n%s", now)
	}
	if n := h.count("keys WHERE name = 'stranger'"); n != 0 {
		t.Error("a key was imported")
	}
	// In the place of the only one another one that is proved: one by one this would be refused.
	h.must("charter", "settle", h.charter(t, "access:\n"+may("second", "debian@door")), "-yes")
	if text := read(t, h.keysFile("door")); strings.Contains(text, " mine\n") || !strings.Contains(text, " second\n") {
		t.Errorf("the file is\n%s", text)
	}
}

func TestACharterImportsKeysLaunchesAndOwnsWhatItDeclares(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	folder := t.TempDir()
	sshKeygen(t, folder, "oona", "-t", "ed25519", "-N", "", "-C", "oona")
	if err := os.Remove(filepath.Join(folder, "oona")); err != nil {
		t.Fatal(err)
	}
	writeFile(
		t,
		filepath.Join(folder, "keys.yaml"),
		"charter: field\nkeys:\n  oona-main: {file: oona.pub, purpose: days, labels: {team: field}}\n",
	)
	writeFile(t, filepath.Join(folder, "access.json"), `{"instances": {"new": {"labels": {"team": "field"}, "launch":
		{"image": "debian-12", "size": "small"}}}, "access": [{"who": {"keys": ["oona-main", "mine"]}, "logins": "debian@new",
		"until": "2099-01-31"}]}`)
	if c := h.compared(3, folder); changesOf(c) != "import-key oona-main; launch new; change-end mine debian@new; "+
		"change-end oona-main debian@new" {
		t.Errorf("%s", changesOf(c))
	}
	h.must("charter", "settle", folder, "-yes")
	if _, err := h.ssh(h.instance("new"), "mine", "true"); err != nil {
		t.Error(err)
	}
	if c := h.compared(0, folder); len(c.Changes) > 0 {
		t.Errorf("settled, it differs: %s", changesOf(c))
	}
	var list []apiclient.GrantRecord
	if err := json.Unmarshal([]byte(h.must("grant", "list", "-login", "debian@new", "-json")), &list); err != nil ||
		len(list) < 2 {
		t.Fatal(err, list)
	}
	for _, g := range list {
		if steward := strings.Contains(g.Key.Name, "steward"); !steward && (g.Charter == nil || *g.Charter != "field" ||
			g.CharterAt == nil || *g.CharterAt != "access.json:2" || g.Until == nil) {
			t.Errorf("%+v", g)
		}
	}
	// What is granted by hand beside it stays, and is told.
	h.must("grant", "add", "second", "debian@new", "-until", "2099-01-01")
	c := h.compared(0, folder)
	if !slices.ContainsFunc(c.Notes, func(n apiclient.CharterFlaw) bool { return n.Code == "beside" }) {
		t.Errorf("%+v", c.Notes)
	}
	// Another charter may not claim what this one owns.
	other := writeFile(t, filepath.Join(t.TempDir(), "other.yaml"), "charter: other\naccess:\n"+may("mine", "debian@new"))
	if c := h.compared(1, other); len(c.Flaws) != 1 || c.Flaws[0].Code != "other-charter" {
		t.Errorf("%+v", c.Flaws)
	}
	h.refused("charter-flawed", "charter", "settle", other, "-as", "0", "-yes")
	// Labels of keys and instances follow the file, and a lost key is a flaw.
	writeFile(
		t,
		filepath.Join(folder, "keys.yaml"),
		"charter: field\nkeys:\n  oona-main: {file: oona.pub, purpose: nights}\n",
	)
	if c := h.compared(3, folder); changesOf(c) != "describe-key oona-main" {
		t.Errorf("%s", changesOf(c))
	}
	h.must("charter", "settle", folder, "-yes")
	h.must("key", "mark-lost", "mine", "-reason", "left in a train", "-yes")
	if c := h.compared(1, folder); len(c.Flaws) != 1 || c.Flaws[0].Code != "key-lost" || c.Flaws[0].At.Line != 2 {
		t.Errorf("%+v", c.Flaws)
	}
	// Released, it owns nothing, and the grants stay.
	h.must("charter", "release", "field", "-yes", "-reason", "over")
	if n := h.count("grants WHERE charter_id IS NOT NULL"); n != 0 {
		t.Errorf("it owns %d grants", n)
	}
}

func TestACharterWithFlawsOrFromSomebodyWithALimitChangesNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	private := read(t, h.private("mine"))
	for code, text := range map[string]string{
		"unknown-field": "charter: field\nkees: {}\n",
		"private-key": "charter: field\nkeys:\n  k:\n    public-key: |\n      " +
			strings.ReplaceAll(private, "\n", "\n      "),
		"no-yaml": "charter: field\nkeys:\n\tk: {}\n",
	} {
		path := writeFile(t, filepath.Join(t.TempDir(), "a.yaml"), text)
		for want, r := range map[int]result{
			3: h.client("charter", "check", path, "-json"), 1: h.client("charter", "compare", path, "-json"),
		} {
			var c struct {
				Flaws []apiclient.CharterFlaw `json:"flaws"`
			}
			if err := json.Unmarshal([]byte(r.out), &c); err != nil || r.status != want || len(c.Flaws) == 0 ||
				c.Flaws[0].Code != code || c.Flaws[0].At.Line == 0 {
				t.Errorf("%s: %+v", code, r)
			}
			if strings.Contains(r.out+r.err, strings.Split(private, "\n")[1]) {
				t.Errorf("%s: the private key is shown", code)
			}
		}
		if r := h.client("charter", "settle", path, "-yes"); r.status != 1 {
			t.Errorf("%s: %+v", code, r)
		}
	}
	big := writeFile(t, filepath.Join(t.TempDir(), "a.yaml"), "note: "+strings.Repeat("x", 10<<20))
	if r := h.client("charter", "check", big); r.status != 2 {
		t.Errorf("ten million bytes: %+v", r)
	}
	body, err := json.Marshal(map[string]any{"files": []map[string]string{{"path": "a.yaml", "content": read(t, big)}}})
	if err != nil {
		t.Fatal(err)
	}
	if status, _ := h.call("POST", "/api/v1/charter-comparisons", h.token, string(body)); status != 413 {
		t.Errorf("ten million bytes are taken: %d", status)
	}
	pattern := h.charter(t, "access:\n"+may("mine", "nobody@*"))
	if c := h.compared(0, pattern); len(c.Notes) != 1 || c.Notes[0].Code != "nothing-fits" {
		t.Errorf("%+v", c.Notes)
	}
	if c := h.compared(1, "-strict", pattern); len(c.Flaws) != 1 {
		t.Errorf("%+v", c.Flaws)
	}
	password := writeFile(t, filepath.Join(h.dir, "runa.password"), "harbour kittiwake")
	h.must("operator", "add", "runa", "-role", "operator", "-limit", "team=cameras", "-password-file", password)
	good := h.charter(t, "access:\n"+may("second", "debian@door"))
	token := h.signIn("runa", "harbour kittiwake")
	for _, args := range [][]string{
		{"charter", "compare", good}, {"charter", "settle", good, "-yes"}, {"charter", "write", "x"},
	} {
		if r := h.as(token, args...); r.status != 5 {
			t.Errorf("runa, %v: %+v", args, r)
		}
	}
	if n := h.count("charters"); n != 0 {
		t.Errorf("%d charters", n)
	}
}

func TestOfTwoSettlementsAtOnceOneIsMadeAndWhatCannotBeIsLeftOut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	path := h.charter(t, "access:\n"+may("mine, second", "debian@*", "why: all"))
	c := h.compared(3, path)
	h.refused("not-possible-now", "charter", "settle", path, "-as", c.Id)
	var group sync.WaitGroup
	var mu sync.Mutex
	done := 0
	for range 4 {
		group.Go(func() {
			r := h.client("charter", "settle", path, "-as", c.Id, "-partly")
			mu.Lock()
			defer mu.Unlock()
			if r.status == 0 {
				done++
			} else if r.status != 6 {
				t.Errorf("%+v", r)
			}
		})
	}
	group.Wait()
	if done != 1 || h.count("settlements") != 1 || strings.Count(read(t, h.keysFile("door")), " second\n") != 1 {
		t.Errorf("%d of four were settled", done)
	}
	if c := h.compared(3, path); changesOf(c) != "place second debian@bare" || c.Changes[0].Unable == nil {
		t.Errorf("%s", changesOf(c))
	}
	// A cloud that is away is a part that cannot be done.
	with := h.charter(
		t,
		"instances:\n  new: {launch: {image: debian-12, size: small}}\naccess:\n"+may("mine, second, third", "debian@door"),
	)
	h.cloud.kill(t)
	if c := h.compared(3, with); len(c.Changes) != 3 || c.Changes[0].Kind != "launch" || c.Changes[0].Unable == nil {
		t.Errorf("%+v", c)
	}
}

// TestKilledAtEveryMomentASettlementIsMadeWhole kills the service just before each thing that a settlement writes down.
func TestKilledAtEveryMomentASettlementIsMadeWhole(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	moments := []at{
		{"settlement_items", "NEW.state = 'at-work' AND NEW.change->>'kind' = 'place'"},
		{"settlement_items", "NEW.run_id IS NOT NULL AND OLD.run_id IS NULL AND NEW.change->>'kind' = 'place'"},
		{"grants", "NEW.charter_id IS NOT NULL AND OLD.charter_id IS NULL"},
		{"run_steps", "NEW.name = 'place' AND NEW.state = 'done'"},
		{"settlement_items", "NEW.state = 'done' AND NEW.change->>'kind' = 'place'"},
		{"settlement_items", "NEW.state = 'at-work' AND NEW.change->>'kind' = 'withdraw'"},
		{"settlement_items", "NEW.run_id IS NOT NULL AND OLD.run_id IS NULL AND NEW.change->>'kind' = 'withdraw'"},
		{"run_steps", "NEW.name = 'remove' AND NEW.state = 'done'"},
		{"grants", "NEW.withdrawn_at IS NOT NULL AND OLD.withdrawn_at IS NULL"},
		{"settlement_items", "NEW.state = 'done' AND NEW.change->>'kind' = 'withdraw'"},
		{"settlements", "NEW.ended_at IS NOT NULL"},
	}
	h.chartered(t, "door")
	keys := []string{"mine", "second"}
	h.must("charter", "settle", h.charter(t, "access:\n"+may(keys[0], "debian@door")), "-yes")
	for n, a := range moments {
		path := h.charter(t, "access:\n"+may(keys[(n+1)%2], "debian@door"))
		held, letGo := h.holdAt(t, a)
		gone := make(chan result, 1)
		go func() { gone <- h.client("charter", "settle", path, "-yes", "-detach") }()
		eventually(t, a.condition, held)
		h.service.kill(t)
		if text := read(t, h.keysFile("door")); !strings.Contains(text, " mine\n") && !strings.Contains(text, " second\n") {
			t.Errorf("%s: killed, nobody gets in:\n%s", a.condition, text)
		}
		letGo()
		<-gone
		h.startService(h.listen())
		eventually(t, a.condition+": the end", func() bool { return h.settlement("field").EndedAt != nil })
		if s := h.settlement("field"); s.Done != 2 || s.Failed+s.LeftOut > 0 {
			t.Errorf("%s: %+v", a.condition, s)
		}
		if c := h.compared(0, path); len(c.Changes) > 0 {
			t.Errorf("%s: it differs: %s", a.condition, changesOf(c))
		}
		text := []byte(read(t, h.keysFile("door")))
		if bytes.Contains(text, []byte(" "+keys[n%2]+"\n")) || bytes.Count(text, []byte(" "+keys[(n+1)%2]+"\n")) != 1 {
			t.Errorf("%s: the file is\n%s", a.condition, text)
		}
	}
}

func TestASettlementWhoseChangesFailLeavesOutWhatRestsOnThemAndIsPausedAndSettledAgain(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door", "mast")
	h.must("charter", "settle", h.charter(t, "access:\n"+may("mine", "debian@*")), "-yes")
	path := h.charter(t, "access:\n"+may("second", "debian@*"))
	// Nothing is written there, so that the new key cannot be placed.
	door := h.keysFile("door")
	text := read(t, door)
	if err := os.Remove(door); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/passwd", door); err != nil {
		t.Fatal(err)
	}
	if r := h.client("charter", "settle", path, "-yes"); r.status != 3 {
		t.Errorf("%+v", r)
	}
	if s := h.settlement("field"); s.Failed != 1 || s.LeftOut != 1 || s.Done != 2 {
		t.Errorf("%+v", s)
	}
	if out := h.must("charter", "changes", "field", "-state", "left-out", "-q"); out != "debian@door\n" {
		t.Errorf("left out: %q", out)
	}
	if err := os.Remove(door); err != nil {
		t.Fatal(err)
	}
	writeFile(t, door, text)
	h.must("sweep", "door")
	h.must("charter", "settle", path, "-yes")
	if c := h.compared(0, path); len(c.Changes) > 0 {
		t.Errorf("settled again, it differs: %s", changesOf(c))
	}
}

func TestConsoleComparesSettlesAndTakesBackACharter(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must(
		"charter",
		"settle",
		h.charter(t, "note: who opens the door\naccess:\n"+may("mine", "debian@door")),
		"-yes",
		"-reason",
		"first",
	)
	p := h.console(t)
	p.open("/charters/compare")
	p.fill("Or paste one", "charter: field\naccess:\n"+may("nobody", "debian@door"))
	p.press("Compare")
	p.says("there is no key \"nobody\"")
	p.fill("Or paste one", "charter: field\naccess:\n"+may("second", "debian@door", "why: oona joins"))
	p.press("Compare")
	p.says("2 changes")
	p.says("withdraw the key")
	p.press("Settle 2 changes")
	p.fill("Reason, for the daybook", "in the console")
	p.press("Settle it")
	p.says("in the console")
	p.says("field is so: nothing differs")
	if text := read(t, h.keysFile("door")); strings.Contains(text, " mine\n") || !strings.Contains(text, " second\n") {
		t.Errorf("the file is\n%s", text)
	}
	p.open("/grants")
	p.says("pasted.yaml:3")
	p.open("/charters/field")
	p.press("Undo the last settlement")
	p.press("Undo it")
	eventually(
		t,
		"the undo",
		func() bool { return h.settlement("field").Undoes != nil && h.settlement("field").EndedAt != nil },
	)
	if text := read(t, h.keysFile("door")); !strings.Contains(text, " mine\n") || strings.Contains(text, " second\n") {
		t.Errorf("taken back, the file is\n%s", text)
	}
	p.press("Release")
	p.press("Release it")
	p.says("No charter yet")
}

func TestACharterAdoptsMachinesAndBringsInInstances(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	gate, gauge := h.launchedElsewhere(t, "gate", "debian-12"), h.launchedElsewhere(t, "Gauge North", "debian-12")
	h.must("cloud", "read", "main")
	output, err := h.cloudPort().BootOutput(t.Context(), gate.Id)
	if err != nil {
		t.Fatal(err)
	}
	print := keypair.FormatSHA256(cloud.HostKeys(output)[0].SHA256())
	text := func(print string) string {
		return fmt.Sprintf(
			"instances:\n  old-gate:\n    labels: {site: pier}\n    adopt: {address: %s, port: %d, login: debian%s}\n"+
				"  north:\n    bring-in: {cloud: main, called: Gauge North}\n",
			gate.PublicAddress,
			gate.SshPort,
			print,
		)
	}
	if c := h.compared(3, h.charter(t, text(""))); changesOf(c) != "adopt old-gate; bring-in north" ||
		c.Changes[0].Unable == nil {
		t.Errorf("%s", changesOf(c))
	}
	wrong := h.charter(t, text(", host-key: \"SHA256:"+strings.Repeat("A", 43)+"\""))
	if r := h.client("charter", "settle", wrong, "-yes"); r.status != 3 || h.settlement("field").Failed != 1 {
		t.Errorf("another host key: %+v", r)
	}
	right := h.charter(t, text(", host-key: \""+print+"\""))
	h.must("charter", "settle", right, "-yes")
	if i := h.instance("old-gate"); !i.Adopted || i.Labels["site"] != "pier" || i.Connection.HostKeys[0].Sha256 != print {
		t.Errorf("%+v", i)
	}
	if i := h.instance("north"); i.CloudId != gauge.Id || i.Cloud != "main" {
		t.Errorf("%+v", i)
	}
	if c := h.compared(0, right); len(c.Changes) > 0 {
		t.Errorf("settled, it differs: %s", changesOf(c))
	}
	relabelled := h.charter(t, strings.Replace(text(", host-key: \""+print+"\""), "site: pier", "site: mole", 1))
	h.must("charter", "settle", relabelled, "-yes")
	if i := h.instance("old-gate"); i.Labels["site"] != "mole" {
		t.Errorf("%+v", i.Labels)
	}
	h.must("charter", "undo", "field", "-yes")
	if i := h.instance("old-gate"); i.Labels["site"] != "pier" {
		t.Errorf("taken back: %+v", i.Labels)
	}
}

func TestARotatedKeyStaysInItsCharterAndASettlementIsPausedAndResumed(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door", "mast")
	path := h.charter(t, "access:\n- who: {holders: [ines]}\n  logins: [\"debian@door\"]\n")
	h.must("charter", "settle", path, "-yes")
	h.must("rotate", "start", "-key", "mine", "-make", "here", "-yes")
	if c := h.compared(0, path); len(c.Changes) > 0 {
		t.Errorf("rotated, it differs: %s", changesOf(c))
	}
	var list []apiclient.GrantRecord
	if err := json.Unmarshal([]byte(h.must("grant", "list", "-login", "debian@door", "-json")), &list); err != nil {
		t.Fatal(err)
	}
	if !slices.ContainsFunc(list, func(g apiclient.GrantRecord) bool {
		return g.Key.Name == "mine-2" && g.Charter != nil && *g.Charter == "field"
	}) {
		t.Errorf("%+v", list)
	}
	// Paused, nothing further begins; what waits begins once it is resumed.
	two := h.charter(t, "access:\n- who: {holders: [ines]}\n  logins: [\"debian@*\"]\n")
	held, letGo := h.holdAt(t, at{"settlement_items", "NEW.state = 'at-work'"})
	h.must("charter", "settle", two, "-yes", "-detach")
	eventually(t, "the first item", held)
	h.must("charter", "pause", "field", "-reason", "a storm")
	letGo()
	if s := h.settlement("field"); s.State != "paused" || s.Waiting+s.AtWork == 0 {
		t.Errorf("%+v", s)
	}
	h.must("charter", "resume", "field")
	h.must("charter", "watch", "field")
	if c := h.compared(0, two); len(c.Changes) > 0 {
		t.Errorf("resumed, it differs: %s", changesOf(c))
	}
	if out := h.must("charter", "compare", two, "-markdown"); out != "**field** is so: nothing differs.\n" {
		t.Errorf("%q", out)
	}
}

// TestKilledAtEveryMomentAnUndoAndALaunchAreMadeWhole kills the service where a settlement imports, launches and takes
// back.
func TestKilledAtEveryMomentAnUndoAndALaunchAreMadeWhole(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("charter", "settle", h.charter(t, "access:\n"+may("mine", "debian@door")), "-yes")
	killed := func(a at, args ...string) apiclient.CharterSettlement {
		t.Helper()
		held, letGo := h.holdAt(t, a)
		gone := make(chan result, 1)
		go func() { gone <- h.client(append([]string{"charter"}, args...)...) }()
		eventually(t, a.condition, held)
		h.service.kill(t)
		letGo()
		<-gone
		h.startService(h.listen())
		eventually(t, a.condition+": the end", func() bool { return h.settlement("field").EndedAt != nil })
		s := h.settlement("field")
		if s.Failed+s.LeftOut > 0 {
			t.Errorf("%s: %+v\n%s", a.condition, s, h.must("charter", "changes", "field"))
		}
		return s
	}
	keys, instances, access := "keys:\n", "instances:\n", "access:\n"+may("mine", "debian@door")
	for n, condition := range []string{
		"NEW.state = 'at-work' AND NEW.change->>'kind' = 'import-key'",
		"NEW.state = 'done' AND NEW.change->>'kind' = 'import-key'",
		"NEW.state = 'at-work' AND NEW.change->>'kind' = 'launch'",
		"NEW.run_id IS NOT NULL AND OLD.run_id IS NULL AND NEW.change->>'kind' = 'launch'",
		"NEW.state = 'done' AND NEW.change->>'kind' = 'launch'",
	} {
		key := fmt.Sprintf("new-%d", n)
		sshKeygen(t, h.dir, key, "-t", "ed25519", "-N", "", "-C", key)
		keys += fmt.Sprintf("  %s: {public-key: '%s'}\n", key, strings.TrimSpace(read(t, filepath.Join(h.dir, key+".pub"))))
		instances += fmt.Sprintf("  i%d: {launch: {image: debian-12, size: small}}\n", n)
		access += may(key+", mine", fmt.Sprintf("debian@i%d", n))
		path := h.charter(t, keys+instances+access)
		killed(at{"settlement_items", condition}, "settle", path, "-yes", "-detach")
		if c := h.compared(0, path); len(c.Changes) > 0 {
			t.Errorf("%s: it differs: %s", condition, changesOf(c))
		}
		if n := len(strings.Fields(h.must("instance", "list", "-q"))); n < 2 {
			t.Errorf("%s: %d instances", condition, n)
		}
	}
	if n := h.cloudInstances(); n != 6 {
		t.Errorf("%d instances run in the cloud, want 6", n)
	}
	one, two := h.charter(t, keys+instances+access), h.charter(
		t, keys+instances+strings.Replace(access, "[mine]", "[second]", 1),
	)
	h.must("charter", "settle", one, "-yes")
	before := read(t, h.keysFile("door"))
	for _, condition := range []string{
		"NEW.state = 'at-work' AND NEW.change->>'kind' = 'place'", "NEW.state = 'done' AND NEW.change->>'kind' = 'place'",
		"NEW.state = 'at-work' AND NEW.change->>'kind' = 'withdraw'",
	} {
		h.must("charter", "settle", two, "-yes")
		if s := killed(at{"settlement_items", condition}, "undo", "field", "-yes", "-detach"); s.Undoes == nil ||
			s.Done != 2 {
			t.Errorf("%s: %+v", condition, s)
		}
		if c := h.compared(0, one); len(c.Changes) > 0 || len(read(t, h.keysFile("door"))) != len(before) {
			t.Errorf("%s: it differs: %s\n%s", condition, changesOf(c), read(t, h.keysFile("door")))
		}
	}
}
