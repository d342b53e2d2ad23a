package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
)

// page is a tab of a headless Chromium with a profile of its own.
type page struct {
	t         testing.TB
	ctx       context.Context
	whole     context.Context // ctx without its limit
	url       string
	downloads string
}

// chromium starts the browser of all tests, once. TestMain ends it.
var chromium = sync.OnceValues(func() (context.Context, error) {
	dir, err := os.MkdirTemp("", "plumlatch-chromium-*")
	if err != nil {
		return nil, err
	}
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(
			"/usr/bin/chromium-headless-shell",
		),
		chromedp.UserDataDir(filepath.Join(dir, "profile")),
		chromedp.Env("TMPDIR="+dir),
	)
	for _, flag := range []string{
		"no-sandbox",
		"disable-gpu",
		"disable-quic",
		"no-first-run",
		"disable-background-networking",
		"disable-component-update",
		"disable-sync",
		"force-prefers-reduced-motion",
	} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	ctx, done := chromedp.NewContext(allocator)
	endChromium = func() {
		done()
		stop()
		os.RemoveAll(dir)
	}
	return ctx, chromedp.Do(ctx)
})

var endChromium = func() {}

// openBrowser opens a tab of the browser that shares nothing with those of other tests.
func openBrowser(t testing.TB, url string) *page {
	t.Helper()
	whole, err := chromium()
	if err != nil {
		t.Fatal(err)
	}
	ctx, done := chromedp.NewContext(whole, chromedp.WithNewBrowserContext())
	t.Cleanup(done)
	p := &page{t: t, ctx: ctx, url: url, downloads: t.TempDir()}
	p.do(chromedp.Navigate("about:blank")) // makes the tab
	p.whole = p.ctx
	p.within(10 * time.Minute)
	size := emulation.SetDeviceMetricsOverrideParams{Width: 1280, Height: 800, DeviceScaleFactor: 1}
	if _, err := chromedp.Call(p.ctx, emulation.SetDeviceMetricsOverride, size); err != nil {
		t.Fatal(err)
	}
	downloads := browser.SetDownloadBehaviorParams{
		Behavior:         browser.SetDownloadBehaviorBehaviorAllow,
		DownloadPath:     p.downloads,
		BrowserContextID: chromedp.FromContext(ctx).BrowserContextID,
	}
	if _, err := chromedp.Call(p.ctx, browser.SetDownloadBehavior, downloads); err != nil {
		t.Fatal(err)
	}
	return p
}

// console opens a tab of the browser in which ines is signed in to the house's console.
func (h *house) console(t testing.TB) *page {
	t.Helper()
	p := openBrowser(t, h.url)
	p.signedIn("ines", password)
	return p
}

// within gives the test that long from now on.
func (p *page) within(limit time.Duration) {
	var cancel context.CancelFunc
	p.ctx, cancel = context.WithTimeout(p.whole, limit)
	p.t.Cleanup(cancel)
}

func (p *page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	if err := chromedp.Do(p.ctx, steps...); err != nil {
		p.shoot(filepath.Join(os.TempDir(), "plumlatch-failed.png"))
		p.t.Fatalf("the browser: %v\nthe page says: %s", err, p.text())
	}
}

func (p *page) text() string {
	ctx, cancel := context.WithTimeout(p.ctx, 2*time.Second)
	defer cancel()
	text, err := chromedp.Run(ctx, chromedp.Evaluate[string](`document.body?.innerText ?? ""`))
	if err != nil {
		return err.Error()
	}
	return text
}

func (p *page) open(path string) {
	p.t.Helper()
	p.do(chromedp.Navigate(p.url + path))
}

// left is in what the browser says where another page came while one was looked at.
const left = "(-32000)"

// holds evaluates an expression until it is true.
func (p *page) holds(what, expression string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	look := func() error {
		_, err := chromedp.Run(ctx, chromedp.Poll[bool](expression, chromedp.WithPollingInterval(100*time.Millisecond)))
		return err
	}
	err := look()
	for err != nil && strings.Contains(err.Error(), left) && ctx.Err() == nil {
		err = look()
	}
	if err != nil {
		p.shoot(filepath.Join(os.TempDir(), "plumlatch-failed.png"))
		p.t.Fatalf("waited in vain for %s: %v\nthe page says: %s", what, err, p.text())
	}
}

// says waits until the page shows the text.
func (p *page) says(text string) {
	p.t.Helper()
	p.holds("the text "+text, `document.body.innerText.includes(`+quote(text)+`)`)
}

