package e2e

import (
	"strings"
	"testing"
)

func TestConsoleFromAShutLoginBackIn(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "agent=60s") // longer than it takes to look and to press
	before := h.lockedOut(t, "door", "debian-12")
	h.client("sweep", "door", "-with", h.private("gone"))
	h.must("key", "mark-lost", "gone", "-reason", "stolen", "-yes")
	p := h.console(t)
	p.open("/")
	p.says("no key in place that anybody is known to have")
	p.press("Get back in")
	p.says("It is the best of")
	p.press("Compare them")
	p.says("Ways back into debian@door")
	p.says("Keys nobody can use: gone")
	p.says("nothing stops, nothing is lost, the address stays")
	p.says("another machine takes its place")
	p.says("Not possible as things are, and what would make it so")
	p.press("Rehearse them")
	p.says("it answers as debian")
	if read(t, h.keysFile("door")) != before {
		t.Error("the rehearsal changed the file")
	}
	// Begun, confirmed open, undone.
	p.press("Take this way: Guest agent")
	p.says("Lost keys: their lines go after a login")
	p.press("Begin")
	p.says("Open right now: the guest agent's permission of door")
	p.press("Undo")
	p.says("all steps are undone, the last one first")
	p.press("Undo it")
	p.says("It was undone: everything is as it was")
	p.holds("the bar is gone", `!document.body.innerText.includes("Open right now")`)
	if read(t, h.keysFile("door")) != before {
		t.Errorf("the file is\n%s", read(t, h.keysFile("door")))
	}
	// And again, to the end.
	h.cloud.kill(t)
	h.startCloud("agent=1s")
	p.open("/logins/debian@door")
	p.press("Get back in")
	p.press("Compare them")
	p.press("Take this way: Guest agent")
	p.fill("Name of the new key", "back")
	p.fill("Why, for the daybook", "the laptop is gone")
	p.press("Begin")
	p.says("debian@door is open again: a login with back was completed.")
	p.says("Take the private key out")
	h.must("key", "private", "back", "-reason", "restore")
	h.opensAgain(t, "door", "back")
	p.press("Report")
	p.says("Report of the restore of debian@door")
	p.says("Confirmed closed")
	p.open("/restores")
	p.says("the laptop is gone")
	// What stops the instance asks for its name.
	p.open("/logins/debian@door/routes")
	p.press("Take this way: Helper disk")
	p.says("door is stopped.")
	p.holds(
		"no begin without the name",
		`[...document.querySelectorAll("[role=dialog] button")].some((b) => b.innerText === "Begin" && b.disabled)`,
	)
	p.open("/logins/debian@door/routes?no_stop=true")
	p.says("outside your limits")
	if out := h.must("restore", "list"); strings.Count(out, "debian@door") != 2 {
		t.Errorf("%s", out)
	}
}
