package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio/sshdtest"
)

// visitor is a page of a visit, without a browser.
type visitor struct {
	t    *testing.T
	conn *websocket.Conn
	sign func(data []byte) apiclient.VisitMessage

	mu   sync.Mutex
	out  []byte // shown since it was connected
	told []apiclient.VisitMessage
	err  error // why it is not connected now
	ack  bool  // whether it says what it has shown
}

// asked begins a visit in a session.
func (h *house) begins(t *testing.T, session string, b apiclient.BeginVisit) (v apiclient.Visit, p apiclient.Problem) {
	t.Helper()
	_, body := h.call("POST", "/api/v1/visits", session, jsonBody(t, b))
	if json.Unmarshal([]byte(body), &v) != nil || json.Unmarshal([]byte(body), &p) != nil {
		t.Fatal(body)
	}
	return v, p
}

// visit connects a page with a visit, from an origin.
func (h *house) visit(t *testing.T, session, id string, from int, origin string, by ssh.Signer) (*visitor, error) {
	t.Helper()
	r, err := http.NewRequest("GET", h.url, nil)
	if err != nil {
		t.Fatal(err)
	}
	present(r, session)
	if origin != "" {
		r.Header.Set("Origin", origin)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	url := "ws" + strings.TrimPrefix(h.url, "http") + "/api/v1/visits/" + id + "/stream?from=" + strconv.Itoa(from)
	conn, _, err := websocket.Dial(ctx, url, &websocket.DialOptions{HTTPHeader: r.Header})
	if err != nil {
		return nil, err
	}
	conn.SetReadLimit(1 << 20)
	v := &visitor{t: t, conn: conn, ack: true}
	v.sign = func(data []byte) apiclient.VisitMessage {
		s, err := by.Sign(nil, data)
		if err != nil {
			t.Error(err)
		}
		return apiclient.VisitMessage{Kind: "signature", Data: new(ssh.Marshal(*s))}
	}
	t.Cleanup(func() { conn.CloseNow() })
	go v.listen()
	return v, nil
}

func (v *visitor) listen() {
	for {
		kind, data, err := v.conn.Read(context.Background())
		v.mu.Lock()
		if err != nil {
			v.err = err
			v.mu.Unlock()
			return
		}
		var m apiclient.VisitMessage
		seen := 0
		if kind == websocket.MessageBinary {
			v.out = append(v.out, data...)
			seen = len(v.out)
		} else if json.Unmarshal(data, &m) == nil {
			v.told = append(v.told, m)
		}
		ack := v.ack
		v.mu.Unlock()
		if m.Kind == "sign" {
			v.tell(v.sign(*m.Data))
		}
		if seen > 0 && ack {
			v.tell(apiclient.VisitMessage{Kind: "seen", Seen: new(int64(seen))})
		}
	}
}

func (v *visitor) tell(m apiclient.VisitMessage) {
	data, err := json.Marshal(m)
	if err != nil {
		v.t.Error(err)
	}
	_ = v.conn.Write(context.Background(), websocket.MessageText, data) // one that is gone is seen by who reads
}

func (v *visitor) types(line string) {
	v.t.Helper()
	if err := v.conn.Write(v.t.Context(), websocket.MessageBinary, []byte(line+"\r")); err != nil {
		v.t.Error(err)
	}
}

func (v *visitor) shown() string {
	v.mu.Lock()
	defer v.mu.Unlock()
	return string(v.out)
}

// hears waits for a message of the kind.
func (v *visitor) hears(kind apiclient.VisitMessageKind) (m apiclient.VisitMessage) {
	v.t.Helper()
	eventually(v.t, "the message "+string(kind), func() bool {
		v.mu.Lock()
		defer v.mu.Unlock()
		for _, t := range v.told {
			if t.Kind == kind {
				m = t
				return true
			}
			if t.Kind == "end" {
				v.t.Fatalf("the visit ended: %v, %v", *t.How, t.Why)
			}
		}
		return false
	})
	return m
}

func (v *visitor) shows(text string) {
	v.t.Helper()
	eventually(v.t, "the output "+text, func() bool { return strings.Contains(v.shown(), text) })
}

// signerOf reads a private key that the client has written.
func (h *house) signerOf(t *testing.T, name string) ssh.Signer {
	t.Helper()
	s, err := ssh.ParsePrivateKey([]byte(read(t, h.private(name))))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// warden is a real sshd that is adopted as the instance mast, which the key mine opens, with a steward key.
func (h *house) warden(t *testing.T, config string) *sshdtest.Machine {
	t.Helper()
	h.must("key", "new", "mine")
	m := h.machineWith(t, nil, config, nil)
	h.must(
		"instance", "adopt", "mast", "-address", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-login", "warden", "-with",
		h.private("mine"), "-host-key", ssh.FingerprintSHA256(m.HostKey), "-steward",
	)
	t.Cleanup(func() { // the machine waits for those who are logged in
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		db, err := pgx.Connect(ctx, h.owner)
		if err != nil {
			t.Error(err)
			return
		}
		defer db.Close(ctx)
		if _, err := db.Exec(ctx, "UPDATE visits SET ended_by = 'the test' WHERE state <> 'ended'"); err != nil {
			t.Error(err)
		}
	})
	return m
}

const mast = "warden@mast"

func TestAVisitIsForTheSessionAndTheOriginThatItWasBegunIn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.service.kill(t)
	h.startService(h.listen(), "-visits-each", "3")
	h.warden(t, "")
	mine, ines := h.signerOf(t, "mine"), h.session("ines", password)
	ask := apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("mine")}
	if _, p := h.begins(t, h.token, ask); p.Code != "session-needed" {
		t.Errorf("with a token: %+v", p)
	}
	h.must(
		"operator",
		"add",
		"sunniva",
		"-role",
		"viewer",
		"-password-file",
		writeFile(t, filepath.Join(h.dir, "w"), password),
	)
	if _, p := h.begins(t, h.session("sunniva", password), ask); p.Code != "role-too-low" {
		t.Errorf("a viewer: %+v", p)
	}
	h.must(
		"operator",
		"add",
		"oona",
		"-role",
		"operator",
		"-limit",
		"team=cameras",
		"-password-file",
		filepath.Join(h.dir, "w"),
	)
	if _, p := h.begins(t, h.session("oona", password), ask); p.Code != "no-such-instance" {
		t.Errorf("somebody who does not see the instance: %+v", p)
	}
	for key, code := range map[string]string{"steward-mast": "steward-key", "nobodys": "no-such-key"} {
		if _, p := h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: &key}); p.Code != code {
			t.Errorf("%s: %+v, want %s", key, p, code)
		}
	}
	if _, p := h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "kept-key", Key: new("mine")}); p.Code == "" {
		t.Error("a key that nobody keeps is used from the safe")
	}
	v, p := h.begins(t, ines, ask)
	if p.Code != "" {
		t.Fatalf("%+v", p)
	}
	id := v.Id.String()
	for what, c := range map[string]struct{ session, origin string }{
		"another site":              {ines, "https://other.example"},
		"no origin":                 {ines, ""},
		"a token":                   {h.token, h.url},
		"another session of ines":   {h.session("ines", password), h.url},
		"somebody else's session":   {h.session("oona", password), h.url},
		"nobody":                    {"", h.url},
		"an origin that looks near": {ines, strings.Replace(h.url, "127.0.0.1", "127.0.0.1.evil.example", 1)},
	} {
		page, err := h.visit(t, c.session, id, 0, c.origin, mine)
		if err == nil { // it is told that there is none
			eventually(t, what+" to be refused", func() bool {
				page.mu.Lock()
				defer page.mu.Unlock()
				return page.err != nil
			})
			if strings.Contains(fmt.Sprint(page.told), "sign ") || strings.Contains(fmt.Sprint(page.told), "open") {
				t.Errorf("%s: %+v", what, page.told)
			}
		}
	}
	page, err := h.visit(t, ines, id, 0, h.url, mine)
	if err != nil {
		t.Fatal(err)
	}
	page.hears("open")
	page.types("id -un")
	page.shows("warden")
	var l apiclient.Login
	if err := json.Unmarshal([]byte(h.must("login", "show", mast, "-json")), &l); err != nil {
		t.Fatal(err)
	}
	for _, o := range l.Openers {
		if o.Key.Name == "mine" && o.EnteredAt == nil {
			t.Errorf("the completed login is no proof of entry: %+v", o)
		}
	}
	for n := range 3 {
		if _, p = h.begins(t, ines, ask); n < 2 && p.Code != "" {
			t.Errorf("%+v", p)
		}
	}
	if p.Code != "too-many-visits" {
		t.Errorf("the fourth at once: %+v", p)
	}
}

func TestAVisitOpensByAFittingSignatureAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.warden(t, "")
	h.must("key", "new", "other")
	mine, other, ines := h.signerOf(t, "mine"), h.signerOf(t, "other"), h.session("ines", password)
	why := "no"
	for what, sign := range map[string]func([]byte) apiclient.VisitMessage{
		"another key": func(data []byte) apiclient.VisitMessage {
			s, _ := other.Sign(nil, data)
			return apiclient.VisitMessage{Kind: "signature", Data: new(ssh.Marshal(*s))}
		},
		"other data": func([]byte) apiclient.VisitMessage {
			s, _ := mine.Sign(nil, []byte("something"))
			return apiclient.VisitMessage{Kind: "signature", Data: new(ssh.Marshal(*s))}
		},
		"no signature": func([]byte) apiclient.VisitMessage {
			return apiclient.VisitMessage{Kind: "signature", Data: new([]byte("\x00\x00\xff\xffx"))}
		},
		"a refusal": func([]byte) apiclient.VisitMessage { return apiclient.VisitMessage{Kind: "refusal", Why: &why} },
	} {
		v, p := h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("mine")})
		if p.Code != "" {
			t.Fatalf("%+v", p)
		}
		page, err := h.visit(t, ines, v.Id.String(), 0, h.url, mine)
		if err != nil {
			t.Fatal(err)
		}
		page.sign = sign
		eventually(t, what+" to end the visit", func() bool {
			v := h.visits(t)[0]
			return v.State == "ended" && *v.EndedHow == "failed" && strings.Contains(*v.Problem, "the page")
		})
		if strings.Contains(page.shown(), "$") {
			t.Errorf("%s opened a shell: %s", what, page.shown())
		}
	}
	// A key that does not open it, and another host key than the pinned one.
	v, _ := h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("other")})
	if _, err := h.visit(t, ines, v.Id.String(), 0, h.url, other); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the refusal", func() bool {
		v := h.visits(t)[0]
		return v.State == "ended" && strings.Contains(*v.Problem, "does not let other in")
	})
	again := h.machineWith(t, nil, "", nil)
	h.sql(fmt.Sprintf("UPDATE instances SET ssh_port = %d", again.Port))
	v, _ = h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("mine")})
	page, err := h.visit(t, ines, v.Id.String(), 0, h.url, mine)
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, "the refusal of the host key", func() bool {
		v := h.visits(t)[0]
		return v.State == "ended" && strings.Contains(*v.Problem, "host key")
	})
	for _, m := range page.told {
		if m.Kind == "sign" {
			t.Error("the page was asked to sign for another machine")
		}
	}
}

