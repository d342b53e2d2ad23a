package e2e

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/demo"
)

// wide sets the width of the window, in pixels.
func (p *page) wide(width int64) {
	p.t.Helper()
	size := emulation.SetDeviceMetricsOverrideParams{Width: width, Height: 900, DeviceScaleFactor: 1}
	if _, err := chromedp.Call(p.ctx, emulation.SetDeviceMetricsOverride, size); err != nil {
		p.t.Fatal(err)
	}
}

// flaws is a program that looks a page over as somebody would who cannot see it well: texts
// whose contrast with what is behind them is less than WCAG 2.2 level AA asks (4.5, and 3
// for large ones), controls without a name, and what reaches out of the window to the side.
const flaws = `(() => {
	const found = [];
	const colour = (s) => {
		const n = (s.match(/[\d.]+/g) ?? []).map(Number);
		const [r, g, b, a = 1] = s.startsWith("color(") ? [n[0] * 255, n[1] * 255, n[2] * 255, n[3] ?? 1] : n;
		return { r, g, b, a };
	};
	const over = (top, under) => ({
		r: top.r * top.a + under.r * (1 - top.a),
		g: top.g * top.a + under.g * (1 - top.a),
		b: top.b * top.a + under.b * (1 - top.a),
		a: 1,
	});
	const light = ({ r, g, b }) => {
		const [x, y, z] = [r, g, b].map((v) => v / 255).map((v) => v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
		return 0.2126 * x + 0.7152 * y + 0.0722 * z;
	};
	const behind = (e) => {
		const layers = [];
		for (let at = e; at; at = at.parentElement) {
			layers.push(colour(getComputedStyle(at).backgroundColor));
			if (layers.at(-1).a === 1) break;
		}
		return layers.reverse().reduce((under, top) => over(top, under), { r: 255, g: 255, b: 255, a: 1 });
	};
	const dim = (e) => {
		let o = 1;
		for (let at = e; at; at = at.parentElement) o *= Number(getComputedStyle(at).opacity);
		return o;
	};
	const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
	const seen = new Set();
	while (walk.nextNode()) {
		const e = walk.currentNode.parentElement;
		const text = walk.currentNode.textContent.trim();
		if (!text || !e.checkVisibility({ opacityProperty: true, visibilityProperty: true }) || e
			.closest("[disabled], [aria-disabled=true], .ant-select-disabled, .ant-btn-disabled, " +
				"svg, style, script, .ant-spin-blur")) continue;
		const style = getComputedStyle(e);
		const ground = behind(e);
		const ink = colour(style.color);
		const mixed = over({ ...ink, a: ink.a * dim(e) }, ground);
		const [a, b] = [light(mixed), light(ground)].sort((x, y) => y - x);
		const ratio = (a + 0.05) / (b + 0.05);
		const size = parseFloat(style.fontSize);
		const enough = size >= 24 || size >= 18.66 && Number(style.fontWeight) >= 700 ? 3 : 4.5;
		const said = "the text " + JSON.stringify(text.slice(0, 40)) + " has a contrast of " + ratio.toFixed(1);
		if (ratio < enough - 0.05 && !seen.has(said)) { seen.add(said); found.push(said); }
	}
	const labelled = (e) => (e.getAttribute("aria-labelledby") ?? "").split(" ")
		.some((id) => document.getElementById(id)?.textContent.trim());
	for (const e of document.querySelectorAll("a[href], button, input, select, textarea, " +
		"[role=button], [role=combobox], [role=switch], [role=checkbox], [role=tab]")) {
		if (!e.checkVisibility({ visibilityProperty: true }) || e.type === "hidden") continue;
		const name = e.getAttribute("aria-label") || labelled(e) || e.title || (e.labels?.length && [...e.labels]
			.some((l) => l.innerText.trim())) || (!["INPUT", "TEXTAREA", "SELECT"].includes(e.tagName)
				&& (e.innerText?.trim() || e.querySelector("img[alt]:not([alt=''])")));
		if (!name) found.push("a control has no name: " + e.outerHTML.slice(0, 160));
	}
	for (const e of document.querySelectorAll("img:not([alt])"))
		found.push("a picture has no text: " + e.outerHTML.slice(0, 120));
	const heads = document.querySelectorAll("h1");
	if (heads.length !== 1) found.push("there are " + heads.length + " headings of the first rank");
	if (document.documentElement.scrollWidth > window.innerWidth) {
		const wide = [...document.querySelectorAll("#content *, header *")]
			.filter((e) => e.getBoundingClientRect().right > window.innerWidth + 1).sort((a, b) => a
				.querySelectorAll("*").length - b.querySelectorAll("*").length)[0];
		found.push("it is " + document.documentElement.scrollWidth + " wide, for one: " + wide?.outerHTML.slice(0, 160));
	}
	return JSON.stringify(found);
})()`

