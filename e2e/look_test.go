package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
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

// axe is the program of axe-core, which finds what keeps people from using a page: contrasts and names among it.
var axe = sync.OnceValues(func() ([]byte, error) { return os.ReadFile("../console/node_modules/axe-core/axe.min.js") })

// axeNow runs axe on the page as it is, by all of its rules but those that are experiments, and tells what is found:
// the rule, what it asks for, and the first element that breaks it.
const axeNow = `axe.run(document, {resultTypes: ["violations"]}).then((r) => JSON.stringify(
	r.violations.map((v) => v.id + ": " + v.help + ", in " + v.nodes.length + " places: " +
		v.nodes[0].html.slice(0, 160) + " " +
		(v.nodes[0].any[0]?.message ?? v.nodes[0].all[0]?.message ?? "").slice(0, 200))))`

// flawsNow is what axe does not look at: how many headings of the first rank there are, and what reaches out of the
// window to the side.
const flawsNow = `(() => {
	const found = [];
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

// flaws looks the page over at a moment at which it is settled: what is loading is shown dimmed. whole is whether axe
// looks as well.
func (p *page) flaws(whole bool) (found []string) {
	p.t.Helper()
	program := flawsNow
	if whole {
		text, err := axe()
		if err != nil {
			p.t.Fatal(err)
		}
		p.do(chromedp.Evaluate[chromedp.Void]("void (window.axe || (() => {" + string(text) + "})())"))
		program = "Promise.all([" + flawsNow + ", " + axeNow +
			"]).then((l) => JSON.stringify(l.flatMap((t) => JSON.parse(t))))"
	}
	text := ""
	for text == "" {
		p.settle()
		var err error
		text, err = chromedp.Run(
			p.ctx, chromedp.Evaluate[string](settled+" ? "+program+` : ""`, chromedp.EvalAwaitPromise),
		)
		if err != nil {
			p.t.Fatal(err)
		}
	}
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
	"/map?view=each",
	"/map?view=hanging&of=holder:oona",
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
	"/rotations/plan?goal=shared",
	"/rotations/plan?all=true",
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
	"/settings/visits",
	"/terminals/ubuntu@ringing-web",
}

// worstDay are the pages from a lost key to a login that is open again, which somebody may have to walk on a phone.
var worstDay = []string{
	"/",
	"/instances",
	"/instances/tide-gauge-3",
	"/logins/debian@tide-gauge-3",
	"/logins/debian@tide-gauge-3/routes",
	"/keys/oona-main",
	"/proofs",
	"/restores",
	"/terminals/ubuntu@ringing-web",
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
	p.wide(390)
	for _, path := range append(worstDay, restore) {
		p.open(path)
		if found := p.flaws(true); len(found) > 0 {
			t.Errorf("%s on a phone:\n  %s", path, strings.Join(found, "\n  "))
		}
	}
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
			if found := p.flaws(look.wide == 1280); len(found) > 0 {
				t.Errorf("%s, dark %v, %d wide:\n  %s", path, look.dark, look.wide, strings.Join(found, "\n  "))
			}
		}
	}
}