// TestAVisitGoesOnAfterACut sends more than a page takes at once, cuts it off, and goes on without losing a byte.
func TestAVisitGoesOnAfterACut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.warden(t, "")
	mine, ines := h.signerOf(t, "mine"), h.session("ines", password)
	v, _ := h.begins(t, ines, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("mine")})
	page, err := h.visit(t, ines, v.Id.String(), 0, h.url, mine)
	if err != nil {
		t.Fatal(err)
	}
	page.hears("open")
	page.mu.Lock()
	page.ack = false
	page.mu.Unlock()
	page.types("stty -echo; seq 100000 400000; echo over-$((6*7))")
	before := 0
	eventually(t, "the output to wait for the page", func() bool {
		n := len(page.shown())
		waits := n > 100_000 && n == before
		before = n
		time.Sleep(300 * time.Millisecond)
		return waits
	})
	if n := len(page.shown()); n > 700<<10 {
		t.Errorf("%d bytes came though the page has shown none", n)
	}
	page.conn.CloseNow()
	all := []byte(page.shown())
	for !strings.Contains(string(all), "over-42") {
		next, err := h.visit(t, ines, v.Id.String(), len(all), h.url, mine)
		if err != nil {
			t.Fatal(err)
		}
		if m := next.hears("open"); given(m.At) != int64(len(all)) {
			t.Fatalf("it goes on at %d, want %d", given(m.At), len(all))
		}
		next.ack = false
		next.tell(apiclient.VisitMessage{Kind: "seen", Seen: new(int64(len(all)))})
		eventually(t, "more output", func() bool {
			s := next.shown()
			return len(s) > 50_000 || strings.Contains(s, "over-42")
		})
		next.conn.CloseNow()
		all = append(all, next.shown()...)
	}
	text := strings.ReplaceAll(string(all), "\r\n", "\n")
	for n := 100_000; n <= 400_000; n++ {
		want := strconv.Itoa(n) + "\n"
		at := strings.Index(text, want)
		if at < 0 {
			t.Fatalf("%d was lost", n)
		}
		text = text[at:]
	}
}

