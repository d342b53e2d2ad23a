package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
)

// limitedAt is what the line of a key is limited to in a file.
func limitsIn(t *testing.T, file, comment string) string {
	t.Helper()
	for line := range strings.Lines(read(t, file)) {
		if strings.HasSuffix(strings.TrimSpace(line), " "+comment) {
			limits, _, _ := strings.Cut(line, "ssh-ed25519")
			return strings.TrimSpace(limits)
		}
	}
	t.Errorf("no line of %s in\n%s", comment, read(t, file))
	return ""
}

// TestAGrantMayBeLimitedAndTheSSHServerKeepsIt limits keys on a real sshd, and takes the limits away again.
func TestAGrantMayBeLimitedAndTheSSHServerKeepsIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, k := range []string{"mine", "guest"} {
		h.must("key", "new", k)
		h.must("prove", k, "-with", h.private(k))
	}
	m := h.machineWith(t, nil, "PasswordAuthentication no\nKbdInteractiveAuthentication no\n", nil)
	h.must(
		"instance", "adopt", "pump", "-address", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-login", "warden", "-with",
		h.private("mine"), "-steward", "-yes",
	)
	file := filepath.Join(m.Home("warden"), ".ssh/authorized_keys")
	pump := h.instance("pump")
	says := func(key, command, want string) {
		t.Helper()
		if out, err := h.ssh(pump, key, command); err != nil || out != want {
			t.Errorf("%s %s: %v %q, want %q", key, command, err, out, want)
		}
	}
	// A forced command, by the client.
	if out := h.must("grant", "add", "guest", "pump", "-limits", `command="echo forced",no-pty`); !strings.Contains(
		out, "only the command echo forced; no-pty",
	) {
		t.Error(out)
	}
	says("guest", "echo asked", "forced")
	says("mine", "echo asked", "asked")
	if l := h.login("warden@pump"); l.Reach.Reach != apiclient.ReachStateThin {
		t.Errorf("with one key that gives a shell it is %s", l.Reach.Reach)
	}
	// Again without limits said, they stay; the API says them, and the list tells them.
	h.must("grant", "add", "guest", "pump", "-reason", "again")
	says("guest", "echo asked", "forced")
	var list []apiclient.GrantRecord
	if err := json.Unmarshal([]byte(h.must("grant", "list", "-key", "guest", "-json")), &list); err != nil ||
		len(list) != 1 || list[0].Limits == nil || *list[0].Limits != `command="echo forced",no-pty` {
		t.Errorf("%v %+v", err, list)
	}
	// A line that somebody took away is placed again with its limits.
	text := read(t, file)
	without := ""
	for line := range strings.Lines(text) {
		if !strings.HasSuffix(line, " guest\n") {
			without += line
		}
	}
	if err := os.WriteFile(file, []byte(without), 0o600); err != nil || without == text {
		t.Fatal(err, text)
	}
	h.client("sweep", "pump")
	h.must("settle", "pump", "-missing", "place", "-yes")
	says("guest", "echo asked", "forced")
	// The API; from elsewhere alone.
	body := `{"key": "guest", "login": "warden@pump", "limits": "from=\"192.0.2.7\""}`
	status, answer := h.call("POST", "/api/v1/grants", h.token, body)
	var g apiclient.Grant
	if err := json.Unmarshal([]byte(answer), &g); err != nil || status != 202 {
		t.Fatal(status, answer)
	}
	h.must("run", "watch", g.Run.Id.String())
	if _, err := h.ssh(pump, "guest", "true"); err == nil {
		t.Error("guest gets in from here")
	}
	// From this machine, with a key that opens it; then without limits.
	h.must("grant", "add", "guest", "pump", "-limits", `from="127.0.0.1",restrict`, "-with", h.private("mine"))
	says("guest", "echo asked", "asked")
	if l := limitsIn(t, file, "guest"); l != `from="127.0.0.1",restrict` {
		t.Error(l)
	}
	h.must("grant", "add", "guest", "pump", "-no-limits")
	if l := limitsIn(t, file, "guest"); l != "" {
		t.Error(l)
	}
	// What sshd would refuse is refused, and what leaves nobody with a shell.
	for _, limits := range []string{
		`from="192.0.2.7/24"`, "cert-authority", `expiry-time="20300101"`, "no-pty x", "nonsense",
	} {
		if p := h.refused("bad-limits", "grant", "add", "guest", "pump", "-limits", limits); p.Field == nil {
			t.Errorf("%+v", p)
		}
	}
	h.must("grant", "withdraw", "guest", "pump", "-anyway", "-reason", "over")
	h.refused("would-be-shut", "grant", "add", "mine", "pump", "-limits", `command="true"`)
	if l := limitsIn(t, file, "mine"); l != "" {
		t.Error(l)
	}
	if r := h.client("grant", "add", "mine", "pump", "-limits", "pty", "-no-limits"); r.status != 2 {
		t.Errorf("%+v", r)
	}
}

