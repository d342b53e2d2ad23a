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

// person adds an account and returns a token of theirs.
func (h *house) person(name string) string {
	h.t.Helper()
	word := writeFile(h.t, filepath.Join(h.dir, "word-of-"+name), password)
	h.must("operator", "add", name, "-role", "operator", "-password-file", word)
	return h.signIn(name, password)
}

// as runs the client with a token.
func (h *house) as(token string, args ...string) result {
	h.t.Helper()
	file := filepath.Join(h.t.TempDir(), "token")
	if err := os.WriteFile(file, []byte(token), 0o600); err != nil {
		h.t.Fatal(err)
	}
	return h.client(append(args, "-token-file", file)...)
}

func (h *house) plan(args ...string) (p apiclient.RotationPlan) {
	h.t.Helper()
	r := h.client(append([]string{"rotate", "plan", "-json"}, args...)...)
	if err := json.Unmarshal([]byte(r.out), &p); err != nil {
		h.t.Fatalf("%v: %s%s", err, r.out, r.err)
	}
	return p
}

func (h *house) holderOf(key string) string {
	h.t.Helper()
	var k apiclient.Key
	if err := json.Unmarshal([]byte(h.must("key", "show", key, "-json")), &k); err != nil {
		h.t.Fatal(err)
	}
	if k.Holder == nil {
		return ""
	}
	return k.Holder.Name
}

// TestARotationOfAnothersKeyMakesNobodyHoldWhatTheyNeverHad has ines rotate sunniva's key.
func TestARotationOfAnothersKeyMakesNobodyHoldWhatTheyNeverHad(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	sunniva := h.person("sunniva")
	if r := h.as(sunniva, "key", "new", "hers"); r.status != 0 {
		t.Fatal(r.err)
	}
	h.must("instance", "launch", "ringing-db", "-image", "debian-12", "-size", "small", "-key", "hers", "-steward")
	if r := h.as(sunniva, "prove", "debian@ringing-db", "-with", h.private("hers")); r.status != 0 {
		t.Fatal(r.err)
	}
	// By default the service makes it, and the plan says what she has to do.
	p := h.plan("-key", "hers")
	if p.Make != "service" || len(p.Pending) != 1 || p.Pending[0].Holder != "sunniva" || p.Pending[0].Does != "take" ||
		p.Pending[0].Logins != 1 || *p.Items[0].ReachAfter != "stale" {
		t.Errorf("the plan is %+v", p)
	}
	h.refused("not-your-key", "rotate", "start", "-key", "hers", "-make", "here", "-yes")
	if _, err := os.Stat(h.private("hers-2")); err == nil {
		t.Error("a pair was made for nothing")
	}
	h.must("rotate", "start", "-key", "hers", "-yes")
	if got := h.holderOf("hers-2"); got != "sunniva" {
		t.Errorf("the key in the safe is of %q", got)
	}
	if l := h.login("ringing-db"); l.Reach.Reach != "stale" || l.Reach.Holders != 0 {
		t.Errorf("nobody has taken the key out: %+v", l.Reach)
	}
	if r := h.as(sunniva, "key", "private", "hers-2", "-reason", "mine"); r.status != 0 {
		t.Fatal(r.err)
	}
	// Somebody else's proof is not hers.
	h.must("prove", "debian@ringing-db", "-with", h.private("hers-2"))
	if r := h.client("prove", "-due", "-holder", "sunniva", "-q"); r.status != 3 || !strings.Contains(r.out, "hers-2") {
		t.Errorf("due of sunniva: %d %q", r.status, r.out)
	}
	if l := h.login("ringing-db"); l.Reach.Reach != "thin" || l.Reach.Holders != 1 {
		t.Errorf("ines has shown that she gets in: %+v", l.Reach)
	}
	if r := h.as(sunniva, "prove", "debian@ringing-db", "-with", h.private("hers-2")); r.status != 0 {
		t.Fatal(r.err)
	}
	if l := h.login("ringing-db"); l.Reach.Reach != "thin" || l.Reach.Holders != 1 {
		t.Errorf("one key has one holder: %+v", l.Reach)
	}
	// ines may hold it herself, and hands it over.
	h.must("rotate", "start", "-key", "hers-2", "-make", "here", "-mine", "-yes")
	if got := h.holderOf("hers-3"); got != "ines" {
		t.Errorf("the key that ines made is of %q", got)
	}
	h.must("key", "hand-over", "hers-3", "sunniva")
	if got := h.holderOf("hers-3"); got != "ines" {
		t.Errorf("before a proof it is of %q", got)
	}
	if r := h.as(sunniva, "prove", "hers-3", "-with", h.private("hers-3")); r.status != 0 {
		t.Fatal(r.err)
	}
	if got := h.holderOf("hers-3"); got != "sunniva" {
		t.Errorf("after her proof it is of %q", got)
	}
}

