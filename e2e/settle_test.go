package e2e

import (
	"encoding/json"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

// adrift makes a login with one difference of each kind, and returns its file and
// what that holds.
func (h *house) adrift(instance string) (file, text string) {
	h.t.Helper()
	if !strings.Contains(h.must("key", "list", "-q"), "mine") {
		for _, k := range []string{"mine", "second", "third"} {
			h.must("key", "new", k)
		}
	}
	h.must(
		"instance", "launch", instance, "-image", "debian-12", "-size", "small", "-key", "mine", "-key", "second",
		"-steward",
	)
	h.must("sweep", instance)
	dir := h.t.TempDir()
	sshKeygen(h.t.(*testing.T), dir, "stranger", "-t", "ed25519", "-N", "")
	file = h.keysFile(instance)
	var kept []string
	for line := range strings.Lines(read(h.t.(*testing.T), file)) {
		if !strings.HasSuffix(line, " second\n") {
			kept = append(kept, line)
		}
	}
	third, stranger := read(
		h.t.(*testing.T), h.private("third.pub"),
	), read(
		h.t.(*testing.T), filepath.Join(dir, "stranger.pub"),
	)
	text = "# by hand\t\r\n" + strings.Join(kept, "") + "no-pty " + third + stranger + "half a line"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		h.t.Fatal(err)
	}
	h.client("sweep", instance)
	return file, text
}

func (h *house) differences(args ...string) []apiclient.Difference {
	h.t.Helper()
	var found []apiclient.Difference
	if err := json.Unmarshal([]byte(h.client(append([]string{"settle", "-json"}, args...)...).out), &found); err != nil {
		h.t.Fatal(err)
	}
	return found
}

func TestDifferencesAreSettledTogetherAfterAPreview(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	file, text := h.adrift("door")
	if found := h.differences("-all"); len(found) != 3 || found[0].Status != "missing" || found[0].Name != "second" ||
		found[1].Status != "stranger" ||
		found[2].Status != "ungranted" ||
		found[2].Name != "third" {
		t.Fatalf("%+v", found)
	}
	if r := h.client("settle", "door"); r.status != 3 || !strings.Contains(r.out, "place or withdraw?") ||
		read(t, file) != text {
		t.Errorf("without a choice: %d\n%s", r.status, r.out)
	}
	if r := h.client("settle", "door", "-missing", "place"); r.status != 2 || !strings.Contains(r.err, "settles 1 of 3") ||
		read(t, file) != text {
		t.Errorf("without being asked: %d %s", r.status, r.err)
	}
	for _, args := range [][]string{
		{"settle"},
		{"settle", "door", "-missing", "remove"},
		{"settle", "-all", "-strangers", "place"},
	} {
		if r := h.client(args...); r.status != 2 {
			t.Errorf("%v: %d %s", args, r.status, r.err)
		}
	}
	out := h.must(
		"settle", "door", "-missing", "place", "-ungranted", "remove", "-strangers", "accept", "-reason",
		"spring cleaning", "-yes",
	)
	if strings.Count(out, "done") != 2 || !strings.Contains(out, "recorded") {
		t.Errorf("%s", out)
	}
	got := read(t, file)
	if !strings.HasPrefix(got, "# by hand\t\r\n") || !strings.Contains(got, "half a line") ||
		strings.Contains(got, " third") ||
		strings.Count(got, " second") != 1 ||
		strings.Count(got, "ssh-ed25519") != 4 {
		t.Errorf("settled, the file is\n%q", got)
	}
	if found := h.differences("-all"); len(found) != 0 {
		t.Errorf("left: %+v", found)
	}
	if out, err := h.ssh(h.instance("door"), "second", "hostname"); err != nil || out != "door" {
		t.Errorf("what was placed: %s %v", out, err)
	}
	told := h.told("grant.accept", "login.settled")
	if detail(told[0], "key") != "hide-3" || told[0].Subject != "debian@door" ||
		detail(told[1], "place") != "1" || detail(told[1], "remove") != "1" {
		t.Errorf("the daybook says: %+v", told)
	}
	if out := h.must("grant", "list", "-login", "door"); !strings.Contains(out, "spring cleaning") ||
		strings.Contains(out, "third") {
		t.Errorf("the grants are\n%s", out)
	}
}

