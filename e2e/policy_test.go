package e2e

import "testing"

// TestThePagesPolicyTakesNoStyleFromElsewhere looks for what the browser refuses on pages of the console, and has it
// refuse a style element that comes as markup does.
func TestThePagesPolicyTakesNoStyleFromElsewhere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward")
	p := h.console(t)
	p.open("/keys")
	p.says("1 key")
	p.holds("an ear for what is refused", `(() => { window.refused = [];
		document.addEventListener("securitypolicyviolation", (e) => window.refused.push(
			e.violatedDirective + " " + e.blockedURI + " " + e.sample)); return true; })()`)
	p.press("New key") // a dialog, with styles of its own
	p.holds("a dialog", `document.querySelector("[role=dialog]") !== null`)
	p.holds("the terminal's page", `(() => { history.pushState({}, "", "/terminals/debian@cam");
		dispatchEvent(new PopStateEvent("popstate")); return true; })()`)
	p.says("By which key")
	p.press("A key for this visit")
	p.press("Open the terminal")
	p.types("whoami")
	p.says("debian")
	p.holds(
		"a terminal with its colours",
		`getComputedStyle(document.querySelector(".xterm-rows")).color !== "rgb(0, 0, 0)"`,
	)
	p.holds("nothing refused", `window.refused.length === 0 || (document.title = window.refused.join(), false)`)
	p.holds("a style that is markup refused", `(() => {
		const box = document.createElement("div");
		box.innerHTML = "<style>body { --taken: yes }</style>";
		document.body.append(box);
		return getComputedStyle(document.body).getPropertyValue("--taken") === "" && window.refused.length >= 0;
	})()`)
	p.holds("and told of", `window.refused.some((r) => r.startsWith("style-src"))`)
}
