package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func TestFindLeadsToWhateverBearsTheName(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mast", "-purpose", "the gauge on the pier")
	for _, name := range []string{"mast-10", "a-mast", "mast"} {
		h.must("instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mast", "-label", "team="+name)
	}
	h.must(
		"operator", "add", "runa", "-role", "operator", "-limit", "team=mast-10", "-title", "Runa Mastery",
		"-password-file", writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	find := func(h *house, text string) string {
		t.Helper()
		var found []apiclient.Named
		if err := json.Unmarshal([]byte(h.client("find", text, "-json").out), &found); err != nil {
			t.Fatal(err)
		}
		names := ""
		for _, n := range found {
			names += string(n.Kind) + ":" + n.Name + " "
		}
		return names
	}
	for text, want := range map[string]string{
		"MAST":                             "instance:mast key:mast instance:mast-10 instance:a-mast person:runa ",
		"on the pier":                      "key:mast ",
		h.instance("a-mast").PublicAddress: "instance:a-mast ",
		"@mast":                            "login:debian@mast login:debian@mast-10 ",
		"m_st":                             "",
		"%":                                "",
	} {
		if got := find(h, text); got != want {
			t.Errorf("%q finds %q, want %q", text, got, want)
		}
	}
	if r := h.client("find", "nobody-has-this"); r.status != 3 || !strings.Contains(r.err, "No matches") {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	if status, body := h.call("GET", "/api/v1/names?q=%20", h.token, ""); status != 422 ||
		!strings.Contains(body, "no text to find") {
		t.Errorf("%d %s", status, body)
	}
	if status, _ := h.call("GET", "/api/v1/names?q=a&limit=51", h.token, ""); status != 422 {
		t.Errorf("a limit of 51: %d", status)
	}
	runa := h.in(t)
	runa.token = h.signIn("runa", password)
	if got := find(runa, "mast"); got != "key:mast instance:mast-10 person:runa " {
		t.Errorf("with a limit: %q", got)
	}

	const typeable = `document.activeElement.getAttribute("aria-label") === "A name, a fingerprint or a public key"`
	p := h.console(t)
	p.open("/rotations/plan?all=true")
	p.says("Plan a rotation")
	p.do(chromedp.KeyEvent("k", chromedp.KeyModifiers(chromedp.ModifierCtrl)))
	p.holds("the box to be typed into", typeable)
	p.insert("mast-1")
	p.holds("what was found", `document.querySelector("[role=option][aria-selected=true]")?.innerText.includes("mast-10")`)
	p.strike("Enter")
	p.holds("its page", `location.pathname === "/instances/mast-10" && document.title.startsWith("mast-10")`)
	p.strike("/") // where the page has no search of its own
	p.holds("the box to be typed into", typeable)
	p.insert("calen")
	p.holds("the page", `document.querySelector("[role=option][aria-selected=true]")?.innerText.includes("Calendar")`)
	p.strike("Enter")
	p.holds("the calendar", `location.pathname === "/rotations/calendar"`)
	p.open("/keys")
	p.says("the gauge on the pier")
	p.strike("/")
	p.holds("the list's own search", `document.activeElement.getAttribute("aria-label") === "Name, comment or purpose"`)
}

func TestALongListIsReadInPartsAndOnlyWhatIsSeenIsInThePage(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	var list []apiclient.ListedKey
	for n := range 600 {
		public, _, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		key, err := ssh.NewPublicKey(public)
		if err != nil {
			t.Fatal(err)
		}
		list = append(
			list,
			apiclient.ListedKey{Name: fmt.Sprintf("petrel-%03d", n), PublicKey: string(ssh.MarshalAuthorizedKey(key))},
		)
	}
	if _, err := kit.AnswerBytes(h.api(h.token).ImportKeys(t.Context(), apiclient.ImportKeys{Keys: list})); err != nil {
		t.Fatal(err)
	}
	p := h.console(t)
	p.open("/")
	p.settle()
	p.holds(
		"a first load of less than 450 kB, packed",
		`performance.getEntriesByType("resource").concat(performance.getEntriesByType("navigation"))
			.reduce((sum, e) => sum + e.encodedBodySize, 0) < 450_000`,
	)
	p.open("/keys")
	p.says("50 of 600 keys")
	p.press("Show more")
	const rows = `document.querySelectorAll("tbody tr[data-row-key]").length`
	for range 40 { // reading on brings the next part by itself
		p.do(chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, document.body.scrollHeight)`))
		if strings.Contains(p.text(), "petrel-599") {
			break
		}
	}
	p.says("petrel-599")
	p.holds(
		"all of them counted",
		`document.body.innerText.includes("600 keys")
			&& document.querySelector("table").getAttribute("aria-rowcount") === "601"`,
	)
	p.holds("only what is near in the page", rows+` > 10 && `+rows+` < 90`)
	p.holds(
		"the heads of the columns under the head of the page",
		`scrollY > 1000 && Math.abs(
				document.querySelector("thead th").getBoundingClientRect().top -
					document.querySelector("header").offsetHeight) < 2`,
	)
	p.do(chromedp.Evaluate[chromedp.Void](`window.scrollTo(0, 0)`))
	p.says("petrel-000")
	p.holds(
		"the first rows under the head",
		`document.querySelector("tbody tr[data-row-key]").getAttribute("aria-rowindex") === "2"
			&& document.querySelector("tbody tr[data-row-key] td").offsetWidth ===
				document.querySelector("thead th").offsetWidth`,
	)
	p.strike("/")
	p.do(chromedp.KeyEvent("petrel-45"))
	p.says("10 keys")
}

// TestConsoleShowsNothingOfAnotherLoginMeanwhile goes from one login to another while the service
// does not answer, and to the content by the link that the keyboard comes to first.
func TestConsoleShowsNothingOfAnotherLoginMeanwhile(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	for _, door := range [][2]string{{"gannet", "alpha"}, {"puffin", "beta"}} {
		h.must("key", "new", door[1])
		h.must("instance", "launch", door[0], "-image", "debian-12", "-size", "small", "-key", door[1], "-steward")
		h.must("sweep", door[0])
	}
	p := h.console(t)
	p.open("/logins/debian@gannet")
	p.says("alpha")
	const skip = `document.querySelector("a[href='#content']")`
	p.holds("the link to the content", skip+`.getBoundingClientRect().right < 0`)
	p.holds("the link in sight", `(() => { const a = `+skip+`; a.focus();
		const at = a.getBoundingClientRect();
		return at.left >= 0 && at.top >= 0 && at.right <= innerWidth && at.bottom <= innerHeight; })()`)
	if err := syscall.Kill(h.service.PID(), syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { syscall.Kill(h.service.PID(), syscall.SIGCONT) })
	p.holds("the other address", `(() => { history.pushState({}, "", "/logins/debian@puffin");
		dispatchEvent(new PopStateEvent("popstate")); return true; })()`)
	p.holds("the other login, and nothing of the first", `(() => {
		const text = document.querySelector("#content").innerText;
		return !text.includes("alpha") && !text.includes("gannet"); })()`)
	if err := syscall.Kill(h.service.PID(), syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	p.says("beta")
}