// TestASettlementTheWorldHasOutrunIsLeftOut asks, over the API, for what is no
// longer so, for nonsense, and for what the service has no means to do.
func TestASettlementTheWorldHasOutrunIsLeftOut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.adrift("door")
	found := h.differences("door")
	choose := func(d apiclient.Difference, status, choice string) string {
		return jsonBody(
			t,
			map[string]any{
				"choices": []map[string]any{{"login": d.Login, "sha256": d.Sha256, "status": status, "choice": choice}},
			},
		)
	}
	for name, c := range map[string]struct {
		body   string
		status int
		want   string
	}{
		"nothing":          {`{"choices": []}`, 422, "0 choices"},
		"the wrong choice": {choose(found[0], "missing", "remove"), 422, "cannot be done about what is missing"},
		"no fingerprint": {
			strings.ReplaceAll(choose(found[0], "missing", "place"), "SHA256:", "x"),
			422,
			"is no SHA-256",
		},
		"no login": {
			strings.ReplaceAll(choose(found[0], "missing", "place"), "door", "gate"), 404, "no instance",
		},
		"another status by now": {choose(found[0], "ungranted", "accept"), 202, "it is missing now, not ungranted"},
		"no difference": {
			strings.ReplaceAll(choose(found[0], "missing", "place"), found[0].Sha256, "SHA256:"+strings.Repeat("A", 43)),
			202,
			"no difference now",
		},
	} {
		if status, body := h.call("POST", "/api/v1/drift/settlements", h.token, c.body); status != c.status ||
			!strings.Contains(body, c.want) {
			t.Errorf("%s: %d %s", name, status, body)
		}
	}
	before := read(t, h.keysFile("door"))
	h.must("key", "mark-lost", "second", "-reason", "left on a train", "-yes")
	if r := h.client("settle", "door", "-missing", "place", "-yes"); r.status != 3 ||
		!strings.Contains(r.out, "the key second is lost") ||
		read(t, h.keysFile("door")) != before {
		t.Errorf("a lost key: %d\n%s", r.status, r.out)
	}
	h.must("instance", "stop", "door", "-yes")
	status, body := h.call("POST", "/api/v1/drift/settlements", h.token, choose(found[0], "missing", "place"))
	if status != 202 || !strings.Contains(body, "door is stopped") || !strings.Contains(body, "left out") {
		t.Errorf("a stopped one: %d %s", status, body)
	}
	if r := h.client("settle", "door", "-missing", "place", "-yes"); r.status != 3 {
		t.Errorf("left out, the client ends with %d", r.status)
	}
	if out := h.must("settle", "door", "-missing", "withdraw", "-yes"); !strings.Contains(
		out, "recorded",
	) { // needs no line changed
		t.Errorf("%s", out)
	}
}

// TestASettlementThatFailsOrIsKilledIsWholeOrAsBefore has the server refuse what
// was placed, so that the run is undone, and kills the service at many moments.
func TestASettlementThatFailsOrIsKilledIsWholeOrAsBefore(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	file, text := h.adrift("door")
	// A line that excludes everybody stands for the key already, so placing adds
	// nothing and the server continues refusing it.
	text = strings.ReplaceAll(text, "half a line", `from="192.0.2.1" `+read(t, h.private("second.pub")))
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := h.client("settle", "door", "-missing", "place", "-ungranted", "remove", "-yes"); r.status != 3 ||
		!strings.Contains(r.out, "does not accept second") {
		t.Errorf("%d\n%s%s", r.status, r.out, r.err)
	}
	got := read(t, file)
	for line := range strings.Lines(text) {
		if !strings.Contains(got, strings.TrimSpace(line)) {
			t.Errorf("undone, the file lacks %q:\n%s", line, got)
		}
	}
	file, _ = h.adrift("gate")
	for n := range 4 {
		done := make(chan struct{})
		go func() {
			defer close(done)
			h.client("settle", "gate", "-missing", "place", "-ungranted", "remove", "-yes")
		}()
		time.Sleep(time.Duration(20+25*n) * time.Millisecond)
		h.service.kill(t)
		h.startService(h.listen())
		<-done
		h.client("sweep", "gate")
		eventually(t, "the end of the runs", func() bool {
			var runs []apiclient.Run
			if err := json.Unmarshal([]byte(h.must("run", "list", "-json")), &runs); err != nil {
				t.Fatal(err)
			}
			for _, r := range runs {
				if r.EndedAt == nil {
					return false
				}
			}
			return true
		})
	}
	h.client("settle", "gate", "-missing", "place", "-ungranted", "remove", "-yes")
	if got := read(t, file); strings.Count(got, " second") != 1 || strings.Contains(got, " third") ||
		!strings.HasPrefix(got, "# by hand\t\r\n") ||
		!strings.Contains(got, "half a line") {
		t.Errorf("after the kills the file is\n%q", got)
	}
}

