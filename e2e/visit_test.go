package e2e

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/coder/websocket"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
)

// visits are those that the service knows of, the newest first.
func (h *house) visits(t *testing.T) []apiclient.Visit {
	t.Helper()
	var page apiclient.VisitPage
	if _, body := h.call("GET", "/api/v1/visits", h.token, ""); json.Unmarshal([]byte(body), &page) != nil {
		t.Fatal(body)
	}
	return page.Items
}

// takesKey gives the open dialog or page a private key file.
func (p *page) takesKey(file string) {
	p.t.Helper()
	p.says("Drop private key files here")
	p.do(chromedp.SetUploadFiles(`input[type=file]:not([webkitdirectory])`, []string{file}))
	p.holds(
		"the key in the page",
		`[...document.querySelectorAll("li code, li .code")].some((e) => e.innerText.startsWith("SHA256:"))`,
	)
}

// types types a line into the terminal once it is open.
func (p *page) types(line string) {
	p.t.Helper()
	p.holds("a terminal that takes keys", `document.activeElement?.classList.contains("xterm-helper-textarea")`)
	p.do(chromedp.KeyEvent(line + "\r"))
}

func TestATerminalOpensByAKeyThatStaysInThePage(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "tern", "-t", "ed25519", "-N", "")
	h.must("key", "import", "tern", "-from", filepath.Join(dir, "tern.pub"))
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern")
	b := h.between(t)
	p := openBrowser(t, b.url)
	p.signedIn("ines", password)
	p.open("/instances/cam")
	p.press("Open a terminal")
	p.takesKey(filepath.Join(dir, "tern"))
	p.press("Open the terminal")
	p.types("whoami")
	p.says("debian")
	p.types("hostname")
	p.says("cam")
	v := h.visits(t)[0]
	if v.State != "open" || v.Person != "ines" || v.Key != "tern" || v.Login != "debian@cam" || v.Address == "" {
		t.Errorf("%+v", v)
	}
	// A page that is loaded again goes on with what is open, without the private key.
	p.do(chromedp.Reload())
	p.says("whoami")
	p.types("echo still-here")
	p.says("still-here")
	p.press("End it")
	p.says("The terminal is closed")
	if v := h.visits(t)[0]; v.State != "ended" || v.EndedHow == nil || *v.EndedHow != "left" {
		t.Errorf("%+v", v)
	}
	if h.toldOften("visit.open") != 1 || h.toldOften("visit.end") != 1 {
		t.Errorf("the daybook tells of %d openings and %d ends", h.toldOften("visit.open"), h.toldOften("visit.end"))
	}
	b.holdsNone(t, map[string][]byte{"a line of the private key": secretLines(t, filepath.Join(dir, "tern"))})
}

func TestATerminalOpensByAKeyThatIsMadeForIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward")
	p := h.console(t)
	p.open("/terminals/debian@cam")
	p.press("A key for this visit")
	p.press("Open the terminal")
	p.types("whoami")
	p.says("debian")
	v := h.visits(t)[0]
	opens := h.client("openers", "cam", "-json").out
	if !strings.Contains(opens, v.Key) || v.Placed == nil {
		t.Errorf("%+v is not in place: %s", v, opens)
	}
	p.press("End it")
	p.says("The terminal is closed")
	eventually(t, "the line to be gone", func() bool {
		v := h.visits(t)[0]
		return v.Placed == nil && !strings.Contains(h.client("openers", "cam", "-json").out, v.Key)
	})
	var k apiclient.Key
	if err := json.Unmarshal([]byte(h.must("key", "show", v.Key, "-json")), &k); err != nil || k.State != "retired" {
		t.Errorf("the visit's key is %s, %v", k.State, err)
	}
}

