package e2e

import (
	"encoding/json"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"

	"github.com/chromedp/chromedp"
)

func TestConsoleFromReachToADecisionAboutAStranger(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "second")
	h.holder("field")
	dir := t.TempDir()
	sshKeygen(t, dir, "stranger", "-t", "ed25519", "-N", "")
	file := h.keysFile("door")
	before := read(t, file)
	appendTo(t, file, read(t, filepath.Join(dir, "stranger.pub")))
	p := h.console(t)
	p.open("/")
	p.says("keys in place, none with a fresh proof")
	p.press("Sweep all")
	p.says("Swept: 1 as before, 0 changed, 0 could not be read") // the first look is no change
	p.says("1 stranger in the file")
	p.press("Decide about the drift")
	p.says("Drift of debian@door")
	p.press("Leave it")
	p.press("debian@door")
	p.says("Strangers: keys in place here")
	p.press("Record it, to decide")
	p.fill("Name of the record", "found")
	p.press("Record it")
	p.says("ungranted")
	if out := h.must("opens", "second"); !strings.Contains(out, "opens nothing") {
		t.Errorf("recording a stranger granted something:\n%s", out)
	}
	p.press("Remove it")
	p.says("all other lines stay byte for byte")
	p.press("Remove its line")
	p.says("it refuses found")
	if read(t, file) != before {
		t.Errorf("with the stranger removed the file is\n%s", read(t, file))
	}
	p.open("/logins/door")
	p.says("What changed between readings")
	p.press("Let a key in")
	p.choose("Key", "second")
	p.press("Place its line")
	p.says("it accepts second")
	if out, err := h.ssh(h.instance("door"), "second", "hostname"); err != nil || out != "door" {
		t.Errorf("granted in the console: %s %v", out, err)
	}
	h.must("prove", "-with", filepath.Join(h.home(), ".ssh"))
	h.must("grant", "withdraw", "second", "door")
	p.open("/logins/door")
	p.press("Withdraw")
	p.press("Remove its line")
	p.says("would be shut; it is thin now")
	p.says("Continue anyway, with the reason above")
	p.open("/keys/mine")
	p.says("If it were lost")
	p.says("1 of them shut")
	p.press("Mark as lost")
	p.fill("What happened", "left on a train")
	p.press("Mark it as lost")
	p.says("lost")
	p.open("/")
	p.says("no key in place that anybody is known to have")
}

func TestConsoleSettlesDifferencesAndShowsTheMapTheGrantsAndTheProofs(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	file, _ := h.adrift("door")
	p := h.console(t)
	p.open("/")
	p.press("Map")
	p.says("1 login, in 1 row of the same keys. 3 keys. Steward keys are not drawn.")
	p.holds(
		"the stranger on the map",
		`[...document.querySelectorAll("svg text")].some((e) => e.textContent.includes("1 stranger"))`,
	)
	p.press("Drift")
	p.says("first seen")
	for _, c := range []struct{ what, choice string }{
		{"second", "place its line"},
		{"third", "remove its line"},
		{"hide 3", "accept as granted"},
	} {
		find := `[...document.querySelectorAll("input")]
			.find((e) => (e.getAttribute("aria-label") ?? "").startsWith("What to do about ` + c.what + `"))`
		p.holds("the choice about "+c.what, `(() => { const box = `+find+`; if (!box) return false;
			box.closest(".ant-select").dispatchEvent(new MouseEvent("mousedown", {bubbles: true}));
			const options = document.getElementById(box.getAttribute("aria-controls"))
				?.closest(".ant-select-dropdown")?.querySelectorAll(".ant-select-item-option") ?? [];
			const wanted = [...options].find((e) => e.innerText.trim() === "`+c.choice+`");
			wanted?.click();
			return Boolean(wanted); })()`)
	}
	p.press("Settle 3 differences")
	p.says("place its line: 1")
	p.fill("Why, for the daybook", "spring cleaning")
	p.press("Settle them")
	p.says("What came of it")
	p.says("recorded")
	eventually(t, "the lines to change", func() bool {
		text := read(t, file)
		return strings.Contains(text, " second") && !strings.Contains(text, " third")
	})
	p.press("Close")
	p.says("No drift")
	p.press("Grants")
	p.says("spring cleaning")
	p.open("/proofs")
	p.says("never proved")
	p.open("/logins/door")
	p.press("Compare any two readings")
	p.says("Two looks at debian@door")
}