func given[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func TestVisitsAreEnded(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.service.kill(t)
	h.startService(h.listen(), "-visit-idle", "6s")
	h.warden(t, "")
	word := writeFile(t, filepath.Join(h.dir, "word"), password)
	h.must("operator", "add", "marek", "-role", "operator", "-password-file", word)
	mine := h.signerOf(t, "mine")
	open := func(session string) (apiclient.Visit, *visitor) {
		v, p := h.begins(t, session, apiclient.BeginVisit{Login: mast, Way: "own-key", Key: new("mine")})
		if p.Code != "" {
			t.Fatalf("%+v", p)
		}
		page, err := h.visit(t, session, v.Id.String(), 0, h.url, mine)
		if err != nil {
			t.Fatal(err)
		}
		page.hears("open")
		return v, page
	}
	ends := func(v apiclient.Visit, how apiclient.VisitEnd) {
		t.Helper()
		eventually(t, "the end "+string(how), func() bool {
			for _, now := range h.visits(t) {
				if now.Id == v.Id && now.State == "ended" {
					if *now.EndedHow != how {
						t.Errorf("it ended: %s, want %s", *now.EndedHow, how)
					}
					return true
				}
			}
			return false
		})
	}
	marek := h.session("marek", password)
	v, _ := open(marek)
	if list := h.must("visit", "list", "-live"); !strings.Contains(list, "marek") || !strings.Contains(list, mast) {
		t.Errorf("%s", list)
	}
	h.must("visit", "end", v.Id.String()[:13])
	ends(v, "ended-by")
	v, _ = open(marek)
	ends(v, "idle")
	v, page := open(marek)
	page.types("exit")
	ends(v, "left")
	v, page = open(marek)
	page.types("kill -9 $(ps -o ppid= -p $$)") // the sshd of this login
	ends(v, "cut")
	v, _ = open(marek)
	h.must("operator", "change", "marek", "-role", "viewer")
	ends(v, "signed-out")
	h.must("operator", "change", "marek", "-role", "operator")
	marek = h.session("marek", password)
	v, _ = open(marek)
	h.must("operator", "change", "marek", "-close")
	ends(v, "signed-out")
	ines := h.session("ines", password)
	v, page = open(ines)
	h.service.kill(t)
	eventually(t, "the page to lose its connection", func() bool {
		page.mu.Lock()
		defer page.mu.Unlock()
		return page.err != nil
	})
	h.startService(h.listen())
	h.sql("UPDATE visits SET seen_at = seen_at - interval '1 minute'")
	ends(v, "cut")
	for _, live := range h.visits(t) {
		if live.State != "ended" {
			t.Errorf("%+v", live)
		}
	}
	h.told("visit.begin", "visit.open", "visit.end")
}

// TestTheKeyOfAVisitGoesThoughTheServiceDies kills the service while a visit by a key of its own is open, and while one
// opens.
func TestTheKeyOfAVisitGoesThoughTheServiceDies(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	m := h.warden(t, "")
	file := filepath.Join(m.Home("warden"), ".ssh/authorized_keys")
	before := read(t, file)
	ines := h.session("ines", password)
	for _, opened := range []bool{true, false} {
		signer := newSigner(t)
		v, p := h.begins(t, ines, apiclient.BeginVisit{
			Login: mast, Way: "visit-key", PublicKey: new(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))),
		})
		if p.Code != "" {
			t.Fatalf("%+v", p)
		}
		if opened {
			page, err := h.visit(t, ines, v.Id.String(), 0, h.url, signer)
			if err != nil {
				t.Fatal(err)
			}
			page.hears("open")
			line := read(t, file)
			if !strings.Contains(line, `from="127.0.0.1"`) || !strings.Contains(line, "expiry-time=") {
				t.Errorf("the line of the key has not its bounds: %s", line)
			}
		}
		h.service.kill(t)
		h.startService(h.listen())
		h.sql("UPDATE visits SET seen_at = seen_at - interval '1 minute'")
		eventually(t, "the line to be gone", func() bool {
			return h.visits(t)[0].Placed == nil && !strings.Contains(read(t, file), "expiry-time")
		})
	}
	if now := read(t, file); now != before {
		t.Errorf("the file is not as it was:\n%s\nwas\n%s", now, before)
	}
}

