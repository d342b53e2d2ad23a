package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/sshio/sshdtest"
)

func (h *house) rotations() []apiclient.Rotation {
	h.t.Helper()
	list, err := kit.Answer[apiclient.RotationPage](h.api(h.token).ListRotations(h.t.Context(), nil))
	if err != nil {
		h.t.Fatal(err)
	}
	return list.Items
}

// rotation returns the newest.
func (h *house) rotation() apiclient.Rotation {
	h.t.Helper()
	all := h.rotations()
	if len(all) == 0 {
		h.t.Fatal("there is no rotation")
	}
	return all[0]
}

func (h *house) rotationItems(id string) []apiclient.RotationItem {
	h.t.Helper()
	var r struct{ Items []apiclient.RotationItem }
	if err := json.Unmarshal([]byte(h.client("rotate", "show", id, "-json").out), &r); err != nil {
		h.t.Fatal(err)
	}
	return r.Items
}

// fleet launches instances with a steward key, opened by the key mine, whose line
// has an option and foreign lines around it.
func (h *house) fleet(t *testing.T, names ...string) {
	t.Helper()
	if !strings.Contains(h.must("key", "list", "-q"), "mine") {
		h.must("key", "new", "mine")
	}
	for _, name := range names {
		h.must(
			"instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mine", "-steward", "-label",
			"team=field",
		)
		file := h.keysFile(name)
		text := read(t, file)
		text = "# set up by hand\n" + strings.Replace(
			text, strings.TrimSpace(read(t, h.private("mine.pub"))),
			`no-agent-forwarding `+strings.TrimSpace(read(t, h.private("mine.pub"))), 1,
		) + "ssh-puffin AAAA odd\n"
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	h.client("sweep", "-all")
}

// replaced checks that in the file of the instance one line of the new key has the
// place of that of the old, with its option, and that all other lines are as they
// were.
func (h *house) replaced(t *testing.T, instance, comment string) {
	t.Helper()
	text := read(t, h.keysFile(instance))
	if !strings.HasPrefix(text, "# set up by hand\n") || !strings.Contains(text, "ssh-puffin AAAA odd\n") ||
		strings.Count(text, "plum latch steward") != 1 ||
		strings.Count(text, "\n") != 4 ||
		len(
			regexp.MustCompile(`(?m)^no-agent-forwarding ssh-ed25519 \S+ `+regexp.QuoteMeta(comment)+`$`).
				FindAllString(text, -1),
		) != 1 {
		t.Errorf("%s: the file is\n%s", instance, text)
	}
}

func TestARotationReplacesAKeyEverywhereByPairsMadeHere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a", "b", "c")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.client("sweep", "bare", "-with", h.private("mine"))
	r := h.client("rotate", "plan", "-key", "mine", "-each", "instance")
	for _, want := range []string{
		"a-mine",
		"b-mine",
		"c-mine",
		"there is no steward key on bare",
		"plumlatch instance steward bare -with FILE",
		"3 logins on 3 instances change, 1 left out; 3 new keys",
	} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the plan does not say %q: %d\n%s", want, r.status, r.out)
		}
	}
	if r := h.client("rotate", "start", "-key", "mine", "-each", "instance"); r.status != 2 ||
		!strings.Contains(r.err, "Say -yes") ||
		len(h.rotations()) != 0 {
		t.Errorf("without being asked: %d %s", r.status, r.err)
	}
	out := h.must("rotate", "start", "-key", "mine", "-each", "instance", "-reason", "end sharing", "-yes")
	if !strings.Contains(out, "done: 3 done") {
		t.Errorf("%s", out)
	}
	for _, name := range []string{"a", "b", "c"} {
		h.replaced(t, name, name+"-mine")
		if out, err := h.ssh(h.instance(name), name+"-mine", "hostname"); err != nil || out != name {
			t.Errorf("the new key of %s: %s %v", name, out, err)
		}
		if _, err := h.ssh(h.instance(name), "mine", "hostname"); err == nil {
			t.Errorf("the old key still opens %s", name)
		}
		if info, err := os.Stat(h.private(name + "-mine")); err != nil || info.Mode().Perm() != 0o600 {
			t.Errorf("%v %v", info, err)
		}
	}
	if out := h.must("key", "show", "mine"); !strings.Contains(out, "active") { // it still opens bare
		t.Errorf("%s", out)
	}
	if out := h.must("grant", "list", "-login", "a"); !strings.Contains(out, "follows mine") ||
		strings.Contains(out, " mine ") {
		t.Errorf("the grants are\n%s", out)
	}
	if l := h.login("a"); l.Reach.Reach != "thin" || l.Reach.Ungranted+l.Reach.Missing != 0 {
		t.Errorf("%+v", l.Reach)
	}
	told := h.told("rotation.login", "rotation.done")
	if detail(told[0], "old_key") != "mine" || told[0].Outcome != "done" ||
		detail(told[1], "replaced") != "3" || detail(told[1], "failed") != "0" || detail(told[1], "undone") != "0" {
		t.Errorf("the daybook says: %+v", told)
	}
	// An existing key takes the place of a rotated one, which then opens nothing.
	h.must("key", "new", "next")
	if out := h.must("rotate", "start", "-key", "a-mine", "-to", "next", "-yes"); !strings.Contains(out, "1 done") {
		t.Errorf("%s", out)
	}
	h.replaced(t, "a", "next")
	if out := h.must("key", "show", "a-mine"); !strings.Contains(out, "retired") {
		t.Errorf("%s", out)
	}
	for name, c := range map[string]struct {
		args []string
		want string
	}{
		"nothing selected": {[]string{"plan"}, "usage"},
		"no such key":      {[]string{"plan", "-key", "gone"}, "no-such-key"},
		"no such strength": {[]string{"plan", "-weaker-than", "strong"}, "bad-weaker-than"},
		"no age":           {[]string{"plan", "-older", "long"}, "usage"},
		"both":             {[]string{"plan", "-key", "mine", "-to", "next", "-each", "instance"}, "bad-to"},
		"no instance":      {[]string{"plan", "-key", "mine", "-instance", "gone"}, "no-such-instance"},
		"hours":            {[]string{"start", "-key", "b-mine", "-between", "22-04", "-yes"}, "bad-between"},
		"a zone": {
			[]string{"start", "-key", "b-mine", "-between", "22:00-04:00", "-zone", "Nowhere", "-yes"},
			"bad-zone",
		},
		"too many":      {[]string{"start", "-key", "b-mine", "-at-once", "17", "-yes"}, "bad-at-once"},
		"nothing to do": {[]string{"start", "-key", "mine", "-instance", "bare", "-yes"}, "nothing-to-rotate"},
		"no id":         {[]string{"show", "x"}, "no-such-rotation"},
		"unknown":       {[]string{"pause", "0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"}, "no-such-rotation"},
		"where":         {[]string{"start", "-key", "b-mine", "-make", "there", "-yes"}, "usage"},
	} {
		t.Run(name, func(t *testing.T) { h.in(t).refused(c.want, append([]string{"rotate"}, c.args...)...) })
	}
	if names, err := filepath.Glob(h.private("b-mine-*")); err != nil || len(names) != 0 {
		t.Errorf("left behind by rotations that were refused: %v %v", names, err)
	}
	// A plan that no longer fits.
	body := `{"wanted": {"keys": ["b-mine"], "to": "next"}, "make": "none", ` +
		`"shown": [{"login": "debian@b", "old": "b-mine", "new": "next"}, ` +
		`{"login": "debian@c", "old": "b-mine", "new": "next"}]}`
	if status, text := h.call("POST", "/api/v1/rotations", h.token, body); status != 409 ||
		!strings.Contains(text, "gone: debian@c, b-mine by next") {
		t.Errorf("an outrun plan: %d %s", status, text)
	}
}