func TestTheMapAndTheSkipLinkWorkByKeyboard(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.adrift("door")
	p := h.console(t)
	p.open("/map")
	p.says("1 login, in 1 row of the same keys. 3 keys.")
	seen := `(document.activeElement?.getBoundingClientRect().left ?? -1) >= 0`
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector(".skip").focus()`))
	p.holds("the skip link in sight once it has the focus", seen)
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("svg.map").focus()`))
	p.strike("ArrowDown")
	p.holds("the login that the arrows came to", `document.querySelector(".map-note strong")?.innerText.endsWith("@door")`)
	first := `document.querySelector(".map-note .inline")?.innerText.split(",")[0]`
	p.holds("a key beside it", `Boolean(window.before = `+first+`)`)
	p.strike("ArrowRight")
	p.holds("the next key", first+` !== window.before`)
	p.strike("Enter")
	p.holds("the page of the login", `location.pathname.startsWith("/logins/") && location.pathname.endsWith("door")`)
}

// TestTheMapTakesTogetherWhatIsAlikeAndLeavesNothingOut compares its rows with the map of each login, by the client,
// and opens a row and what hangs on a person in the console.
func TestTheMapTakesTogetherWhatIsAlikeAndLeavesNothingOut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "other")
	for n, keys := range [][]string{{"mine"}, {"mine"}, {"mine"}, {"mine", "other"}, {"other"}} {
		args := []string{"instance", "launch", "mast-" + strconv.Itoa(n), "-image", "debian-12", "-size", "small", "-steward"}
		for _, k := range keys {
			args = append(args, "-key", k)
		}
		h.must(args...)
	}
	h.must("sweep", "-all")
	var each apiclient.ReachMap
	var groups apiclient.ReachGroups
	if err := json.Unmarshal([]byte(h.must("reach", "map", "-json")), &each); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(h.must("reach", "map", "-together", "-json")), &groups); err != nil {
		t.Fatal(err)
	}
	if len(groups.Rows) != 3 || groups.Total != 3 || groups.Logins != 5 || len(groups.Columns) != 2 {
		t.Fatalf("%d rows of %d logins, %d columns", len(groups.Rows), groups.Logins, len(groups.Columns))
	}
	of := map[string][]string{}
	for _, l := range each.Logins {
		for _, c := range l.Cells {
			of[l.Login] = append(of[l.Login], each.Keys[c.Key].Name+" "+string(c.Status))
		}
		slices.Sort(of[l.Login])
	}
	for _, row := range groups.Rows {
		var keys []string
		for _, c := range row.Cells {
			for _, k := range groups.Columns[c.Key].Keys {
				keys = append(keys, k.Name+" "+string(c.Status))
			}
		}
		slices.Sort(keys)
		for _, login := range row.Names {
			if !slices.Equal(keys, of[login]) {
				t.Errorf("%s is in a row with %v, and has %v", login, keys, of[login])
			}
			delete(of, login)
		}
	}
	if len(of) != 0 {
		t.Errorf("in no row: %v", of)
	}
	if r := h.client("reach", "map", "-together", "-limit", "1001"); r.status != 1 {
		t.Errorf("too many rows: status %d %s", r.status, r.err)
	}
	row, err := h.api(h.token).GetReachGroups(t.Context(), &apiclient.GetReachGroupsParams{Row: new("gone")})
	if err != nil || row.StatusCode != http.StatusNotFound {
		t.Errorf("a row that is not there: %v %v", row, err)
	}
	p := h.console(t)
	p.open("/map")
	p.says("5 logins, in 3 rows of the same keys. 2 keys.")
	p.do(chromedp.Evaluate[chromedp.Void](`document.querySelector("svg.map").focus()`))
	p.strike("ArrowDown")
	p.holds("the row of three", `document.querySelector(".map-note strong")?.innerText.endsWith("and 2 more")`)
	p.strike("Enter")
	p.says("3 logins with the same keys")
	p.press("debian@mast-2")
	p.holds("its page", `decodeURIComponent(location.pathname) === "/logins/debian@mast-2"`)
	p.open("/map?view=hanging&of=holder:ines")
	p.holds("her keys, and the logins that hang on them", `["mine", "other", "debian@mast-3", "debian@mast-4"].every((n) =>
		[...document.querySelectorAll(".graph-node a")].some((a) => a.innerText === n))`)
	p.says("If all of them were lost")
	p.open("/map?view=hanging&of=host:mast-1")
	p.says("Nothing is reached by way of mast-1.")
	p.open("/map?view=each")
	p.says("5 logins. 2 keys.")
}