// TestTwoHundredIdleTerminalsFitInTheService opens as many as there may be, and looks at what the service takes.
func TestTwoHundredIdleTerminalsFitInTheService(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.service.kill(t)
	h.startService(h.listen(), "-visits-each", "300", "-requests-per-second", "0")
	h.must("key", "new", "mine")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "mine")
	mine, ines := h.signerOf(t, "mine"), h.session("ines", password)
	for range 200 {
		v, p := h.begins(t, ines, apiclient.BeginVisit{Login: "debian@cam", Way: "own-key", Key: new("mine")})
		if p.Code != "" {
			t.Fatalf("%+v", p)
		}
		page, err := h.visit(t, ines, v.Id.String(), 0, h.url, mine)
		if err != nil {
			t.Fatal(err)
		}
		page.hears("open")
	}
	if most := h.service.mostMemory(t); most > 300 {
		t.Errorf("the service had %d MB with 200 terminals open", most)
	} else {
		t.Logf("the service had at most %d MB", most)
	}
	if _, p := h.begins(t, ines, apiclient.BeginVisit{Login: "debian@cam", Way: "own-key", Key: new("mine")}); p.Code !=
		"too-many-visits" {
		t.Errorf("the 201st: %+v", p)
	}
}

// TestMachinesThatGiveNoTerminalEndTheVisitAlone visits a machine that lets everybody in and does nothing else.
func TestMachinesThatGiveNoTerminalEndTheVisitAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	mine, ines := h.signerOf(t, "mine"), h.session("ines", password)
	m := sshdtest.StartHostile(t, sshdtest.Harm{})
	h.client(
		"instance", "adopt", "reef", "-address", "127.0.0.1", "-port", fmt.Sprint(m.Port), "-login", "warden",
		"-host-key", ssh.FingerprintSHA256(m.HostKey),
	)
	v, p := h.begins(t, ines, apiclient.BeginVisit{Login: "warden@reef", Way: "own-key", Key: new("mine")})
	if p.Code != "" {
		t.Fatalf("%+v", p)
	}
	if _, err := h.visit(t, ines, v.Id.String(), 0, h.url, mine); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the end", func() bool {
		v := h.visits(t)[0]
		return v.State == "ended" && strings.Contains(*v.Problem, "gives no terminal")
	})
	if out := h.must("whoami"); !strings.Contains(out, "ines") {
		t.Errorf("the service: %s", out)
	}
}

