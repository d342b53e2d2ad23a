package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"golang.org/x/crypto/bcrypt"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

// lockedOut launches an instance that only the key named gone opens, beside a line of
// somebody else's.
func (h *house) lockedOut(t *testing.T, name, image string) (before string) {
	t.Helper()
	if !strings.Contains(h.must("key", "list", "-q"), "gone") {
		h.must("key", "new", "gone")
	}
	h.must("instance", "launch", name, "-image", image, "-size", "small", "-key", "gone", "-label", "team=field")
	appendTo(t, h.keysFile(name), "# by hand\t\r\nssh-puffin AAAA odd\n")
	return read(t, h.keysFile(name))
}

// restores returns the newest restore.
func (h *house) newestRestore() apiclient.Restore {
	h.t.Helper()
	var list []apiclient.Restore
	if err := json.Unmarshal([]byte(h.must("restore", "list", "-json")), &list); err != nil || len(list) == 0 {
		h.t.Fatalf("%v %v", err, list)
	}
	return list[0]
}

// opensAgain sees that the new key opens the instance by a real ssh, that the lost one
// does not, and that foreign lines are as they were.
func (h *house) opensAgain(t *testing.T, name, key string) {
	t.Helper()
	i := h.instance(name)
	if out, err := h.ssh(i, key, "hostname"); err != nil || out != name {
		t.Errorf("with %s: %s %v", key, out, err)
	}
	if out, err := h.ssh(i, "gone", "hostname"); err == nil {
		t.Errorf("the lost key still opens it: %s", out)
	}
	if text := read(t, h.keysFile(name)); !strings.Contains(text, "# by hand\t\r\nssh-puffin AAAA odd\n") {
		t.Errorf("foreign lines changed:\n%q", text)
	}
}

func TestTheClientGetsBackInByTheBestRoute(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	before := h.lockedOut(t, "door", "debian-12")
	h.must("ssh-config")
	out := h.must("restore", "routes", "door", "-lost", "gone")
	if !regexp.MustCompile(`(?s)ROUTE.*browser-shell .*guest-agent .*helper-disk .*replacement .*` +
		`Why in this order:\n +first +browser-shell +nothing stops.*` +
		`Not possible as things are:.*standing-key.*` +
		`plumlatch restore start debian@door -route browser-shell -new NAME`).
		MatchString(out) {
		t.Errorf("%s", out)
	}
	if r := h.client("restore", "routes", "door", "-lost", "gone", "-q", "-no-stop", "-keep-address"); r.status != 0 ||
		r.out != "browser-shell\nguest-agent\n" {
		t.Errorf("%+v", r)
	}
	if r := h.client("restore", "rehearse", "door"); r.status != 0 || !strings.Contains(r.out, "it answers as debian") ||
		read(t, h.keysFile("door")) != before {
		t.Errorf("%+v", r)
	}
	for _, bad := range [][]string{
		{"restore", "start", "door"},
		{"restore", "start", "door", "-route", "guest-agent"},
		{"restore", "start", "door", "-route", "guest-agent", "-new", "x", "-key", "gone"},
		{"restore", "start", "door", "-route", "guest-agent", "-new", "x", "-lost", "gone", "-lost-none"},
		{"restore", "start", "door", "-route", "helper-disk", "-new", "x"},
	} {
		if r := h.client(bad...); r.status != 2 || r.err == "" {
			t.Errorf("%v: %+v", bad, r)
		}
	}
	h.refused("no-such-restore", "restore", "watch", "x")
	h.refused("route-not-possible", "restore", "start", "door", "-route", "metadata-keys", "-new", "x")
	if _, err := os.Stat(h.private("x")); err == nil {
		t.Error("a pair was made for a restore that is not possible")
	}
	r := h.client(
		"restore", "start", "door", "-route", "guest-agent", "-new", "back", "-lost", "gone", "-reason",
		"the laptop is gone",
	)
	if r.status != 0 ||
		!strings.Contains(r.out, "debian@door is open again: a login with back was completed. gone no longer opens it") ||
		!strings.Contains(r.out, "is written again") {
		t.Fatalf("%+v", r)
	}
	h.opensAgain(t, "door", "back")
	id := h.newestRestore().Run.Id.String()
	if r := h.client("restore", "report", id); r.status != 0 ||
		!strings.Contains(r.out, "the guest agent's permission: closed") ||
		!strings.Contains(r.out, "Login with it") {
		t.Errorf("%+v", r)
	}
	if out := h.must("key", "show", "gone"); !strings.Contains(out, "lost") {
		t.Errorf("%s", out)
	}
	told := h.told("restore.start", "key.mark-lost:restored")
	if told[0].Subject != "debian@door" || detail(told[0], "route") != "guest-agent" || detail(told[0], "key") != "back" ||
		told[1].Subject != "gone" {
		t.Errorf("%+v", told)
	}
	h.refused("restore-over", "restore", "undo", id, "-yes")
	// A key in place whose private key is here places the next line.
	if r := h.client("restore", "start", "door", "-route", "standing-key", "-new", "third", "-lost-none"); r.status != 0 ||
		!strings.Contains(r.err, "placed from somebody's machine") {
		t.Errorf("%+v", r)
	}
	h.opensAgain(t, "door", "third")
	h.opensAgain(t, "door", "back")
}