// TestWhoMakesAKeyForSomebodyHoldsItUntilTheyProveIt makes a pair with another's name as the holder.
func TestWhoMakesAKeyForSomebodyHoldsItUntilTheyProveIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	sunniva := h.person("sunniva")
	h.must("key", "new", "gift", "-holder", "sunniva")
	h.must("key", "new", "given", "-make", "service", "-holder", "sunniva")
	for _, key := range []string{"gift", "given"} {
		if got := h.holderOf(key); got != "ines" {
			t.Errorf("%s is of %q", key, got)
		}
	}
	if r := h.as(sunniva, "prove", "gift", "-with", h.private("gift")); r.status != 0 || h.holderOf("gift") != "sunniva" {
		t.Errorf("after her proof it is of %q: %s", h.holderOf("gift"), r.err)
	}
	if h.holderOf("given") != "ines" {
		t.Error("a proof of one key has changed another")
	}
}

// TestAnAcceptedStrangerIsHeldByWhoIsNamedOrWhoProvesIt accepts strangers.
func TestAnAcceptedStrangerIsHeldByWhoIsNamedOrWhoProvesIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.holder("team-atlas")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	file := h.keysFile("door")
	for _, comment := range []string{"found", "named"} {
		pair := h.pairOutside(comment)
		if err := os.WriteFile(file, []byte(read(t, file)+pair+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		h.client("sweep", "door")
		args := []string{"settle", "door", "-strangers", "accept", "-yes"}
		if comment == "named" {
			if r := h.client(append(args, "-holder", "nobody-here")...); r.status != 3 ||
				!strings.Contains(r.out, "nobody-here") {
				t.Errorf("a holder that is not there: %d %s%s", r.status, r.out, r.err)
			}
			args = append(args, "-holder", "team-atlas")
		}
		h.must(args...)
	}
	if found, named := h.holderOf("found"), h.holderOf("named"); found != "" || named != "team-atlas" {
		t.Errorf("held by %q and %q", found, named)
	}
	h.must("prove", "debian@door", "-with", h.private("found"))
	if got := h.holderOf("found"); got != "ines" {
		t.Errorf("after a login with it, it is of %q", got)
	}
}

// pairOutside makes a pair that the service does not know, and returns its public line.
func (h *house) pairOutside(name string) string {
	h.t.Helper()
	out, err := exec.Command(
		"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", h.private(name),
	).CombinedOutput()
	if err != nil {
		h.t.Fatalf("%v: %s", err, out)
	}
	return strings.TrimSpace(read(h.t, h.private(name)+".pub"))
}

// TestALostKeyIsFoundByItsHolderAlone marks a key as lost and takes it back.
func TestALostKeyIsFoundByItsHolderAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	sunniva := h.person("sunniva")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("prove", "debian@door", "-with", h.private("mine"))
	h.must("key", "mark-lost", "mine", "-reason", "tablet", "-yes")
	if l := h.login("door"); l.Reach.Reach != "shut" {
		t.Errorf("lost: %s", l.Reach.Reach)
	}
	if r := h.client("key", "found", "mine"); r.status != 2 {
		t.Errorf("without a reason: %d", r.status)
	}
	if status, body := h.call("POST", "/api/v1/keys/mine/found", h.token, `{"reason": "boat"}`); status != 409 {
		t.Errorf("without a proof of possession: %d %s", status, body)
	}
	if r := h.as(sunniva, "key", "found", "mine", "-with", h.private("mine"), "-reason", "boat"); r.status != 5 {
		t.Errorf("by somebody else: %d %s", r.status, r.err)
	}
	if status, body := h.call("POST", "/api/v1/keys/mine/found", h.token, `{"reason": "boat"}`); status != 409 {
		t.Errorf("with somebody else's proof: %d %s", status, body)
	}
	h.must("key", "found", "mine", "-reason", "it was in the boat")
	if l := h.login("door"); l.Reach.Reach != "thin" {
		t.Errorf("found: %s", l.Reach.Reach)
	}
	if e := h.told("key.found")[0]; e.Person != "ines" || e.Why == nil || *e.Why != "it was in the boat" {
		t.Errorf("the daybook says %+v", e)
	}
}