// TestARotationKeepsTheLimitsOfAGrant rotates a limited key.
func TestARotationKeepsTheLimitsOfAGrant(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	h.must("grant", "add", "second", "door", "-limits", `from="127.0.0.0/8",no-pty`)
	h.must("rotate", "start", "-key", "second", "-to", "third", "-yes")
	out, _ := h.grants("-login", "door")
	limited := 0
	for _, g := range out {
		if g.Limits != nil && g.Key.Name == "third" && *g.Limits == `from="127.0.0.0/8",no-pty` {
			limited++
		}
	}
	if limited == 0 || strings.Count(read(t, h.keysFile("door")), `from="127.0.0.0/8",no-pty`) == 0 {
		t.Errorf("%+v\n%s", out, read(t, h.keysFile("door")))
	}
}

// TestACharterLimitsLines declares limits, changes and undoes them, and has them back where somebody took them away.
func TestACharterLimitsLines(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.chartered(t, "door")
	const from = `from="127.0.0.0/8",no-pty`
	all := may("mine, second", "debian@door")
	limited := func(limits string) string {
		return h.charter(t, "access:\n"+all+may("third", "debian@door", "limits: "+limits))
	}
	path := limited(from)
	if c := h.compared(3, path); changesOf(
		c,
	) != "own mine debian@door; place second debian@door; place third debian@door" {
		t.Error(changesOf(c))
	}
	if out := h.client("charter", "compare", path).out; !strings.Contains(out, "only from 127.0.0.0/8; no-pty") {
		t.Error(out)
	}
	h.must("charter", "settle", path, "-yes")
	file := h.keysFile("door")
	if l := limitsIn(t, file, "third"); l != from {
		t.Error(l)
	}
	h.compared(0, path)
	if out := h.must("charter", "write", "field"); !strings.Contains(out, "limits: from=") {
		t.Error(out)
	}
	// Somebody takes the limits away.
	if err := os.WriteFile(file, []byte(strings.Replace(read(t, file), from+" ", "", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	if c := h.compared(3, path); changesOf(c) != "limit third debian@door" {
		t.Error(changesOf(c))
	}
	h.must("charter", "settle", path, "-yes")
	if l := limitsIn(t, file, "third"); l != from {
		t.Error(l)
	}
	// Other limits, killed as they are placed, and back.
	other := limited(`command="true"`)
	if c := h.compared(3, other); changesOf(c) != "limit third debian@door" {
		t.Error(changesOf(c))
	}
	for _, condition := range []string{
		"NEW.state = 'at-work' AND NEW.change->>'kind' = 'limit'", "NEW.state = 'done' AND NEW.change->>'kind' = 'limit'",
	} {
		held, letGo := h.holdAt(t, at{"settlement_items", condition})
		gone := make(chan result, 1)
		go func() { gone <- h.client("charter", "settle", other, "-yes", "-detach") }()
		eventually(t, condition, held)
		h.service.kill(t)
		letGo()
		<-gone
		h.startService(h.listen())
		eventually(t, condition+": the end", func() bool { return h.settlement("field").EndedAt != nil })
		if l := limitsIn(t, file, "third"); l != `command="true"` {
			t.Error(l)
		}
		h.compared(0, other)
		h.must("charter", "undo", "field", "-yes")
		if l := limitsIn(t, file, "third"); l != from {
			t.Errorf("undone: %s", l)
		}
		h.compared(0, path)
	}
	// Nobody with a shell is refused, and two limits for one are flaws.
	nobody := h.charter(t, "access:\n"+may("mine, second, third", "debian@door", `limits: command="true"`))
	if c := h.compared(5, nobody); c.Refused == nil {
		t.Errorf("%+v", c)
	}
	twice := h.charter(t, "access:\n"+all+may("second", "debian@*", "limits: no-pty"))
	if c := h.compared(1, twice); len(c.Flaws) != 1 || c.Flaws[0].Code != "two-limits" {
		t.Errorf("%+v", c.Flaws)
	}
	bad := h.charter(t, "access:\n"+all+may("third", "debian@door", "limits: nonsense"))
	if r := h.client("charter", "check", bad); r.status != 3 || !strings.Contains(r.out+r.err, "nonsense") {
		t.Errorf("%+v", r)
	}
	// A rotation rule that never replaces the keys is told of.
	h.must("rule", "add", "yearly", "-key", "mine", "-older", "365d")
	unruled := h.charter(t, "access:\n"+may("mine, second", "debian@door", "rotation: yearly"))
	c := h.client("charter", "compare", unruled)
	if !strings.Contains(c.out, "the rotation rule yearly never replaces second on debian@door") {
		t.Errorf("%+v", c)
	}
}