// TestAVisitThatIsNotBegunLeavesNoKey refuses one more than there may be, many at once.
func TestAVisitThatIsNotBegunLeavesNoKey(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.service.kill(t)
	h.startService(h.listen(), "-visits-each", "2")
	h.must("key", "new", "mine")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "mine")
	ines := h.session("ines", password)
	var all sync.WaitGroup
	var begun atomic.Int32
	for range 8 {
		all.Go(func() {
			_, body := h.call("POST", "/api/v1/visits", ines, jsonBody(t, apiclient.BeginVisit{
				Login: "debian@cam", Way: "own-key", Key: new("mine"),
			}))
			if strings.Contains(body, `"state":"asked"`) {
				begun.Add(1)
			}
		})
	}
	all.Wait()
	if n := begun.Load(); n != 2 {
		t.Errorf("%d visits were begun at once, want 2", n)
	}
	public := string(ssh.MarshalAuthorizedKey(newSigner(t).PublicKey()))
	own := apiclient.BeginVisit{Login: "debian@cam", Way: "visit-key", PublicKey: &public}
	if _, p := h.begins(t, ines, own); p.Code != "too-many-visits" {
		t.Errorf("%+v", p)
	}
	// There is no means to place a line on cam, which has no steward key.
	h.sql("UPDATE visits SET state = 'ended', ended_at = now()")
	if _, p := h.begins(t, ines, own); p.Code != "no-means" && p.Code != "no-means-to-end" {
		t.Errorf("%+v", p)
	}
	eventually(t, "no key that is left over", func() bool {
		return h.count("keys WHERE name LIKE 'visit-%' AND state = 'active'") == 0
	})
}

// TestTheKeyOfAVisitLeavesAShutLoginShut visits a login whose only key is lost, by a key that is made for the visit:
// nobody holds that one, its line ends by itself, and it goes though it is the last one.
func TestTheKeyOfAVisitLeavesAShutLoginShut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	m := h.warden(t, "")
	file := filepath.Join(m.Home("warden"), ".ssh/authorized_keys")
	h.must("key", "mark-lost", "mine", "-reason", "laptop stolen", "-yes")
	if r := h.login("mast").Reach.Reach; r != "shut" {
		t.Fatalf("the login is %s before", r)
	}
	signer, ines := newSigner(t), h.session("ines", password)
	v, p := h.begins(t, ines, apiclient.BeginVisit{
		Login: mast, Way: "visit-key", PublicKey: new(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))),
	})
	if p.Code != "" {
		t.Fatalf("%+v", p)
	}
	page, err := h.visit(t, ines, v.Id.String(), 0, h.url, signer)
	if err != nil {
		t.Fatal(err)
	}
	page.hears("open")
	if r := h.login("mast").Reach.Reach; r != "shut" {
		t.Errorf("the login is %s while it is visited, want shut: nobody keeps a key to it", r)
	}
	if line := read(t, file); !strings.Contains(line, "expiry-time=") {
		t.Errorf("the line does not end by itself: %s", line)
	}
	page.tell(apiclient.VisitMessage{Kind: "leave"})
	eventually(t, "the line to be gone", func() bool {
		return h.visits(t)[0].Placed == nil && !strings.Contains(read(t, file), "expiry-time")
	})
	if r := h.login("mast").Reach.Reach; r != "shut" {
		t.Errorf("the login is %s afterwards", r)
	}
}