func TestAPasswordIsTypedOnceAndPasswordLoginIsOffAfter(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.lockedOut(t, "door", "debian-12")
	disk := strings.Split(h.keysFile("door"), "/home/")[0]
	hash, err := bcrypt.GenerateFromPassword([]byte("brent goose"), bcrypt.MinCost)
	if err != nil {
		t.Fatal(err)
	}
	config := filepath.Join(disk, "etc/ssh/sshd_config")
	settings := read(t, config)
	for file, text := range map[string]string{
		config: strings.ReplaceAll(
			settings, "PasswordAuthentication no", "PasswordAuthentication yes",
		),
		filepath.Join(disk, "etc/shadow"): "debian:" + string(hash) + "\n",
	} {
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	secret := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(secret, []byte("brent goose\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r := h.client(
		"restore", "start", "door", "-route", "password", "-new", "back", "-lost", "gone", "-password-file", secret,
	)
	if r.status != 0 || !strings.Contains(r.err, "the SSH server no longer takes passwords") ||
		strings.Contains(r.out+r.err, "brent goose") {
		t.Fatalf("%+v", r)
	}
	h.opensAgain(t, "door", "back")
	if text := read(t, config); !strings.HasPrefix(text, "PasswordAuthentication no\n") {
		t.Errorf("%s", text)
	}
}

func TestWhatIsOpenIsShownAndAnUndoPutsAllBack(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "agent=60s")
	before := h.lockedOut(t, "door", "debian-12")
	h.must("key", "new", "back")
	h.must("restore", "start", "door", "-route", "guest-agent", "-key", "back", "-no-wait")
	eventually(t, "the agent's permission is open", func() bool {
		r := h.client("restore", "open")
		return r.status == 3 && strings.Contains(r.out, "the guest agent's permission")
	})
	id := h.newestRestore().Run.Id.String()
	h.refused("run-at-work", "restore", "start", "door", "-route", "browser-shell", "-key", "back")
	if r := h.client("restore", "undo", id); r.status != 2 || !strings.Contains(r.err, "puts everything back") {
		t.Errorf("without being asked: %+v", r)
	}
	r := h.client("restore", "undo", id, "-yes", "-reason", "wrong machine")
	if r.status != 0 || !strings.Contains(r.out, "The restore of debian@door is undone. Everything is as it was before.") {
		t.Fatalf("%+v", r)
	}
	if read(t, h.keysFile("door")) != before {
		t.Errorf("the file is\n%s", read(t, h.keysFile("door")))
	}
	if r := h.client("restore", "open"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if out := h.openers("door"); strings.Contains(out, "back") {
		t.Errorf("the grant stays:\n%s", out)
	}
}

func TestAKilledServiceGoesOnWithTheDiskWhileTheClientWatches(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "attach=500ms,detach=400ms")
	h.lockedOut(t, "door", "fedora-42")
	h.must("key", "new", "back")
	watched := make(chan result, 1)
	go func() {
		watched <- h.client("restore", "start", "door", "-route", "helper-disk", "-key", "back", "-lost", "gone", "-yes")
	}()
	for _, step := range []string{"detach", "lend", "reattach"} {
		eventually(t, "the step "+step, func() bool {
			r := h.client("restore", "list", "-json")
			var list []apiclient.Restore
			if json.Unmarshal([]byte(r.out), &list) != nil || len(list) == 0 {
				return false
			}
			for _, s := range list[0].Run.Steps {
				if s.Name == step && s.State == apiclient.StepStateRunning {
					return true
				}
			}
			return false
		})
		h.service.kill(t)
		h.startService(h.listen())
	}
	r := <-watched
	if r.status != 0 || !strings.Contains(r.out, "is open again") {
		t.Fatalf("%+v", r)
	}
	h.opensAgain(t, "door", "back")
}

func TestTheAdministratorsPasswordIsOpenedHere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "office", "-type", "rsa", "-bits", "2048")
	h.must("key", "new", "other", "-type", "rsa", "-bits", "2048")
	h.must("instance", "launch", "desk", "-image", "windows-2022", "-size", "small", "-key", "office")
	first := h.must("instance", "password", "desk", "-q")
	if again := h.must("instance", "password", "desk", "-q", "-with", h.private("office")); again != first ||
		len(strings.TrimSpace(first)) < 12 {
		t.Errorf("%q, then %q", first, again)
	}
	h.refused("another-key", "instance", "password", "desk", "-with", h.private("other"))
	h.refused(
		"route-not-possible",
		"restore",
		"start",
		"desk",
		"-route",
		"windows-password",
		"-new",
		"curve",
		"-type",
		"ed25519",
	)
	r := h.client("restore", "start", "desk", "-route", "windows-password", "-key", "other", "-lost", "office")
	if r.status != 0 || !strings.Contains(r.out, "Change it at once") {
		t.Fatalf("%+v", r)
	}
	second := h.must("instance", "password", "desk", "-q", "-with", h.private("other"))
	if second == first || !strings.Contains(r.out, strings.TrimSpace(second)) {
		t.Errorf("%q, then %q", first, second)
	}
	report := h.must("restore", "report", h.newestRestore().Run.Id.String())
	if strings.Count(report, "ines opened it") < 3 || strings.Contains(report, strings.TrimSpace(second)) {
		t.Errorf("%s", report)
	}
	if e := h.told("password.opened")[0]; e.Person != "ines" || e.Subject != "desk" {
		t.Errorf("%+v", e)
	}
	if out := h.must("daybook", "export"); strings.Contains(out, strings.TrimSpace(second)) {
		t.Errorf("the password is in the daybook:\n%s", out)
	}
}