func TestAKeyThatTheServiceKeepsIsProvedByItAndTakenOutOnce(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	out := h.must("rotate", "start", "-key", "mine", "-make", "service", "-first", "1", "-then-go", "-yes")
	if !strings.Contains(out, "2 done") {
		t.Errorf("%s", out)
	}
	h.replaced(t, "a", "mine-2")
	h.replaced(t, "b", "mine-2")
	if out := h.must("key", "show", "mine"); !strings.Contains(out, "retired") {
		t.Errorf("%s", out)
	}
	if l := h.login("a"); l.Reach.Reach != "stale" { // nobody has it but the safe
		t.Errorf("%+v", l.Reach)
	}
	h.refused("no-reason", "key", "private", "mine-2")
	marek := strings.TrimSpace(h.must("token", "new", "t", "-role", "viewer", "-q"))
	if status, _ := h.call("POST", "/api/v1/keys/mine-2/private-key?reason=x", marek, ""); status != 403 {
		t.Errorf("a viewer: %d", status)
	}
	h.refused("steward-key", "key", "private", "steward-a", "-reason", "curious")
	if err := os.WriteFile(h.private("mine-2"), []byte("in the way"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.refused("file-exists", "key", "private", "mine-2", "-reason", "mine")
	if err := os.Remove(h.private("mine-2")); err != nil {
		t.Fatal(err)
	}
	h.must("key", "private", "mine-2", "-reason", "mine") // nothing was lost
	if out, err := h.ssh(h.instance("b"), "mine-2", "hostname"); err != nil || out != "b" {
		t.Errorf("taken out: %s %v", out, err)
	}
	h.refused(
		"private-key-released",
		"key",
		"private",
		"mine-2",
		"-reason",
		"again",
		"-out",
		filepath.Join(t.TempDir(), "x"),
	)
	// It rotates on, with the private key that is in the safe and with one made here.
	h.must("rotate", "start", "-key", "mine-2", "-yes")
	h.replaced(t, "a", "mine-3")
}

// TestAFailingLoginStopsAtItsSafePointAndHoldsUpNoOther breaks logins in several ways.
func TestAFailingLoginStopsAtItsSafePointAndHoldsUpNoOther(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b", "c", "d", "e")
	// b: the old line is gone; c: it is an authority; d: the steward is shut out; e: the
	// server does not take the new line, whose option excludes everybody.
	mine := strings.TrimSpace(read(t, h.private("mine.pub")))
	edit := func(name, old, with string) string {
		text := strings.Replace(read(t, h.keysFile(name)), old, with, 1)
		if err := os.WriteFile(h.keysFile(name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return text
	}
	before := map[string]string{
		"b": edit("b", "no-agent-forwarding "+mine+"\n", ""), "c": edit("c", "no-agent-forwarding ", "cert-authority "),
		"d": edit(
			"d", "restrict ssh-ed25519", `restrict,from="192.0.2.1" ssh-ed25519`,
		), "e": edit("e", "no-agent-forwarding ", `from="192.0.2.1" `),
	}
	r := h.client("rotate", "start", "-key", "mine", "-make", "service", "-yes")
	if r.status != 3 || !strings.Contains(r.out, "1 done, 4 failed") {
		t.Errorf("%d\n%s%s", r.status, r.out, r.err)
	}
	for _, want := range []string{
		"no longer is in place there",
		"certificate authority",
		"refuses the login",
		"plumlatch why e",
	} {
		if !strings.Contains(r.out, want) {
			t.Errorf("it does not say %q:\n%s", want, r.out)
		}
	}
	h.replaced(t, "a", "mine-2")
	for name, text := range before {
		if got := read(t, h.keysFile(name)); got != text {
			t.Errorf("%s failed, and its file is\n%s\nwas\n%s", name, got, text)
		}
	}
	// What is mended is tried again, one login or all.
	id := h.rotation().Id.String()
	edit("e", `from="192.0.2.1" `, "no-agent-forwarding ")
	h.client("rotate", "retry", id, "-login", "debian@e")
	eventually(t, "the second try of e", func() bool { return h.rotation().Counts["done"] == 2 })
	h.replaced(t, "e", "mine-2")
	h.refused("nothing-to-change", "rotate", "retry", id, "-login", "debian@e")
	edit("d", `restrict,from="192.0.2.1"`, "restrict")
	h.client("rotate", "retry", id)
	eventually(t, "the end", func() bool { return h.rotation().EndedAt != nil && h.rotation().Counts["done"] == 3 })
	h.replaced(t, "d", "mine-2")
}

func TestARotationPausesGoesOnAndIsUndoneWhileTheOldKeyStands(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b", "c", "d")
	h.must("key", "new", "next")
	// A first group whose member fails pauses the rest.
	aText := read(t, h.keysFile("a"))
	if err := os.WriteFile(
		h.keysFile("a"), []byte(strings.Replace(aText, "no-agent-forwarding ", "cert-authority ", 1)), 0o600,
	); err != nil {
		t.Fatal(err)
	}
	r := h.client("rotate", "start", "-key", "mine", "-to", "next", "-first", "1", "-grace", "48h", "-yes")
	if r.status != 3 || !strings.Contains(r.out, "1 login of the first group failed") ||
		!strings.Contains(r.out, "3 waiting, 1 failed") {
		t.Errorf("%d\n%s%s", r.status, r.out, r.err)
	}
	id := h.rotation().Id.String()
	if err := os.WriteFile(h.keysFile("a"), []byte(aText), 0o600); err != nil {
		t.Fatal(err)
	}
	// Another rotation leaves out what this one has.
	if r := h.client("rotate", "plan", "-key", "mine"); !strings.Contains(r.out, "another rotation is at work on it") {
		t.Errorf("%s", r.out)
	}
	h.client("rotate", "resume", id)
	h.client("rotate", "watch", id)
	eventually(t, "both keys side by side", func() bool { return h.rotation().Counts["proved"] == 3 })
	for _, key := range []string{"mine", "next"} {
		if out, err := h.ssh(h.instance("b"), key, "hostname"); err != nil || out != "b" {
			t.Errorf("in the grace, %s: %s %v", key, out, err)
		}
	}
	items := h.rotationItems(id)
	if items[1].DueAt == nil || time.Until(*items[1].DueAt) < 47*time.Hour {
		t.Errorf("%+v", items[1])
	}
	h.must("grant", "list") // and nothing is lost meanwhile: a restart in the grace
	h.service.kill(t)
	h.startService(h.listen())
	// One login is undone, then all.
	h.client("rotate", "undo", id, "-login", "debian@b", "-yes")
	eventually(t, "the undo of b", func() bool { return h.rotation().Counts["undone"] == 1 })
	if text := read(t, h.keysFile("b")); strings.Contains(text, " next\n") || !strings.Contains(text, " mine\n") {
		t.Errorf("undone, b has\n%s", text)
	}
	if r := h.client("rotate", "undo", id); r.status != 2 ||
		!strings.Contains(r.err, "2 logins") {
		t.Errorf("without being asked: %d %s", r.status, r.err)
	}
	h.client("rotate", "undo", id, "-yes")
	eventually(t, "the undo", func() bool { return h.rotation().State == "undone" })
	for _, name := range []string{"b", "c", "d"} {
		if text := read(t, h.keysFile(name)); strings.Contains(text, " next\n") || strings.Count(text, "\n") != 4 {
			t.Errorf("undone, %s has\n%s", name, text)
		}
	}
	if out := h.must("opens", "next"); !strings.Contains(out, "opens nothing") {
		t.Errorf("%s", out)
	}
	h.refused("wrong-state", "rotate", "pause", id)
	// A first group that is taken back pauses the rest as well.
	h.client("rotate", "start", "-key", "mine", "-make", "service", "-first", "1", "-grace", "48h", "-yes")
	id = h.rotation().Id.String()
	eventually(t, "the first group", func() bool { return h.rotation().Counts["proved"] == 1 })
	h.client("rotate", "undo", id, "-login", h.rotationItems(id)[0].Login, "-yes")
	eventually(t, "the pause", func() bool { return h.rotation().State == "paused" })
	if r := h.rotation(); r.Counts["waiting"] != 3 ||
		!strings.Contains(*r.PausedWhy, "1 login of the first group taken back") {
		t.Errorf("%+v", r)
	}
	h.client("rotate", "undo", id, "-yes")
	eventually(t, "the undo of the rest", func() bool { return h.rotation().State == "undone" })
	// Outside its hours nothing begins.
	hour := time.Now().UTC().Add(5 * time.Hour)
	between := fmt.Sprintf("%02d:00-%02d:30", hour.Hour(), hour.Hour())
	h.must("rotate", "start", "-key", "mine", "-instance", "c", "-to", "next", "-between", between, "-detach", "-yes")
	h.must("rotate", "pause", h.rotation().Id.String())
	if r := h.rotation(); r.State != "paused" || r.Counts["waiting"] != 1 {
		t.Errorf("%+v", r)
	}
}

// TestALostKeyIsNotLetInAgainByAnUndo marks the old key as lost in the grace, when the new one has
// been proved.
func TestALostKeyIsNotLetInAgainByAnUndo(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("key", "new", "next")
	h.client("rotate", "start", "-key", "mine", "-to", "next", "-grace", "48h", "-yes")
	eventually(t, "both keys side by side", func() bool { return h.rotation().Counts["proved"] == 2 })
	id := h.rotation().Id.String()
	h.must("key", "mark-lost", "mine", "-reason", "the laptop was stolen", "-yes")
	for _, args := range [][]string{{"rotate", "undo", id, "-yes"}, {"rotate", "undo", id, "-login", "debian@a", "-yes"}} {
		h.refused("new-key-proved", args...)
	}
	if status, body := h.call("POST", "/api/v1/rotations/"+id+"/changes", h.token, `{"change":"undo"}`); status < 400 {
		t.Errorf("by the API: %d %s", status, body)
	}
	for _, name := range []string{"a", "b"} {
		if text := read(t, h.keysFile(name)); !strings.Contains(text, " next\n") {
			t.Errorf("%s: the new key is gone:\n%s", name, text)
		}
	}
}

func TestARotationOutlastsADatabaseThatGoesAway(t *testing.T) {
	t.Parallel() // it waits more than it works
	server := startDatabase(t)
	h := server.house(t, "")
	names := []string{"a", "b", "c", "d", "e", "f"}
	h.fleet(t, names...)
	done := make(chan result)
	go func() {
		done <- h.client("rotate", "start", "-key", "mine", "-make", "service", "-at-once", "2", "-yes")
	}()
	eventually(t, "the first login", func() bool {
		all, err := os.ReadFile(h.keysFile("a"))
		return err == nil && strings.Contains(string(all), " mine-2\n")
	})
	server.stop(t)
	time.Sleep(time.Minute) // longer than any step waits
	server.start(t)
	<-done // it may have been told
	eventually(
		t,
		"the service is ready again",
		func() bool { status, _ := h.call("GET", "/readyz", "", ""); return status == 200 },
	)
	eventually(t, "the end", func() bool { return h.rotation().EndedAt != nil })
	if r := h.rotation(); r.Counts["done"] != len(names) {
		t.Errorf("%v: %+v", r.Counts, h.rotationItems(r.Id.String()))
	}
	for _, name := range names {
		h.replaced(t, name, "mine-2")
	}
}

func TestAStartThatIsSentTwiceIsOneRotation(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a")
	h.must("key", "new", "next")
	body := `{"wanted": {"keys": ["mine"], "to": "next"}, "make": "none", ` +
		`"shown": [{"login": "debian@a", "old": "mine", "new": "next"}], "settings": {"grace_seconds": 3600}}`
	send := func(key, body string) (int, apiclient.Rotation) {
		r, err := http.NewRequest("POST", h.url+"/api/v1/rotations", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Idempotency-Key", key)
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		var out apiclient.Rotation
		if err := json.NewDecoder(resp.Body).Decode(&out); err != nil && resp.StatusCode < 300 {
			t.Fatal(err)
		}
		return resp.StatusCode, out
	}
	status, first := send("one", body)
	again, second := send("one", body)
	if status != 202 || again != 202 || first.Id != second.Id || len(h.rotations()) != 1 {
		t.Errorf("%d %v, %d %v", status, first.Id, again, second.Id)
	}
	if status, _ := send("two", body); status != 409 || len(h.rotations()) != 1 { // the login is taken
		t.Errorf("another start of the same: %d", status)
	}
}

// TestAHostKeyThatChangesInTheGraceStopsTheRemoval leads a machine's port elsewhere
// between the new line and the removal of the old.
func TestAHostKeyThatChangesInTheGraceStopsTheRemoval(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "next")
	server, other := sshdtest.StartConfined(t), sshdtest.StartConfined(t)
	if err := os.WriteFile(server.KeysFile, []byte(read(t, h.private("mine.pub"))), 0o600); err != nil {
		t.Fatal(err)
	}
	g := newGate(t, fmt.Sprintf("127.0.0.1:%d", server.Port))
	h.must(
		"instance", "adopt", "mast", "-address", "127.0.0.1", "-port", fmt.Sprint(g.Addr().(*net.TCPAddr).Port),
		"-login", server.User, "-with", h.private("mine"), "-steward", "-yes",
	)
	h.must("grant", "add", "mine", "mast")
	h.client("rotate", "start", "-key", "mine", "-to", "next", "-grace", "6s", "-detach", "-yes")
	id := h.rotation().Id.String()
	eventually(t, "the new line", func() bool { return h.rotation().Counts["placed"] == 1 })
	h.must("prove", server.User+"@mast", "-with", h.private("next"))
	both := read(t, server.KeysFile)
	g.lead(fmt.Sprintf("127.0.0.1:%d", other.Port))
	eventually(t, "the failure", func() bool { return h.rotation().Counts["failed"] == 1 })
	if item := h.rotationItems(id)[0]; !strings.Contains(*item.Detail, "the host key is not the pinned one") ||
		read(t, server.KeysFile) != both {
		t.Errorf("%s\n%s", *item.Detail, read(t, server.KeysFile))
	}
	g.lead(fmt.Sprintf("127.0.0.1:%d", server.Port))
	h.client("rotate", "retry", id)
	eventually(
		t,
		"the new line again",
		func() bool { return h.rotation().Counts["placed"]+h.rotation().Counts["proved"] == 1 },
	)
	h.client("prove", server.User+"@mast", "-with", h.private("next"))
	eventually(t, "the end", func() bool { return h.rotation().Counts["done"] == 1 })
	if text := read(t, server.KeysFile); strings.Contains(text, " mine\n") || !strings.Contains(text, " next\n") {
		t.Errorf("%s", text)
	}
}

// at is a moment in a run at which the service is killed: just before the statement
// that the condition tells of takes effect.
type at struct{ table, condition string }

// holdAt has the database hold up every statement of that kind until the test lets
// go, and returns what waits until one is held and lets go of it by ending it.
func (h *house) holdAt(t *testing.T, a at) (held func() bool, letGo func()) {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, h.owner)
	if err != nil {
		t.Fatal(err)
	}
	const key = 811_003
	for _, q := range []string{
		fmt.Sprintf("SELECT pg_advisory_lock(%d)", key),
		fmt.Sprintf(
			"CREATE OR REPLACE FUNCTION hold_for_a_test() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM "+
				"pg_advisory_lock(%d); RETURN NEW; END $$",
			key,
		),
		fmt.Sprintf(
			"CREATE TRIGGER hold_for_a_test BEFORE UPDATE ON %s FOR EACH ROW WHEN (%s) EXECUTE FUNCTION hold_for_a_test()",
			a.table, a.condition,
		),
	} {
		if _, err := conn.Exec(ctx, q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	// Of this house alone: other tests hold theirs in databases of the same server.
	const waiting = "SELECT pid FROM pg_locks WHERE locktype = 'advisory' AND objid = $1 AND NOT granted AND database = " +
		"(SELECT oid FROM pg_database WHERE datname = current_database())"
	held = func() bool {
		var pid int
		return conn.QueryRow(ctx, waiting+" LIMIT 1", key).Scan(&pid) == nil
	}
	letGo = func() {
		if _, err := conn.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM ("+waiting+") w", key); err != nil {
			t.Error(err)
		}
		eventually(t, "the end of what was held", func() bool { return !held() })
		if _, err := conn.Exec(ctx, "DROP TRIGGER hold_for_a_test ON "+a.table); err != nil {
			t.Error(err)
		}
		conn.Close(ctx)
	}
	return held, letGo
}

// TestKilledAtEveryStepBoundaryARotationEndsWholeOrAsBefore kills the service with
// SIGKILL just before each thing that a rotation writes down: the begin and the end of
// every step, the journal in the middle of each edit, the end of each run, and every
// move of the item, where the service logs in with the new key and where the client does.
func TestKilledAtEveryStepBoundaryARotationEndsWholeOrAsBefore(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	var moments []at
	for _, step := range []string{"place", "enter", "remove", "see"} {
		for _, state := range []string{"running", "done"} {
			moments = append(
				moments,
				at{"run_steps", fmt.Sprintf("NEW.name = '%s' AND NEW.state = '%s' AND OLD.state <> NEW.state", step, state)},
			)
		}
	}
	moments = append(
		moments,
		at{
			"runs",
			"NEW.payload #> '{journal,placed}' IS NOT NULL AND OLD.payload #> '{journal,placed}' IS NULL",
		}, // the new line is written beside, and not renamed
		at{"runs", "NEW.payload #> '{journal,removed}' IS NOT NULL AND OLD.payload #> '{journal,removed}' IS NULL"},
		at{"runs", "NEW.ended_at IS NOT NULL AND NEW.kind = 'rotate'"},
		at{"rotation_items", "NEW.state = 'placing'"},
		at{"rotation_items", "NEW.state = 'done'"},
		at{"rotations", "NEW.ended_at IS NOT NULL"},
	)
	byClient := []at{
		{"rotation_items", "NEW.state = 'placed'"},
		{"rotation_items", "NEW.state = 'proved'"},
		{"rotation_items", "NEW.state = 'removing'"},
	}
	n := 0
	instance := func() string { n++; return fmt.Sprintf("i%02d", n) }
	var names []string
	for range len(moments)*2 - 3 + len(byClient) {
		names = append(names, instance())
	}
	h.fleet(t, names...)
	n = 0
	for _, maker := range []string{"service", "here"} {
		list := moments
		if maker == "here" {
			list = append(append([]at{}, byClient...), moments[:11]...)
		}
		for _, a := range list {
			name := instance()
			what := maker + " " + a.table + " " + a.condition
			before := read(t, h.keysFile(name))
			held, letGo := h.holdAt(t, a)
			done := make(chan result)
			go func() {
				done <- h.client("rotate", "start", "-key", "mine", "-instance", name, "-make", maker, "-yes")
			}()
			eventually(t, what, func() bool {
				select {
				case r := <-done:
					t.Fatalf("%s: it ended without coming to that: %+v", what, r)
				default:
				}
				return held()
			})
			h.service.kill(t)
			if text := read(t, h.keysFile(name)); !strings.Contains(text, "plum latch steward") ||
				!strings.HasPrefix(text, "# set up by hand\n") ||
				!strings.Contains(text, "ssh-puffin AAAA odd\n") ||
				!strings.Contains(text, " mine") ||
				strings.Count(text, " mine") > 2 {
				t.Errorf("%s: killed, the file is\n%s\nwas\n%s", what, text, before)
			}
			letGo()
			h.startService(h.listen())
			<-done
			if r := h.rotation(); r.EndedAt == nil { // the client may have gone with the service
				h.client("rotate", "watch", r.Id.String())
			}
			eventually(t, what+": the end", func() bool { return h.rotation().EndedAt != nil })
			r := h.rotation()
			if r.Counts["done"] != 1 || r.Total != 1 {
				t.Errorf("%s: %+v", what, r.Counts)
			}
			item := h.rotationItems(r.Id.String())[0]
			if item.Instance != name {
				t.Fatalf("%s: the rotation is of %s, not %s", what, item.Instance, name)
			}
			h.replaced(t, name, item.New)
			if entries, err := os.ReadDir(filepath.Dir(h.keysFile(name))); err != nil || len(entries) > 2 ||
				len(entries) == 2 && !strings.Contains(fmt.Sprint(entries), "plumlatch-") {
				t.Errorf("%s: beside the file there are %v %v", what, entries, err)
			}
		}
	}
}

func TestConsolePlansStartsWatchesAndUndoesARotation(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	p := h.console(t)
	p.open("/keys/mine")
	p.press("Rotate it")
	p.says("2 logins on 2 instances change, 0 left out, 1 new key")
	p.press("More choices")
	p.says("Plan a rotation")
	p.press("for each instance, which ends sharing")
	p.press("Show the plan")
	p.says("2 logins on 2 instances change, 0 left out, 2 new keys")
	p.says("a-mine")
	if len(h.rotations()) != 0 {
		t.Error("a plan began something")
	}
	p.fill("Grace, hours", "24")
	p.fill("Why, for the daybook", "end sharing")
	p.press("Replace keys in 2 logins")
	p.says("the old key is removed on")
	p.holds("both proved", `document.querySelector("[role=img]")?.getAttribute("aria-label") === "2 proved"`)
	if text := read(t, h.keysFile("a")); !strings.Contains(text, " a-mine\n") || !strings.Contains(text, " mine\n") {
		t.Errorf("in the grace the file is\n%s", text)
	}
	p.press("Pause")
	p.says("Paused: paused by ines")
	p.press("Resume")
	p.says("running")
	p.press("Undo")
	p.says("Afterwards: in 2 logins the new key is taken out again")
	p.press("Undo it")
	p.says("undone")
	eventually(t, "the undo", func() bool { return h.rotation().State == "undone" })
	if text := read(t, h.keysFile("a")); strings.Contains(text, " a-mine\n") || strings.Count(text, "\n") != 4 {
		t.Errorf("undone, the file is\n%s", text)
	}
	p.open("/rotations")
	p.says("end sharing")
}
