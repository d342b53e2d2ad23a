package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
)

func TestConsoleKeepsRulesShowsTheCalendarAndReports(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("instance", "launch", "bare", "-image", "debian-12", "-size", "small", "-key", "mine")
	h.client("sweep", "bare", "-with", h.private("mine"))
	p := h.console(t)
	p.open("/rotations/rules")
	p.says("There are no rotation rules.")
	p.press("Add a rule")
	p.fill("Name", "monthly")
	p.press("Add the rule")
	p.says("No keys to replace were given")
	p.fill("Older than, days", "20")
	p.press("asked of the holder of each old key")
	p.press("Add the rule")
	p.says("older than 20 days")
	p.press("Pause")
	p.says("paused")
	p.press("Resume")
	p.says("active")
	p.open("/rotations/calendar")
	p.says("3 key lines due within 30 days, 1 of them cannot be done")
	due := time.Now().Add(20 * 24 * time.Hour).Format("2 Jan 2006")
	p.press(due + ": 3 key lines due, 1 cannot be done")
	p.says("Due on " + due)
	p.says("there is no steward key on bare")
	p.open("/rotations/rules")
	p.press("End")
	p.says("End the rule monthly?")
	p.press("End it")
	p.says("There are no rotation rules.")
	// A rotation whose holder is asked, planned and answered in the console.
	p.open("/rotations/plan?all=true&key=mine")
	p.press("new keys that the holder of each old one is asked to bring")
	p.press("Show the plan")
	p.says("2 logins on 2 instances change, 1 left out, 1 new key")
	p.fill("Why, for the daybook", "yearly")
	p.press("Replace keys in 2 logins")
	p.says("2 logins wait for new public keys")
	p.open("/")
	p.says("1 new public key to bring")
	p.open("/proofs")
	p.says("ines is asked to bring a new public key that follows mine, for 2 logins")
	p.open("/rotations/asked?holder=me")
	p.press("Bring it")
	if out, err := exec.Command(
		"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "mine-2", "-f", h.private("brought"),
	).CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	p.paste("Or paste the public key", read(t, h.private("brought")))
	p.press("Bring it")
	p.says("That is a private key.")
	p.paste("Or paste the public key", read(t, h.private("brought.pub")))
	p.press("Bring it")
	p.says("No new public key is asked for.")
	id := h.rotation().Id.String()
	h.client("rotate", "watch", id)
	if r := h.rotation(); r.Counts["done"] != 2 {
		t.Errorf("%v", r.Counts)
	}
	p.open("/rotations/" + id)
	p.press("Report")
	p.says("2 replaced, 0 not done, 1 left out by the plan")
	p.says("debian@bare")
	p.says("Where an old key may still live")
	p.press("Save as JSON")
	eventually(t, "the saved report", func() bool {
		data, err := os.ReadFile(filepath.Join(p.downloads, "rotation-"+id+".json"))
		return err == nil && strings.Contains(string(data), `"replaced"`)
	})
}

func TestConsoleOverridesForALostKeyByTheLoginsName(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.fleet(t, "a")
	h.must("key", "new", "away")
	h.must("key", "mark-lost", "mine", "-reason", "stolen", "-yes")
	p := h.console(t)
	p.open("/rotations/plan?all=true&key=mine")
	p.press("urgent: for lost keys, with no grace and no hours")
	p.press("a key that exists")
	p.choose("Which", "away")
	p.press("Show the plan")
	p.says("1 login on 1 instance change")
	p.press("Replace keys in 1 login")
	p.says("Urgent rotation")
	p.press("Override")
	p.says("Nobody has logged in with away.")
	p.fill("Type the login's name", "debian@b")
	p.fill("Why, for the daybook", "at sea")
	p.holds(
		"no way to continue with another name",
		`[...document.querySelectorAll(".ant-modal-footer button")].some((b) => b.innerText.trim() === "Remove it"
			&& b.disabled)`,
	)
	p.fill("Type the login's name", "debian@a")
	p.press("Remove it")
	p.holds("the end", `document.querySelector("[role=img]")?.getAttribute("aria-label") === "1 done"`)
	h.replaced(t, "a", "away")
}

// TestARotationIsPlannedByItsGoalAndThePlanFollowsTheFields takes the one way from the list of rotations to new keys
// on each instance: a card, and a button.
func TestARotationIsPlannedByItsGoalAndThePlanFollowsTheFields(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "a", "b")
	h.must("key", "new", "spare")
	var goals []apiclient.RotationGoal
	count := func(args ...string) map[apiclient.RotationGoalName][2]int {
		t.Helper()
		out := h.must(append([]string{"rotate", "goals", "-json"}, args...)...)
		if err := json.Unmarshal([]byte(out), &goals); err != nil {
			t.Fatal(err)
		}
		got := map[apiclient.RotationGoalName][2]int{}
		for _, g := range goals {
			got[g.Goal] = [2]int{g.Keys, g.Lines}
		}
		return got
	}
	if got := count(); got["shared"] != [2]int{1, 2} || got["lost"] != [2]int{} || got["weak"] != [2]int{} ||
		got["old"] != [2]int{} || len(got) != 4 {
		t.Errorf("goals: %v", got)
	}
	for _, bad := range [][]string{{"-older", "0d"}, {"-weaker-than", "dsa"}} {
		if r := h.client(append([]string{"rotate", "goals"}, bad...)...); r.status != 1 {
			t.Errorf("%v: status %d\n%s", bad, r.status, r.err)
		}
	}
	p := h.console(t)
	p.open("/rotations")
	p.holds("the count of its card", `[...document.querySelectorAll("nav[aria-label=Goals] a")]
		.some((e) => ["End sharing", "1", "2 key lines"].every((w) => e.innerText.includes(w)))`)
	p.open("/rotations/plan?goal=keys")
	p.says("Say which keys, and the plan is shown here.")
	p.choose("Keys", "spare")
	p.says("No such key is in place.")
	p.choose("Keys", "mine")
	p.says("The plan: 2 logins on 2 instances change, 0 left out, 1 new key")
	p.open("/rotations")
	p.holds("the card", `(() => { const a = [...document.querySelectorAll("nav[aria-label=Goals] a")]
		.find((e) => e.innerText.includes("End sharing")); a?.click(); return Boolean(a); })()`)
	p.says("The plan: 2 logins on 2 instances change, 0 left out, 2 new keys")
	if len(h.rotations()) != 0 {
		t.Error("a plan began something")
	}
	p.press("Replace keys in 2 logins")
	p.holds("both done", `document.querySelector("[role=img]")?.getAttribute("aria-label") === "2 done"`)
	if got := count(); got["shared"] != [2]int{} {
		t.Errorf("after sharing ended: %v", got)
	}
	h.must("key", "mark-lost", "a-mine", "-reason", "stolen", "-yes")
	if got := count(); got["lost"] != [2]int{1, 1} {
		t.Errorf("after a key was lost: %v", got)
	}
}