func TestTheRestoreCallsJudgeWhatTheyAreGiven(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "agent=60s")
	h.lockedOut(t, "door", "debian-12")
	for name, c := range map[string]struct {
		method, path, body string
		status             int
		holds              string
	}{
		"no such login":    {"GET", "/logins/none/routes", "", 404, "no-such-instance"},
		"bad limit":        {"GET", "/logins/door/routes?max_downtime=soon", "", 422, "max_downtime"},
		"no such restore":  {"GET", "/restores/01a211ef-0000-7c8b-b4a8-cb9aa52371c2", "", 404, "no-such-restore"},
		"no id":            {"GET", "/restores/x", "", 422, ""},
		"an unknown route": {"POST", "/restores", `{"login":"door","route":"tunnel","key":"gone"}`, 422, "no-such-route"},
		"an unknown field": {
			"POST",
			"/restores",
			`{"login":"door","route":"guest-agent","key":"gone","force":true}`,
			422,
			"force",
		},
		"no key": {"POST", "/restores", `{"login":"door","route":"guest-agent","key":""}`, 404, "no key named"},
		"not confirmed": {
			"POST",
			"/restores",
			`{"login":"door","route":"helper-disk","key":"gone","lost":[]}`,
			409,
			"not-confirmed",
		},
		"undo of nothing":    {"POST", "/restores/01a211ef-0000-7c8b-b4a8-cb9aa52371c2/undo", "", 404, "no-such-restore"},
		"password of Debian": {"GET", "/instances/door/password", "", 403, "cloud-refused"},
	} {
		if status, text := h.call(c.method, "/api/v1"+c.path, h.token, c.body); status != c.status ||
			!strings.Contains(text, c.holds) {
			t.Errorf("%s: %d %s", name, status, text)
		}
	}
	// The same request under the same key begins one restore.
	h.must("key", "new", "back")
	client := h.api(h.token)
	var ids []string
	for range 2 {
		begun, err := kit.Answer[apiclient.Restore](client.StartRestore(
			t.Context(), &apiclient.StartRestoreParams{IdempotencyKey: new("once")},
			apiclient.StartRestore{Login: "door", Route: "guest-agent", Key: "back"},
		))
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, begun.Run.Id.String())
	}
	if ids[0] != ids[1] {
		t.Errorf("%v", ids)
	}
	h.must("restore", "undo", ids[0], "-yes")
}