// flaws measures at a moment at which the page is settled: what is loading is shown dimmed.
func (p *page) flaws() []string {
	p.t.Helper()
	text := ""
	for text == "" {
		p.settle()
		var err error
		if text, err = chromedp.Run(p.ctx, chromedp.Evaluate[string](settled+` ? `+flaws+` : ""`)); err != nil {
			p.t.Fatal(err)
		}
	}
	var found []string
	if err := json.Unmarshal([]byte(text), &found); err != nil {
		p.t.Fatal(err)
	}
	return found
}

// settled is whether a page has loaded all that it shows, with nothing on the move.
const settled = `(Boolean(document.querySelector("h1")) &&
	!document.querySelector(".ant-spin-spinning, [aria-label=Loading]") &&
	document.getAnimations().every((a) => a.effect.getTiming().iterations === Infinity))`

func (p *page) settle() {
	p.t.Helper()
	p.holds("the page to settle", settled)
}

// pages are all pages of the console with what the sample fleet has for them.
var pages = []string{
	"/",
	"/map",
	"/drift",
	"/grants",
	"/proofs",
	"/logins/ubuntu@ringing-web",
	"/logins/debian@tide-gauge-3/routes",
	"/instances",
	"/instances/atlas-db",
	"/adopt",
	"/launch",
	"/keys",
	"/keys/hides-shared",
	"/rotations",
	"/rotations/plan?key=oona-main",
	"/rotations/rules",
	"/rotations/calendar",
	"/rotations/asked",
	"/restores",
	"/charters",
	"/charters/compare",
	"/charters/fleet",
	"/daybook",
	"/settings",
	"/settings/people",
	"/settings/people/marek/leaving",
	"/settings/custody",
	"/settings/subscribers",
	"/settings/clouds",
	"/settings/clouds/south-marsh/keys",
	"/settings/jump-hosts",
	"/settings/host-authorities",
	"/bring-in",
}

func TestEveryPageIsReadableInLightAndDarkAtEveryWidthAndByName(t *testing.T) {
	t.Parallel()
	_, h := startDemo(t, demoDir(t))
	h.must("rotate", "start", "-key", "hides-shared", "-make", "service", "-grace", "48h", "-detach", "-yes")
	rotation := "/rotations/" + h.rotation().Id.String()
	h.must(
		"restore", "start", "tide-gauge-3", "-route", "guest-agent", "-new", "tide-3", "-reason", "tomas has left",
		"-yes",
	)
	var restores []apiclient.Restore
	if err := json.Unmarshal([]byte(h.must("restore", "list", "-json")), &restores); err != nil || len(restores) == 0 {
		t.Fatal(restores, err)
	}
	restore := "/restores/" + restores[0].Run.Id.String()
	whole := filepath.Join(t.TempDir(), "fleet.yaml")
	h.must("charter", "write", "fleet", "-into", whole)
	h.must("charter", "settle", whole, "-yes")
	p := openBrowser(t, h.url)
	p.signedIn("ines", demo.Password("ines"))
	p.within(12 * time.Minute) // for so many pages
	for _, path := range append(pages, rotation, rotation+"/report", restore, restore+"/report") {
		for n, look := range []struct {
			wide int64
			dark bool
		}{{820, false}, {2560, false}, {1280, false}, {1280, true}} {
			p.dark(look.dark)
			p.wide(look.wide)
			if n == 0 {
				p.open(path)
			}
			p.holds("the look", fmt.Sprintf(`document.documentElement.style.colorScheme === (%v ? "dark" : "light")`, look.dark))
			if found := p.flaws(); len(found) > 0 {
				t.Errorf("%s, dark %v, %d wide:\n  %s", path, look.dark, look.wide, strings.Join(found, "\n  "))
			}
		}
	}
}
