package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
)

// bare launches instances that the key mine opens, without a steward key, and with
// foreign lines around its line, which has an option.
func (h *house) bare(t *testing.T, image string, names ...string) {
	t.Helper()
	if !strings.Contains(h.must("key", "list", "-q"), "mine") {
		h.must("key", "new", "mine")
	}
	for _, name := range names {
		h.must("instance", "launch", name, "-image", image, "-size", "small", "-key", "mine")
		line := strings.TrimSpace(read(t, h.private("mine.pub")))
		if err := os.WriteFile(
			h.keysFile(name), []byte("# set up by hand\nno-agent-forwarding "+line+"\nssh-puffin AAAA odd\n"), 0o600,
		); err != nil {
			t.Fatal(err)
		}
		h.client("sweep", name, "-with", h.private("mine"))
	}
}

// replacedBare is replaced for an instance without a steward key.
func (h *house) replacedBare(t *testing.T, instance, key string) {
	t.Helper()
	want := "# set up by hand\nno-agent-forwarding " + strings.TrimSpace(
		read(t, h.private(key+".pub")),
	) + "\nssh-puffin AAAA odd\n"
	// The new line is where Add puts it: at the end.
	text := read(t, h.keysFile(instance))
	for line := range strings.Lines(want) {
		if strings.Count(text, line) != 1 {
			t.Errorf("%s: the line %q is not there once:\n%s", instance, line, text)
		}
	}
	if strings.Count(text, "\n") != 3 {
		t.Errorf("%s: the file is\n%s", instance, text)
	}
}

// run returns a run as the API tells of it.
func (h *house) run(id uuid.UUID) string {
	h.t.Helper()
	_, body := h.call("GET", "/api/v1/runs/"+id.String(), h.token, "")
	return body
}

func (h *house) report(id string) apiclient.RotationReport {
	h.t.Helper()
	var p apiclient.RotationReport
	if err := json.Unmarshal([]byte(h.client("rotate", "report", id, "-json").out), &p); err != nil {
		h.t.Fatal(err)
	}
	return p
}

func TestARotationGoesThroughTheGuestAgentWhereThereIsNoStewardKey(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.bare(t, "debian-12", "a", "b")
	if r := h.client("rotate", "plan", "-key", "mine"); !strings.Contains(r.out, "its guest agent is not permitted") ||
		!strings.Contains(r.out, "add -from-here -with FILE") ||
		r.status != 3 {
		t.Errorf("%d %s", r.status, r.out)
	}
	for _, name := range []string{"a", "b"} {
		if err := h.cloudPort().PermitAgent(t.Context(), h.instance(name).CloudId, true); err != nil {
			t.Fatal(err)
		}
	}
	if out := h.must("rotate", "plan", "-key", "mine"); strings.Count(out, "guest agent") != 2 ||
		!strings.Contains(out, "no earlier rotation tells") {
		t.Errorf("%s", out)
	}
	h.must("rotate", "start", "-key", "mine", "-make", "service", "-instance", "a", "-yes")
	h.must("key", "private", "mine-2", "-reason", "mine")
	h.replacedBare(t, "a", "mine-2")
	if out := h.must("login", "show", "debian@a"); !strings.Contains(out, "read by the guest agent") {
		t.Errorf("%s", out)
	}
	// With a key made here the client's login is the proof, and the agent edits.
	if out := h.must("rotate", "start", "-key", "mine", "-yes"); !strings.Contains(out, "1 done") {
		t.Errorf("%s", out)
	}
	h.replacedBare(t, "b", "mine-3")
	if out := h.must("rotate", "plan", "-key", "mine-2"); !regexp.MustCompile(`\d\.\d s\n`).MatchString(out) ||
		!strings.Contains(out, "by what earlier rotations took") {
		t.Errorf("the plan does not tell how long it may take:\n%s", out)
	}
	// An agent that is no longer permitted in the grace stops at the safe point.
	h.client("rotate", "start", "-key", "mine-3", "-make", "service", "-grace", "2s", "-detach", "-yes")
	eventually(t, "the new line", func() bool { return h.rotation().Counts["proved"] == 1 })
	if err := h.cloudPort().PermitAgent(t.Context(), h.instance("b").CloudId, false); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the failure", func() bool { return h.rotation().Counts["failed"] == 1 })
	if text := read(t, h.keysFile("b")); !strings.Contains(text, " mine-3\n") || !strings.Contains(text, " mine-4\n") {
		t.Errorf("stopped, the file is\n%s", text)
	}
	if item := h.rotationItems(h.rotation().Id.String())[0]; !strings.Contains(
		*item.Detail, "its guest agent is not permitted",
	) {
		t.Errorf("%s", *item.Detail)
	}
	if err := h.cloudPort().PermitAgent(t.Context(), h.instance("b").CloudId, true); err != nil {
		t.Fatal(err)
	}
	h.client("rotate", "retry", h.rotation().Id.String())
	eventually(t, "the end", func() bool { return h.rotation().Counts["done"] == 1 })
	if text := read(t, h.keysFile("b")); strings.Contains(text, " mine-3\n") || !strings.Contains(text, " mine-4\n") {
		t.Errorf("the file is\n%s", text)
	}
}

