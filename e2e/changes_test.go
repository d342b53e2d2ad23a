package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
)

// TestAKeysRecordIsChangedByItsHolder changes it by the client, the API and the console.
func TestAKeysRecordIsChangedByItsHolder(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must(
		"instance",
		"launch",
		"door",
		"-image",
		"debian-12",
		"-size",
		"small",
		"-new",
		"id_rsa_2",
		"-label",
		"team=field",
	)
	h.must("key", "new", "taken")
	show := func(name string) apiclient.Key {
		t.Helper()
		var k apiclient.Key
		if err := json.Unmarshal([]byte(h.must("key", "show", name, "-json")), &k); err != nil {
			t.Fatal(err)
		}
		return k
	}
	before := show("id_rsa_2")
	h.must(
		"key",
		"change",
		"id_rsa_2",
		"-name",
		"door-ines",
		"-purpose",
		"the door",
		"-label",
		"team=field",
		"-label",
		"a=b",
	)
	after := show("door-ines")
	if after.Id != before.Id || after.Purpose != "the door" || after.Labels["team"] != "field" || after.Opens != 1 {
		t.Errorf("changed to %+v", after)
	}
	h.must("key", "change", "door-ines", "-remove-label", "a")
	if l := show("door-ines").Labels; len(l) != 1 {
		t.Errorf("the labels are %v", l)
	}
	h.refused("name-taken", "key", "change", "door-ines", "-name", "taken")
	h.refused("bad-name", "key", "change", "door-ines", "-name", "No Name")
	h.refused("no-such-key", "key", "change", "gone", "-name", "x")
	h.refused("usage", "key", "change", "door-ines")
	if out := h.must("daybook", "list", "-key", "door-ines"); !strings.Contains(out, "door-ines") {
		t.Errorf("the daybook says\n%s", out)
	}
	// The file on this machine still opens it, and is found under the new name.
	if out := h.must("connect", "door", "--", "hostname"); strings.TrimSpace(out) != "door" {
		t.Errorf("connect says %s", out)
	}
	// Somebody else may not.
	h.must(
		"operator", "add", "runa", "-role", "operator", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	runa := h.in(t)
	runa.token = h.signIn("runa", password)
	runa.refused("not-the-holder", "key", "change", "door-ines", "-name", "mine")
	if status, body := h.call("PATCH", "/api/v1/keys/door-ines", h.token, `{"purpose":"the back door"}`); status != 200 ||
		!strings.Contains(body, "the back door") {
		t.Errorf("by the API: %d %s", status, body)
	}
	p := h.console(t)
	p.open("/keys/door-ines")
	p.says("the back door")
	p.press("Change")
	p.fill("Name", "door-main")
	p.fill("Labels", "team=field, env=test")
	p.press("Change it")
	p.says("env=test")
	if k := show("door-main"); k.Labels["env"] != "test" || k.Labels["team"] != "field" {
		t.Errorf("by the console: %+v", k)
	}
}

// TestARotationWaitsForAWordAfterItsFirstGroup names what it works on instead of an id.
func TestARotationWaitsForAWordAfterItsFirstGroup(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a", "b", "c")
	flags := []string{"-key", "mine", "-make", "service", "-first", "1", "-names", "{key}-of-{holder}"}
	if out := h.must(append([]string{"rotate", "plan"}, flags...)...); !strings.Contains(out, "mine-of-ines") ||
		!strings.Contains(out, "plumlatch rotate resume debian@a") {
		t.Errorf("the plan does not tell of the first group:\n%s", out)
	}
	r := h.client(append([]string{"rotate", "start", "-yes"}, flags...)...)
	if got := h.rotation(); got.State != apiclient.RotationStatePaused || got.Counts["done"] != 1 || r.status != 0 {
		t.Fatalf("after the first group: %s %v, status %d\n%s%s", got.State, got.Counts, r.status, r.out, r.err)
	}
	for _, name := range []string{"debian@b", "c", "mine", h.rotation().Id.String()[:13]} {
		if out := h.must("rotate", "show", name, "-json"); !strings.Contains(out, h.rotation().Id.String()) {
			t.Errorf("%s does not mean the rotation", name)
		}
	}
	h.refused("no-such-rotation", "rotate", "show", "elsewhere")
	h.must("rotate", "resume", "a")
	h.must("rotate", "watch", "b")
	if got := h.rotation(); got.Counts["done"] != 3 {
		t.Errorf("after the word: %v", got.Counts)
	}
	h.refused("bad-names", "rotate", "plan", "-key", "mine-of-ines", "-names", "{key}-{nobody}")
	h.refused("usage", "rotate", "plan", "-key", "mine-of-ines", "-then-go")
	h.must("rotate", "start", "-key", "mine-of-ines", "-make", "service", "-first", "1", "-then-go", "-yes")
	if got := h.rotations(); len(got) != 2 || got[0].Counts["done"] != 3 {
		t.Errorf("with -then-go: %+v", got)
	}
}

// TestAWatchGoesOnWhenTheServiceIsKilled kills the service under a launch, a rotation and a restore that are watched.
func TestAWatchGoesOnWhenTheServiceIsKilled(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "boot=3s,disk=1s")
	h.must("key", "new", "mine")
	watched := make(chan result, 1)
	go func() {
		watched <- h.client("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "mine")
	}()
	// Its first step is over, so that the client has had the answer and watches.
	eventually(t, "the launch", func() bool { return h.count("run_steps WHERE name = 'disk' AND state = 'done'") == 1 })
	h.service.kill(t)
	h.startService(h.listen())
	if r := <-watched; r.status != 0 || !strings.Contains(r.out, "door") {
		t.Errorf("the launch that was watched: %d %s%s", r.status, r.out, r.err)
	}
	if r := h.client("run", "watch", "door"); r.status != 0 {
		t.Errorf("watched again, when it is over: %d %s", r.status, r.err)
	}
}
