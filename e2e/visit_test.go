package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

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
	p.holds("the key in the page", `[...document.querySelectorAll("li code, li .code")].some((e) => e.innerText.startsWith("SHA256:"))`)
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
