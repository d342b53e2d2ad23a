package e2e

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/cdproto/browser"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
)

// page is a tab of a headless Chromium with an empty profile.
type page struct {
	t         testing.TB
	ctx       context.Context
	whole     context.Context // ctx without its limit
	url       string
	downloads string
}

func openBrowser(t testing.TB, url string) *page {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath("/usr/bin/chromium"), chromedp.WindowSize(1280, 800), chromedp.UserDataDir(t.TempDir()))
	for _, flag := range []string{"no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-background-networking", "disable-component-update", "disable-sync", "force-prefers-reduced-motion"} {
		options = append(options, chromedp.Flag(flag, true))
	}
	allocator, stop := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(stop)
	ctx, done := chromedp.NewContext(allocator)
	t.Cleanup(done)
	p := &page{t: t, ctx: ctx, url: url, downloads: t.TempDir()}
	p.do(chromedp.Navigate("about:blank")) // starts the browser
	p.whole = p.ctx
	p.within(120 * time.Second)
	size := emulation.SetDeviceMetricsOverrideParams{Width: 1280, Height: 800, DeviceScaleFactor: 1}
	if _, err := chromedp.Call(p.ctx, emulation.SetDeviceMetricsOverride, size); err != nil {
		t.Fatal(err)
	}
	if _, err := chromedp.Call(p.ctx, browser.SetDownloadBehavior, browser.SetDownloadBehaviorParams{Behavior: browser.SetDownloadBehaviorBehaviorAllow, DownloadPath: p.downloads}); err != nil {
		t.Fatal(err)
	}
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

// holds evaluates an expression until it is true.
func (p *page) holds(what, expression string) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 40*time.Second)
	defer cancel()
	if _, err := chromedp.Run(ctx, chromedp.Poll[bool](expression, chromedp.WithPollingInterval(100*time.Millisecond))); err != nil {
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
	find := `[...document.querySelectorAll("button, a, label, [role=button], [role=menuitem], .ant-segmented-item-label, .ant-select-item-option, .ant-select-item-option-content")]
		.filter((e) => e.offsetParent !== null && !e.disabled)
		.sort((a, b) => Boolean(b.closest("[role=dialog]")) - Boolean(a.closest("[role=dialog]")))
		.find((e) => e.innerText.trim() === ` + quote(text) + ` || e.getAttribute("aria-label") === ` + quote(text) + `)`
	p.holds("something to press named "+text, `Boolean(`+find+`)`)
	p.do(chromedp.Evaluate[chromedp.Void](find + `.click()`))
}

// focus puts the cursor into the field with the label and selects what is in it.
func (p *page) focus(label string) {
	p.t.Helper()
	p.holds("the field "+label, `(() => { const l = [...document.querySelectorAll("label")].find((e) => e.innerText.trim().startsWith(`+quote(label)+`) && e.offsetParent !== null);
		const f = l && (l.htmlFor ? document.getElementById(l.htmlFor) : l.closest(".ant-form-item")?.querySelector("input, textarea"));
		if (f) { f.focus(); f.select?.(); } return Boolean(f); })()`)
}

// fill types into the field with the label.
func (p *page) fill(label, text string) {
	p.t.Helper()
	p.focus(label)
	p.do(chromedp.KeyEvent(text))
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
		if _, err := chromedp.Call(p.ctx, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: typ, Key: key}); err != nil {
			p.t.Fatal(err)
		}
	}
}

// choose picks an option of the select with the label.
func (p *page) choose(label, option string) {
	p.t.Helper()
	p.fill(label, option)
	find := `[...document.querySelectorAll(".ant-select-item-option")].find((e) => e.innerText.trim().startsWith(` + quote(option) + `))`
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
	params := emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}}}
	if _, err := chromedp.Call(p.ctx, emulation.SetEmulatedMedia, params); err != nil {
		p.t.Fatal(err)
	}
}

func (p *page) signIn(name, password string) {
	p.t.Helper()
	p.open("/")
	p.fill("Name", name)
	p.fill("Password", password)
	p.press("Sign in")
	p.says("Instances")
}

func quote(s string) string {
	return "`" + s + "`"
}