// TestATerminalByAKeptKeyIsRecordedAndSeenByAdmins has a label ask for a recording and for a second person's consent.
func TestATerminalByAKeptKeyIsRecordedAndSeenByAdmins(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern", "-holder", "ines")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward",
		"-label", "team=atlas")
	if r := h.client("rotate", "start", "-key", "tern", "-make", "service", "-yes"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	kept := h.rotatedTo(t, "tern")
	h.must("visit", "label", "team=atlas")
	h.must("consent", "label", "team=atlas")
	word := writeFile(t, filepath.Join(h.dir, "word"), password)
	h.must("operator", "add", "oona", "-role", "admin", "-password-file", word)
	oona := h.signIn("oona", password)
	p := h.console(t)
	p.open("/terminals/debian@cam")
	p.press("A key in the safe")
	p.choose("Key in the safe", kept)
	p.fill("Why", "a camera hangs")
	p.press("Open the terminal")
	p.says("asks for a second person's consent")
	p.press("Ask for consent")
	p.says("Come back once they have")
	if r := h.as(oona, "consent", "grant", kept); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	p.open("/terminals/debian@cam")
	p.press("A key in the safe")
	p.choose("Key in the safe", kept)
	p.fill("Why", "a camera hangs")
	p.press("Open the terminal")
	p.says("What you type and see here is recorded")
	p.types("echo naïve-\u00e9-$((6*7))")
	p.says("naïve")
	p.press("End it")
	p.says("The terminal is closed")
	v := h.visits(t)[0]
	cast := h.must("visit", "recording", v.Id.String()[:8], "-reason", "to see what was done")
	if !strings.HasPrefix(cast, `{"height":`) || !strings.Contains(cast, "naïve") || !strings.Contains(cast, `"i", "e"`) {
		t.Errorf("the recording: %s", cast)
	}
	if r := h.as(h.person("marek"), "visit", "recording", v.Id.String()); r.status != 5 && r.status != 4 {
		t.Errorf("somebody else sees the recording: %+v", r)
	}
	if n := h.count("visit_recordings WHERE position('whoami' IN encode(encrypted, 'escape')) > 0"); n > 0 {
		t.Error("the recording is in the open in the database")
	}
	p.open("/settings/visits")
	p.says("debian@cam")
	p.press("Recording")
	p.fill("Why you look at it", "audit")
	p.press("Show it")
	p.says("naïve")
}