// press clicks what has the accessible text: a button, a link, a label. What is
// in an open dialog goes before what lies under it, as for a pointer.
func (p *page) press(text string) {
	p.t.Helper()
	find := `[...document.querySelectorAll("button, a, label, [role=button], [role=menuitem], ` +
		`.ant-segmented-item-label, .ant-select-item-option, .ant-select-item-option-content")]
		.filter((e) => e.offsetParent !== null && !e.disabled)
		.sort((a, b) => Boolean(b.closest("[role=dialog]")) - Boolean(a.closest("[role=dialog]")))
		.find((e) => e.innerText.trim() === ` + quote(
		text,
	) + ` || e.getAttribute("aria-label") === ` + quote(
		text,
	) + `)`
	p.holds("something to press named "+text, `Boolean(`+find+`)`)
	p.do(chromedp.Evaluate[chromedp.Void](find + `.click()`))
}

// focus puts the cursor into the field with the label and selects what is in it.
func (p *page) focus(label string) {
	p.t.Helper()
	p.holds(
		"the field "+label,
		`(() => { const l = [...document.querySelectorAll("label")].find((e) => e.innerText.trim().startsWith(`+quote(
			label,
		)+`) && e.offsetParent !== null);
		const f = l && (l.htmlFor ? document.getElementById(l.htmlFor) : l
			.closest(".ant-form-item")?.querySelector("input, textarea"));
		if (f) { f.focus(); f.select?.(); } return Boolean(f); })()`,
	)
}

// fill types into the field with the label.
func (p *page) fill(label, text string) {
	p.t.Helper()
	p.focus(label)
	p.do(chromedp.KeyEvent(text))
}

// tick ticks the box that has the label for who cannot see it.
func (p *page) tick(label string) {
	p.t.Helper()
	p.holds("the box "+label+" is ticked", `(() => {
		const box = document.querySelector('input[type="checkbox"][aria-label=' + JSON.stringify(`+quote(label)+`) + ']')
		if (box && !box.checked) box.click()
		return Boolean(box && box.checked)
	})()`)
}

// paste puts a text into the field with the label in one go.
func (p *page) paste(label, text string) {
	p.t.Helper()
	p.focus(label)
	p.insert(text)
}

// insert puts a text in where the cursor is, in one go.
func (p *page) insert(text string) {
	p.t.Helper()
	if _, err := chromedp.Call(p.ctx, input.InsertText, input.InsertTextParams{Text: text}); err != nil {
		p.t.Fatal(err)
	}
}

// strike strikes a key that is a command and no text.
func (p *page) strike(key string) {
	p.t.Helper()
	for _, typ := range []input.DispatchKeyEventType{input.DispatchKeyEventTypeRawKeyDown, "keyUp"} {
		if _, err := chromedp.Call(
			p.ctx, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: typ, Key: key},
		); err != nil {
			p.t.Fatal(err)
		}
	}
}

// choose picks an option of the select with the label.
func (p *page) choose(label, option string) {
	p.t.Helper()
	p.fill(label, option)
	find := `[...document.querySelectorAll(".ant-select-item-option")].find((e) => e.innerText.trim().startsWith(` + quote(
		option,
	) + `))`
	p.holds("the option "+option, `Boolean(`+find+`)`)
	p.do(chromedp.Evaluate[chromedp.Void](find + `.click()`))
}

func (p *page) shoot(file string) {
	ctx, cancel := context.WithTimeout(p.ctx, 10*time.Second)
	defer cancel()
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		p.t.Logf("no picture: %v", err)
		return
	}
	if err := os.WriteFile(file, png, 0o644); err != nil {
		p.t.Error(err)
	}
}

// dark sets which look the system is said to prefer.
func (p *page) dark(on bool) {
	value := "light"
	if on {
		value = "dark"
	}
	params := emulation.SetEmulatedMediaParams{
		Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}},
	}
	if _, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, params); err != nil {
		p.t.Fatal(err)
	}
}

// signIn signs somebody in by the page that there is for it.
func (p *page) signIn(name, password string) {
	p.t.Helper()
	p.open("/")
	p.fill("Name", name)
	p.fill("Password", password)
	p.press("Sign in")
	p.says("Instances")
}

// signedIn gives the browser the cookie of a session that begins here, and opens no page.
func (p *page) signedIn(name, password string) {
	p.t.Helper()
	body, err := json.Marshal(apiclient.SignIn{Name: name, Password: password})
	if err != nil {
		p.t.Fatal(err)
	}
	r, err := http.Post(p.url+"/api/v1/session", "application/json", bytes.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	defer r.Body.Close()
	cookies := r.Cookies()
	if len(cookies) != 1 {
		p.t.Fatalf("the sign-in of %s: %s, with %d cookies", name, r.Status, len(cookies))
	}
	c := cookies[0]
	params := network.SetCookieParams{
		URL:      p.url,
		Name:     c.Name,
		Value:    c.Value,
		Path:     c.Path,
		HTTPOnly: &c.HttpOnly,
		SameSite: network.CookieSameSiteStrict,
	}
	if _, err := chromedp.Call(p.ctx, network.SetCookie, params); err != nil {
		p.t.Fatal(err)
	}
}

func quote(s string) string {
	return "`" + s + "`"
}