func TestARotationIsDoneFromHereWithTheOldPrivateKey(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.bare(t, "debian-12", "a", "b", "c", "d")
	for name, args := range map[string][]string{
		"needs the old private key":        {"-from-here"},
		"go with -from-here":               {"-with", h.private("mine")},
		"needs the new private keys there": {"-from-here", "-with", h.private("mine"), "-make", "service"},
	} {
		if r := h.client(append([]string{"rotate", "start", "-key", "mine", "-yes"}, args...)...); r.status == 0 ||
			!strings.Contains(r.err, name) {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
	if out := h.must("rotate", "plan", "-key", "mine", "-from-here"); strings.Count(out, "from here") != 4 {
		t.Errorf("%s", out)
	}
	out := h.must(
		"rotate", "start", "-key", "mine", "-instance", "a", "-instance", "b", "-from-here", "-with",
		h.private("mine"), "-yes",
	)
	if !strings.Contains(out, "done: 2 done") {
		t.Errorf("%s", out)
	}
	h.replacedBare(t, "a", "mine-2")
	h.replacedBare(t, "b", "mine-2")
	r := h.rotation()
	for _, i := range h.rotationItems(r.Id.String()) {
		if out := h.run(*i.Run); !strings.Contains(out, "a login with mine-2 was completed from here") ||
			!strings.Contains(out, "mine is refused, as the service sees too") {
			t.Errorf("%s", out)
		}
	}
	if p := h.report(r.Id.String()); len(p.Replaced) != 2 || p.Replaced[0].ProofAfter == nil ||
		p.Replaced[0].ProofAfter.Person != "ines" ||
		p.Replaced[0].Means != "from here" ||
		!*p.Replaced[0].OldRefused {
		t.Errorf("%+v", p.Replaced)
	}
	// A key that the service keeps, and that was handed over, comes from here as well.
	h.fleet(t, "kept")
	h.must("rotate", "start", "-key", "mine", "-instance", "kept", "-make", "service", "-yes")
	kept := h.rotationItems(h.rotation().Id.String())[0].New
	h.must("key", "private", kept, "-reason", "for e")
	h.bare(t, "debian-12", "e")
	if out := h.must(
		"rotate", "start", "-key", "mine", "-instance", "e", "-to", kept, "-from-here", "-with", h.private("mine"),
		"-yes",
	); !strings.Contains(
		out, "1 done",
	) {
		t.Errorf("%s", out)
	}
	if text := read(t, h.keysFile("e")); strings.Contains(text, " mine\n") || !strings.Contains(text, " "+kept+"\n") {
		t.Errorf("%s", text)
	}
	// In the grace, and undone by whoever has the old private key.
	h.client(
		"rotate", "start", "-key", "mine", "-instance", "c", "-from-here", "-with", h.private("mine"), "-grace",
		"48h", "-yes",
	)
	id := h.rotation().Id.String()
	if text := read(t, h.keysFile("c")); !strings.Contains(text, " mine-4\n") || !strings.Contains(text, " mine\n") ||
		h.rotation().Counts["proved"] != 1 {
		t.Errorf("%v\n%s", h.rotation().Counts, text)
	}
	h.client("rotate", "undo", id, "-yes")
	if r := h.rotation(); r.EndedAt != nil || r.Counts["undoing"] != 1 {
		t.Errorf("undone by nobody: %v", r.Counts)
	}
	h.client("rotate", "watch", id, "-from-here", "-with", h.private("mine"))
	if r := h.rotation(); r.State != "undone" || strings.Contains(read(t, h.keysFile("c")), "mine-4") {
		t.Errorf("%s\n%s", r.State, read(t, h.keysFile("c")))
	}
	// Somebody else cannot report for whoever took it, and nobody takes what is not theirs.
	h.client(
		"rotate", "start", "-key", "mine", "-instance", "d", "-from-here", "-with", h.private("mine"), "-grace",
		"48h", "-yes",
	)
	id = h.rotation().Id.String()
	h.client("rotate", "undo", id, "-yes")
	if status, body := h.call("POST", "/api/v1/rotations/"+id+"/takes", h.token, `{"keys": ["other"]}`); status != 200 ||
		strings.TrimSpace(body) != "[]" {
		t.Errorf("taken with another key: %d %s", status, body)
	}
	status, body := h.call("POST", "/api/v1/rotations/"+id+"/takes", h.token, `{"keys": ["mine"]}`)
	var taken []apiclient.TakenItem
	if err := json.Unmarshal([]byte(body), &taken); status != 200 || err != nil || len(taken) != 1 ||
		taken[0].Phase != apiclient.TakenItemPhaseBack {
		t.Fatalf("%d %s", status, body)
	}
	if status, body := h.call("POST", "/api/v1/rotations/"+id+"/takes", h.token, `{"keys": ["mine"]}`); status != 200 ||
		strings.TrimSpace(body) != "[]" {
		t.Errorf("taken twice: %d %s", status, body)
	}
	for want, body := range map[string]string{
		"another-step": `{"step": "remove"}`,
		"bad-text":     `{"step": "take-back", "outcome": "a\nb"}`,
	} {
		if status, text := h.call("POST", "/api/v1/runs/"+taken[0].Run.String()+"/reports", h.token, body); status < 400 ||
			!strings.Contains(text, want) {
			t.Errorf("%s: %d %s", want, status, text)
		}
	}
	// What could not be done is told, and the login stays as it is.
	if status, body := h.call(
		"POST", "/api/v1/runs/"+taken[0].Run.String()+"/reports", h.token,
		`{"step": "take-back", "error": "the cat sat on the keyboard"}`,
	); status != 200 {
		t.Errorf("%d %s", status, body)
	}
	eventually(t, "the failure", func() bool { return h.rotation().Counts["failed"] == 1 })
	if text := read(t, h.keysFile("d")); !strings.Contains(text, " mine\n") {
		t.Errorf("%s", text)
	}
}

func TestHoldersAreAskedForNewPublicKeysAndTheRotationGoesOnWithThem(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	out := h.must("rotate", "start", "-key", "mine", "-make", "bring", "-reason", "yearly", "-yes")
	if !strings.Contains(out, "asked of its holder") || !strings.Contains(out, "plumlatch rotate bring mine-2") {
		t.Errorf("%s", out)
	}
	id := h.rotation().Id.String()
	if r := h.rotation(); r.Counts["asked"] != 2 || r.EndedAt != nil {
		t.Errorf("%v", r.Counts)
	}
	for _, args := range [][]string{{"rotate", "asked", "-holder", "me"}, {"reach"}, {"prove", "-due"}} {
		if r := h.client(args...); !strings.Contains(r.out, "mine-2") && !strings.Contains(r.out, "1 new public key") {
			t.Errorf("%v does not tell of the request: %s%s", args, r.out, r.err)
		}
	}
	h.must("key", "new", "spare")
	if r := h.client("rotate", "bring", "nothing", "-new"); r.status != 4 || !strings.Contains(r.err, "mine-2") {
		t.Errorf("a key that nobody asked for: %d %s", r.status, r.err)
	}
	for _, c := range []struct{ args, code string }{
		{h.private("mine.pub"), "old-key"},
		{"", "usage"},
		{h.keysFile("a"), "several-keys"},
	} {
		args := []string{"rotate", "bring", "mine-2"}
		if c.args != "" {
			args = append(args, c.args)
		}
		h.refused(c.code, args...)
	}
	if names, err := filepath.Glob(h.private("mine-2*")); err != nil || len(names) != 0 {
		t.Errorf("left behind by what was refused: %v %v", names, err)
	}
	if out := h.must("rotate", "bring", "mine-2", "-new"); !strings.Contains(out, "2 logins") {
		t.Errorf("%s", out)
	}
	if out := h.must("rotate", "watch", id); !strings.Contains(out, "2 done") {
		t.Errorf("%s", out)
	}
	h.replaced(t, "a", "mine-2")
	h.replaced(t, "b", "mine-2")
	h.refused("not-asked", "rotate", "bring", "mine-2", "-new")
	if out := h.must("reach"); strings.Contains(out, "asked to bring") {
		t.Errorf("%s", out)
	}
	// A key of the holder's that is recorded already may come, and a rotation that is
	// undone no longer asks.
	h.client("rotate", "start", "-key", "mine-2", "-make", "bring", "-instance", "a", "-yes")
	h.must("rotate", "bring", "mine-3", h.private("spare.pub"))
	h.client("rotate", "watch", h.rotation().Id.String())
	h.replaced(t, "a", "spare")
	h.client("rotate", "start", "-key", "mine-2", "-make", "bring", "-yes")
	h.client("rotate", "undo", h.rotation().Id.String(), "-yes")
	eventually(t, "the undo", func() bool { return h.rotation().State == "undone" })
	if r := h.client("rotate", "asked"); !strings.Contains(r.err, "No new public key is asked for") {
		t.Errorf("%s%s", r.out, r.err)
	}
}

func TestAnUrgentRotationHasNoGraceAndAnOverrideByNameForALostKeyAlone(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("key", "new", "away")
	for _, end := range []string{"away", "away.pub"} { // its holder is not here
		if err := os.Rename(h.private(end), filepath.Join(h.dir, end)); err != nil {
			t.Fatal(err)
		}
	}
	if r := h.client("rotate", "plan", "-key", "mine", "-urgent"); r.status != 3 ||
		strings.Count(r.out, "it is not marked as lost") != 2 {
		t.Errorf("a key that is not lost: %d %s", r.status, r.out)
	}
	h.must("key", "mark-lost", "mine", "-reason", "laptop stolen", "-yes")
	for _, bad := range [][]string{{"-grace", "1h"}, {"-between", "22:00-04:00"}, {"-first", "1"}} {
		h.refused("bad-urgent", append(
			[]string{"rotate", "start", "-lost", "-urgent", "-to", "away", "-yes"}, bad...,
		)...)
	}
	h.client("rotate", "start", "-lost", "-urgent", "-to", "away", "-reason", "stolen", "-detach", "-yes")
	id := h.rotation().Id.String()
	eventually(t, "both placed", func() bool { return h.rotation().Counts["placed"] == 2 })
	for what, c := range map[string]struct {
		args []string
		want string
	}{
		"no reason":         {[]string{"-login", "debian@a"}, "say why"},
		"no name":           {[]string{"-reason", "x"}, "name the one login"},
		"not asked":         {[]string{"-login", "debian@a", "-reason", "x"}, "Say -yes"},
		"only the instance": {[]string{"-login", "a", "-reason", "x", "-yes"}, "named as user@instance"},
		"another login":     {[]string{"-login", "debian@none", "-reason", "x", "-yes"}, "no instance"},
	} {
		if r := h.client(append([]string{"rotate", "override", id}, c.args...)...); r.status == 0 ||
			!strings.Contains(r.err, c.want) {
			t.Errorf("%s: %d %s", what, r.status, r.err)
		}
	}
	if text := read(t, h.keysFile("a")); !strings.Contains(text, " mine\n") {
		t.Fatalf("a refused override removed the line:\n%s", text)
	}
	h.client("rotate", "override", id, "-login", "debian@a", "-reason", "its holder is at sea", "-yes")
	eventually(t, "the override", func() bool { return h.rotation().Counts["done"] == 1 })
	h.replaced(t, "a", "away")
	if text := read(t, h.keysFile("b")); !strings.Contains(text, " mine\n") {
		t.Errorf("the override of a changed b:\n%s", text)
	}
	if e := h.told("rotation.override")[0]; e.Person != "ines" || e.Subject != "debian@a" ||
		detail(e, "old_key") != "mine" || detail(e, "key") != "away" || *e.Why != "its holder is at sea" {
		t.Errorf("%+v", e)
	}
	if p := h.report(id); len(p.Replaced) != 1 || p.Replaced[0].Override == nil ||
		*p.Replaced[0].Override != "ines: its holder is at sea" ||
		p.Replaced[0].ProofAfter != nil ||
		len(p.NotDone) != 1 {
		t.Errorf("%+v", p)
	}
	if r := h.client("rotate", "report", id); r.status != 3 ||
		!strings.Contains(r.out, "overridden by ines: its holder is at sea") {
		t.Errorf("%d %s", r.status, r.out)
	}
	// The override is for a lost key alone, also where the rotation waits.
	h.client("rotate", "undo", id, "-yes")
	eventually(t, "the undo", func() bool { return h.rotation().EndedAt != nil })
	h.must("key", "new", "other")
	h.must("grant", "add", "other", "debian@b")
	h.client("rotate", "start", "-key", "other", "-to", "away", "-detach", "-yes")
	id = h.rotation().Id.String()
	eventually(t, "it waits", func() bool { return h.rotation().Counts["placed"] == 1 })
	h.refused("no-override", "rotate", "override", id, "-login", "debian@b", "-reason", "impatient", "-yes")
}

func TestAStandingRuleRotatesWhatIsDueAndTellsWhatIsNot(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.client("sweep", "bare", "-with", h.private("mine"))
	h.must("rule", "add", "monthly", "-older", "20d", "-grace", "48h")
	r := h.client("rule", "due")
	if r.status != 3 || strings.Count(r.out, "monthly") != 3 ||
		!strings.Contains(r.out, "there is no steward key on bare") ||
		!strings.Contains(r.out, time.Now().Add(20*24*time.Hour).Format("2 Jan 2006")) {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	if r := h.client("rule", "due", "-json"); r.status != 3 {
		t.Errorf("as JSON, what cannot be done ends with %d", r.status)
	}
	if r := h.client("rule", "due", "-within", "19d"); r.status != 0 ||
		!strings.Contains(r.err, "Nothing is due within 19 days") {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	if len(h.rotations()) != 0 {
		t.Error("what is due in 20 days began")
	}
	for what, c := range map[string]struct {
		args []string
		want string
	}{
		"the same name":   {[]string{"rule", "add", "monthly", "-older", "3d"}, "there is a rule named monthly"},
		"one key for all": {[]string{"rule", "add", "x", "-older", "3d", "-to", "mine"}, "one replacement key"},
		"nothing":         {[]string{"rule", "add", "x"}, "say which keys"},
		"a name":          {[]string{"rule", "add", "x y", "-shared"}, "name"},
		"urgent":          {[]string{"rule", "add", "x", "-lost", "-urgent"}, "not urgent"},
		"from here":       {[]string{"rule", "add", "x", "-shared", "-from-here"}, "nobody's machine"},
		"days":            {[]string{"rule", "due", "-within", "400"}, "0 to 366"},
		"unknown":         {[]string{"rule", "pause", "x"}, "no rule named"},
		"hours":           {[]string{"rule", "add", "x", "-shared", "-between", "22"}, "are no hours"},
		"gone":            {[]string{"rule", "delete", "x", "-yes"}, "no rule named"},
		"no key":          {[]string{"rule", "add", "x", "-key", "none"}, "no key named"},
	} {
		if r := h.client(c.args...); r.status == 0 || !strings.Contains(r.err, c.want) {
			t.Errorf("%s: %d %s", what, r.status, r.err)
		}
	}
	// A rule whose keys are due begins by itself, once a day at most, and says what it cannot do.
	h.must("rule", "add", "no-sharing", "-shared", "-each", "instance")
	eventually(t, "the rule begins", func() bool { all := h.rotations(); return len(all) == 1 && all[0].EndedAt != nil })
	if r := h.rotation(); *r.Rule != "no-sharing" || r.Counts["done"] != 2 || r.RequestedBy != "service" {
		t.Errorf("%+v", r)
	}
	h.replaced(t, "a", "a-mine")
	eventually(t, "the note", func() bool {
		return strings.Contains(h.must("rule", "list"), "debian@bare: there is no steward key on bare")
	})
	if e := h.told("rule.cannot")[0]; e.Subject != "no-sharing" || e.Outcome != "refused" {
		t.Errorf("%+v", e)
	}
	h.must("rule", "pause", "no-sharing")
	if out := h.must("rule", "list"); !strings.Contains(out, "paused") {
		t.Errorf("%s", out)
	}
	h.must("rule", "resume", "no-sharing")
	h.must("rule", "delete", "monthly", "-yes")
	if r := h.client("rule", "delete", "no-sharing"); r.status != 2 {
		t.Errorf("without being asked: %d %s", r.status, r.err)
	}
	if out := h.must("rule", "list", "-q"); strings.TrimSpace(out) != "no-sharing" {
		t.Errorf("%s", out)
	}
	h.service.kill(t) // a restart begins nothing a second time
	h.startService(h.listen())
	eventually(
		t,
		"it was looked at again",
		func() bool { status, _ := h.call("GET", "/readyz", "", ""); return status == 200 },
	)
	if n := len(h.rotations()); n != 1 {
		t.Errorf("%d rotations", n)
	}
}

func TestARotationWaitsForAnotherOnTheSameLoginOrFindsItDone(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("key", "new", "next")
	h.client("rotate", "start", "-key", "mine", "-instance", "a", "-to", "next", "-grace", "48h", "-yes")
	first := h.rotation().Id.String()
	h.must("key", "new", "second")
	h.must("grant", "add", "second", "debian@a")
	if r := h.client("rotate", "plan", "-key", "second"); !strings.Contains(r.out, "another rotation is at work on it") ||
		!strings.Contains(r.out, "-overlap wait") {
		t.Errorf("%s", r.out)
	}
	if out := h.must("rotate", "plan", "-key", "second", "-overlap", "wait"); !strings.Contains(
		out, "after another rotation",
	) {
		t.Errorf("%s", out)
	}
	h.client(
		"rotate", "start", "-key", "second", "-key", "mine", "-make", "service", "-overlap", "wait", "-detach",
		"-yes",
	)
	waits := h.rotation()
	eventually(t, "b is done", func() bool { return h.rotation().Counts["done"] == 1 })
	items := h.rotationItems(waits.Id.String())
	for _, i := range items {
		if i.Instance == "a" && (i.State != "waiting" || i.Next == nil || !strings.Contains(*i.Next, first)) {
			t.Errorf("%+v", i)
		}
	}
	h.client("rotate", "undo", first, "-yes")
	eventually(t, "the end of the one that waited", func() bool { return h.rotation().EndedAt != nil })
	if r := h.rotation(); r.Id != waits.Id || r.Counts["done"] != 3 {
		t.Errorf("%+v %+v", r.Counts, h.rotationItems(r.Id.String()))
	}
	text := read(t, h.keysFile("a"))
	if strings.Contains(text, " next\n") || strings.Contains(text, " mine\n") || strings.Contains(text, " second\n") ||
		!strings.Contains(text, " second-2\n") ||
		!strings.Contains(text, " mine-2\n") {
		t.Errorf("%s", text)
	}
	// Where the one before replaces the key, the one that waited finds nothing to do.
	h.client("rotate", "start", "-key", "mine-2", "-instance", "a", "-to", "next", "-grace", "3s", "-detach", "-yes")
	h.client(
		"rotate", "start", "-key", "mine-2", "-instance", "a", "-make", "service", "-overlap", "wait", "-detach",
		"-yes",
	)
	second := h.rotation().Id
	eventually(
		t,
		"a login with the new key",
		func() bool { return h.client("prove", "debian@a", "-with", h.private("next")).status == 0 },
	)
	eventually(t, "both end", func() bool { all := h.rotations(); return all[0].EndedAt != nil && all[1].EndedAt != nil })
	if r := h.rotation(); r.Id != second || r.Counts["undone"] != 1 ||
		!strings.Contains(*h.rotationItems(second.String())[0].Detail, "mine-2 is no longer granted there") {
		t.Errorf("%+v %+v", r, h.rotationItems(second.String()))
	}
}

func TestTheReportTellsOfProofsAndOfPlacesWhereAnOldKeyMayLive(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.client("sweep", "bare", "-with", h.private("mine"))
	h.must("prove", "debian@a", "-with", h.private("mine"))
	for name, image := range map[string]bool{"before-the-storm": false, "golden": true} {
		h.copyDisk("a", name, image)
	}
	h.client("rotate", "start", "-key", "mine", "-reason", "audit", "-yes")
	h.copyDisk("a", "afterwards", false)
	id := h.rotation().Id.String()
	p := h.report(id)
	if len(p.Replaced) != 2 || len(p.NotDone) != 0 || len(p.LeftOut) != 1 || p.LeftOut[0].Login != "debian@bare" ||
		*p.Rotation.Reason != "audit" {
		t.Fatalf("%+v", p)
	}
	if a := p.Replaced[0]; a.ProofBefore == nil || a.ProofBefore.Person != "ines" || a.ProofAfter == nil ||
		!a.ProofAfter.At.After(a.ProofBefore.At) ||
		!*a.OldRefused ||
		a.EndedAt == nil ||
		*a.OldSha256 == *a.NewSha256 {
		t.Errorf("%+v", a)
	}
	places := map[string]string{}
	for _, o := range p.Elsewhere {
		places[o.Place] = string(o.Kind)
	}
	if len(places) != 3 || places["debian@bare"] != "login" || places["before-the-storm"] != "snapshot" ||
		places["golden"] != "image" {
		t.Errorf("%v", places)
	}
	for _, want := range []string{"Replaced (2)", "Left out by the plan (1)", "before-the-storm", "refused", "audit"} {
		if out := h.must("rotate", "report", id); !strings.Contains(out, want) {
			t.Errorf("it does not say %q:\n%s", want, out)
		}
	}
	// A key that the service kept is told of, and a cloud that does not answer as well.
	h.must("rotate", "start", "-key", "mine-2", "-make", "service", "-yes")
	h.must("rotate", "start", "-key", "mine-3", "-make", "service", "-yes")
	h.cloud.kill(t)
	kinds := fmt.Sprint(h.report(h.rotation().Id.String()).Elsewhere)
	if !strings.Contains(kinds, "the service still keeps its private key") ||
		!strings.Contains(kinds, "the cloud could not be asked") {
		t.Errorf("%s", kinds)
	}
}