// TestThePageSignsOneLoginAndNothingElse stands in for a service that asks the page to sign other things than the login
// that the visit is of.
func TestThePageSignsOneLoginAndNothingElse(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "tern", "-t", "ed25519", "-N", "")
	h.must("key", "import", "tern", "-from", filepath.Join(dir, "tern.pub"))
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern")
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(read(t, filepath.Join(dir, "tern.pub"))))
	if err != nil {
		t.Fatal(err)
	}
	type request struct {
		Session         []byte
		Kind            byte
		User, Service   string
		Method          string
		Signed          bool
		Algorithm, Blob []byte
	}
	good := request{
		make([]byte, 32), 50, "debian", "ssh-connection", "publickey", true, []byte(public.Type()), public.Marshal(),
	}
	with := func(change func(*request)) []byte {
		r := good
		change(&r)
		return ssh.Marshal(r)
	}
	asks := []struct {
		what string
		data []byte
		good bool
	}{
		{"another user", with(func(r *request) { r.User = "root" }), false},
		{"another service", with(func(r *request) { r.Service = "ssh-userauth" }), false},
		{"another method", with(func(r *request) { r.Method = "hostbased" }), false},
		{"another key", with(func(r *request) { r.Blob = newSigner(t).PublicKey().Marshal() }), false},
		{"another algorithm", with(func(r *request) { r.Algorithm = []byte("ssh-rsa") }), false},
		{"another message", with(func(r *request) { r.Kind = 51 }), false},
		{"no session", with(func(r *request) { r.Session = nil }), false},
		{"something behind it", append(with(func(*request) {}), 0), false},
		{"a part of it", with(func(*request) {})[:60], false},
		{"an SSHSIG", []byte("SSHSIG\x00\x00\x00\x03git"), false},
		{"nothing", nil, false},
		{"the login", with(func(*request) {}), true},
		{"a second login", with(func(*request) {}), false},
	}
	got := make(chan []apiclient.VisitMessage, 1)
	service, err := url.Parse(h.url)
	if err != nil {
		t.Fatal(err)
	}
	proxy := httputil.NewSingleHostReverseProxy(service)
	hostile := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasSuffix(r.URL.Path, "/stream") {
			proxy.ServeHTTP(w, r)
			return
		}
		conn, err := websocket.Accept(w, r, nil)
		if err != nil {
			return
		}
		defer conn.CloseNow()
		var all []apiclient.VisitMessage
		for _, a := range asks {
			text, _ := json.Marshal(apiclient.VisitMessage{Kind: "sign", Data: &a.data})
			if conn.Write(r.Context(), websocket.MessageText, text) != nil {
				return
			}
			for {
				_, answer, err := conn.Read(r.Context())
				if err != nil {
					return
				}
				var m apiclient.VisitMessage
				if json.Unmarshal(answer, &m) == nil && (m.Kind == "signature" || m.Kind == "refusal") {
					all = append(all, m)
					break
				}
			}
		}
		got <- all
		<-r.Context().Done()
	}))
	t.Cleanup(hostile.Close)
	p := openBrowser(t, hostile.URL)
	p.signedIn("ines", password)
	p.open("/terminals/debian@cam")
	p.takesKey(filepath.Join(dir, "tern"))
	p.press("Open the terminal")
	var answers []apiclient.VisitMessage
	eventually(t, "the answers", func() bool {
		select {
		case answers = <-got:
			return true
		default:
			return false
		}
	})
	for n, a := range asks {
		m := answers[n]
		if !a.good {
			if m.Kind != "refusal" || m.Data != nil || given(m.Why) == "" {
				t.Errorf("%s: the page answered %s", a.what, m.Kind)
			}
			continue
		}
		var sig ssh.Signature
		if m.Data == nil || ssh.Unmarshal(*m.Data, &sig) != nil || public.Verify(a.data, &sig) != nil {
			t.Errorf("%s: the page answered %+v", a.what, m)
		}
	}
}

// TestWhatAMachineWritesStaysInTheTerminal has a real machine write what steers terminals, and breaks the connection.
func TestWhatAMachineWritesStaysInTheTerminal(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.warden(t, "")
	b := h.between(t)
	p := openBrowser(t, b.url)
	p.signedIn("ines", password)
	p.open("/terminals/" + mast)
	p.takesKey(h.private("mine"))
	p.press("Open the terminal")
	title := `document.title === "Terminal to ` + mast + ` · Plum Latch"`
	p.holds("its title", title)
	p.types(
		`printf '\033]0;pwned\a\033]2;pwned\a\033]52;c;cHduZWQ=\a\033[21t\033]8;;http://evil.example/\aclick\033]8;;\a\n'`,
	)
	p.types("echo done-$((6*7))")
	p.says("done-42")
	p.holds("its title still", title)
	p.holds("no link", `!document.querySelector(".terminal a")`)
	p.holds("no other page", `location.href.startsWith("`+b.url+`/terminals/")`)
	b.cut()
	p.says("continues as soon as the service answers")
	p.holds("it goes on", `!document.body.innerText.includes("continues as soon as the service answers")`)
	p.types("echo again-$((6*7))")
	p.says("again-42")
	if n := h.toldOften("visit.open"); n != 1 {
		t.Errorf("%d visits were opened", n)
	}
	// The keyboard leads out of it.
	p.strike("F6")
	p.holds("the first button", `document.activeElement.innerText === "Copy the selection"`)
	b.mu.Lock()
	defer b.mu.Unlock()
	if strings.Contains(b.sent.String(), "evil.example") {
		t.Error("the page asked for what a machine wrote")
	}
}