func TestALookIsComparedWithAnyOther(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	file := h.keysFile("door")
	first := read(t, file)
	for _, more := range []string{"# one\n", "# two\n", "# three\n"} {
		appendTo(t, file, more)
		h.client("sweep", "door")
	}
	if err := os.WriteFile(file, []byte(first+"# three\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	var versions []apiclient.FileVersion
	if err := json.Unmarshal([]byte(h.must("login", "history", "door", "-json")), &versions); err != nil {
		t.Fatal(err)
	}
	var looks []int
	for n, v := range versions {
		if strings.HasSuffix(v.Path, "authorized_keys") {
			looks = append(looks, n+1)
		}
	}
	if len(looks) != 5 {
		t.Fatalf("%d looks: %v", len(looks), versions)
	}
	show := func(from, to int) string {
		out := h.must("login", "history", "door", "-from", fmt.Sprint(looks[from]), "-to", fmt.Sprint(looks[to]))
		_, lines, _ := strings.Cut(out, "\n")
		return strings.TrimSpace(lines)
	}
	for _, c := range []struct {
		from, to int
		want     string
	}{{4, 0, "+ # three"}, {0, 4, "+ # three"}, {3, 1, "+ # two\n  + # three"}, {1, 0, "- # one\n  - # two"}, {2, 2, ""}} {
		if c.from == c.to {
			if r := h.client(
				"login", "history", "door", "-from", fmt.Sprint(looks[2]), "-to", fmt.Sprint(looks[2]),
			); r.status == 0 {
				t.Errorf("a look with itself: %s", r.out)
			}
			continue
		}
		if got := show(c.from, c.to); got != c.want {
			t.Errorf("%d to %d:\n%s\nwant\n%s", c.from, c.to, got, c.want)
		}
	}
	if r := h.client("login", "history", "door", "-from", "99"); r.status != 2 ||
		!strings.Contains(r.err, "numbered 1 to") {
		t.Errorf("%d %s", r.status, r.err)
	}
}

func TestWhatIsToBeProvedIsToldToEachHolder(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.holder("marek")
	h.must("key", "new", "mine")
	h.must("key", "new", "mareks", "-holder", "marek")
	h.must("key", "new", "idle")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "mine", "-key", "mareks")
	r := h.client("prove", "-due")
	if r.status != 3 || !strings.Contains(r.out, "mine") || strings.Contains(r.out, "mareks") ||
		strings.Contains(r.out, "idle") {
		t.Errorf("one's own: %d\n%s", r.status, r.out)
	}
	if r := h.client("prove", "-due", "-holder", "all", "-q"); r.status != 3 || r.out != "mine\nmareks\n" {
		t.Errorf("everybody's: %d %q", r.status, r.out)
	}
	h.must("prove", "mine")
	h.must("prove", "-due")
	if r := h.client("prove", "-due", "-within", "40"); r.status != 0 || !strings.Contains(r.out, "stale from") {
		t.Errorf("what goes stale in 40 days: %d\n%s", r.status, r.out)
	}
	if r := h.client("prove", "-due", "-holder", "marek"); r.status != 3 || !strings.Contains(r.out, "never proved") {
		t.Errorf("of another: %d\n%s", r.status, r.out)
	}
	h.refused("no-such-holder", "prove", "-due", "-holder", "nobody-here")
	h.refused("usage", "prove", "-due", "-within", "-1")
}

func TestTheReachMapAndTheGrantListTellTheSame(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.adrift("door")
	h.must("grant", "withdraw", "mine", "door", "-anyway", "-reason", "test")
	h.must("grant", "add", "third", "door", "-until", "2099-01-01")
	var m apiclient.ReachMap
	if err := json.Unmarshal([]byte(h.must("reach", "map", "-json")), &m); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	for _, c := range m.Logins[0].Cells {
		got[m.Keys[c.Key].Name] = string(c.Status)
	}
	if len(got) != 2 || got["second"] != "missing" || got["third"] != "in place" || m.Logins[0].Strangers != 1 ||
		!m.Logins[0].Steward {
		t.Errorf("%v %+v", got, m.Logins[0])
	}
	if out := h.must("reach", "map"); !strings.Contains(out, "▲ 1") || !strings.Contains(out, "second") ||
		strings.Contains(out, "steward-door") {
		t.Errorf("%s", out)
	}
	if out := h.must("reach", "map", "-find", "nowhere"); !strings.Contains(out, "No login matches") {
		t.Errorf("%s", out)
	}
	h.refused("bad-limit", "reach", "map", "-limit", "1001")
	for want, args := range map[string][]string{
		"debian@door second\ndebian@door steward-door\ndebian@door third\n": {},
		"debian@door third\n":  {"-with-end"},
		"debian@door mine\n":   {"-ended"},
		"debian@door second\n": {"-key", "second", "-login", "debian@door"},
		"":                     {"-label", "team=none"},
	} {
		if got := h.must(append([]string{"grant", "list", "-q"}, args...)...); got != want {
			t.Errorf("grant list %v: %q, want %q", args, got, want)
		}
	}
}

func TestTheGuestAgentReadsWhereThereIsNoStewardKey(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "agent=600ms")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine")
	h.must("instance", "launch", "plain", "-image", "gateway-os-7", "-size", "small", "-key", "mine")
	if r := h.client("sweep", "-all"); r.status != 3 || !strings.Contains(r.out, "its guest agent is not permitted") ||
		!strings.Contains(r.out, "its image has no guest agent") {
		t.Errorf("%d\n%s", r.status, r.out)
	}
	if err := h.cloudPort().PermitAgent(t.Context(), h.instance("door").CloudId, true); err != nil {
		t.Fatal(err)
	}
	if r := h.client("sweep", "door"); r.status != 3 || !strings.Contains(r.out, "has not registered yet") {
		t.Errorf("at once: %d\n%s", r.status, r.out)
	}
	eventually(t, "a reading by the agent", func() bool { return h.client("sweep", "door").status == 0 })
	l := h.login("door")
	if *l.SweptBy != "read by the guest agent" || l.Reach.InPlace != 1 || len(l.Folders) != 2 ||
		l.Folders[1].Path != "/home/debian/.ssh" ||
		l.Folders[1].Mode != "0700" {
		t.Errorf("%+v %s %v", l.Reach, *l.SweptBy, l.Folders)
	}
	file := h.keysFile("door")
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("../../../../../../../etc/passwd", file); err != nil { // out of the disk
		t.Fatal(err)
	}
	if r := h.client("sweep", "door"); r.status != 3 || strings.Contains(r.out, "known key") ||
		!strings.Contains(r.out, "failed !") {
		t.Errorf("a link out of the disk: %d\n%s", r.status, r.out)
	}
	if l := h.login("door"); l.Reach.InPlace != 1 || l.Reach.SweepError == nil {
		t.Errorf("after it: %+v", l.Reach)
	}
}

// gate is a port before an SSH server, which can fall silent or lead elsewhere.
type gate struct {
	net.Listener
	mu   sync.Mutex
	to   string     // "" for silence
	open []net.Conn // what is being passed on
	held []net.Conn
}

func newGate(t *testing.T, to string) *gate {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	g := &gate{Listener: l, to: to}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go g.pass(c)
		}
	}()
	return g
}

func (g *gate) lead(to string) {
	g.mu.Lock()
	g.to = to
	g.mu.Unlock()
}

// cut leads elsewhere, and ends the connections that there are.
func (g *gate) cut(to string) {
	g.lead(to)
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, c := range g.open {
		c.Close()
	}
	g.open = nil
}

func (g *gate) pass(c net.Conn) {
	g.mu.Lock()
	to := g.to
	if to == "" {
		g.held = append(g.held, c) // open, and never answered; the collector would close it
	}
	g.mu.Unlock()
	if to == "" {
		return
	}
	far, err := net.Dial("tcp", to)
	if err != nil {
		c.Close()
		return
	}
	g.mu.Lock()
	g.open = append(g.open, c, far)
	g.mu.Unlock()
	go func() { copyAll(far, c) }()
	copyAll(c, far)
}

func copyAll(to, from net.Conn) {
	defer to.Close()
	buffer := make([]byte, 32<<10)
	for {
		n, err := from.Read(buffer)
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// TestASilentOrChangedHostCostsTheOthersNothing sweeps three machines of which one
// accepts and says nothing and one shows another host key.
func TestASilentOrChangedHostCostsTheOthersNothing(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	server := sshdtest.StartConfined(t)
	if err := os.WriteFile(server.KeysFile, []byte(read(t, h.private("mine.pub"))), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("instance", "launch", "calm", "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	real := fmt.Sprintf("127.0.0.1:%d", server.Port)
	silent, changed := newGate(t, real), newGate(t, real)
	// In this order: the file of changed has both steward keys at its first look.
	for _, g := range []*gate{silent, changed} {
		name := map[*gate]string{silent: "silent", changed: "changed"}[g]
		h.must(
			"instance", "adopt", name, "-address", "127.0.0.1", "-port", fmt.Sprint(g.Addr().(*net.TCPAddr).Port),
			"-login", server.User, "-with", h.private("mine"), "-steward", "-yes",
		)
	}
	before := read(t, server.KeysFile)
	silent.lead("")
	i := h.instance("calm")
	changed.lead(fmt.Sprintf("%s:%d", i.PublicAddress, i.Connection.Port))
	r := h.client("sweep", "-all")
	for _, want := range []string{
		"does not answer as an SSH server within",
		"the host key is not the pinned one",
		"2 known keys",
		"1 read as before, 0 changed, 2 failed",
	} {
		if !strings.Contains(r.out, want) {
			t.Errorf("the sweep does not say %q: %d\n%s", want, r.status, r.out)
		}
	}
	if l := h.login("changed"); l.Reach.SweptAt == nil || l.Reach.SweepError == nil ||
		l.Reach.Ungranted != 2 { // mine, and the steward key of the other, whose file it is too
		t.Errorf("what was seen before does not stay: %+v", l.Reach)
	}
	h.must("key", "new", "second")
	h.refused("run-failed", "grant", "add", "second", "changed")
	changed.lead(real)
	if r := h.client("sweep", "changed"); r.status != 3 || read(t, server.KeysFile) != before {
		t.Errorf("led back: %d\n%s", r.status, r.out)
	}
}

func TestTwoGrantsAtOnceOnOneLoginNeverLoseALine(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	names := []string{"a", "b", "c", "d", "e", "f"}
	for _, n := range names {
		h.must("key", "new", n)
	}
	var group sync.WaitGroup
	results := make([]result, len(names))
	for n, k := range names {
		group.Go(func() {
			args := []string{"grant", "add", k, "door"}
			if n%2 == 1 { // from another machine, not through the service
				args = append(args, "-with", h.private("mine"))
			}
			for range 40 { // one run at a time: the others are told, and try again
				if results[n] = h.client(args...); !strings.Contains(results[n].err, "another run is at work") &&
					!strings.Contains(results[n].err, "somebody else is editing") {
					return
				}
				time.Sleep(50 * time.Millisecond)
			}
		})
	}
	group.Wait()
	text := read(t, h.keysFile("door"))
	for n, k := range names {
		if results[n].status != 0 || strings.Count(text, " "+k+"\n") != 1 {
			t.Errorf("%s: %d %s", k, results[n].status, results[n].err)
		}
	}
	if t.Failed() {
		t.Log(text)
	}
}

// TestTwoWhoWithdrawEachOthersKeyLeaveOneIn has two people, each on a machine of their own, take
// the other's line out at the same time.
func TestTwoWhoWithdrawEachOthersKeyLeaveOneIn(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must("key", "new", "a")
	h.must("key", "new", "b")
	doors := []string{"door-1", "door-2", "door-3", "door-4"}
	for _, door := range doors {
		h.must("instance", "launch", door, "-image", "debian-12", "-size", "small", "-key", "a", "-key", "b")
	}
	var group sync.WaitGroup
	said := make([][2]result, len(doors))
	for n, door := range doors {
		for m, keys := range [][2]string{{"a", "b"}, {"b", "a"}} {
			group.Go(func() {
				said[n][m] = h.client("grant", "withdraw", keys[0], door, "-with", h.private(keys[1]), "-reason", "they left")
			})
		}
	}
	group.Wait()
	for n, door := range doors {
		text := read(t, h.keysFile(door))
		done := 0
		for m, key := range []string{"a", "b"} {
			there := strings.Contains(text, " "+key+"\n")
			if said[n][m].status == 0 {
				done++
			}
			if (said[n][m].status == 0) == there {
				t.Errorf(
					"%s: the withdrawal of %s ended with %d, %s; the file is\n%s", door, key, said[n][m].status,
					said[n][m].err, text,
				)
			}
		}
		if done != 1 {
			t.Errorf("%s: %d of two withdrawals were done:\n%+v\n%s", door, done, said[n], text)
		}
	}
}
