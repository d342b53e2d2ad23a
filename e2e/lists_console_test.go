package e2e

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// downloaded is what a file that the page saved says, once it is there.
func (p *page) downloaded(name string) string {
	p.t.Helper()
	file := filepath.Join(p.downloads, name)
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if text, err := os.ReadFile(file); err == nil && len(text) > 0 {
			return string(text)
		}
	}
	p.t.Fatalf("no file %s was saved", name)
	return ""
}

// TestRowsThatAreChosenAreDoneTogether lets a key in to several logins from the first page, with each run shown there,
// and withdraws it from them again, where the one that would be thin is left as it is until somebody says why.
func TestRowsThatAreChosenAreDoneTogether(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	h.must("key", "new", "second")
	doors := []string{"door", "gate", "hatch"}
	for _, name := range doors {
		h.must("instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mine", "-steward")
	}
	h.must("sweep", "-all")
	h.must("prove", "-with", filepath.Join(h.home(), ".ssh"))
	p := h.console(t)
	p.open("/")
	p.says("3 logins")
	p.tick("Choose debian@door")
	p.tick("Choose debian@gate")
	p.says("2 logins chosen")
	p.press("Let a key in to them")
	p.choose("Key", "second")
	p.press("Place its line in 2 logins")
	p.holds(
		"both runs done, where they were asked for",
		`[...document.querySelectorAll("[role=dialog] [role=status]")]
			.filter((e) => e.innerText.includes("done")).length === 2`,
	)
	for _, name := range doors[:2] {
		if out, err := h.ssh(h.instance(name), "second", "hostname"); err != nil || out != name {
			t.Errorf("let in to %s: %s %v", name, out, err)
		}
	}
	if _, err := h.ssh(h.instance("hatch"), "second", "hostname"); err == nil {
		t.Error("let in to a login that was not chosen")
	}
	p.open("/grants?key=second")
	p.says("2 grants")
	p.tick("All that are shown")
	p.press("Withdraw them")
	p.says("second from debian@door")
	p.press("Remove their lines")
	p.holds("each removed where two holders are not lost by it",
		`document.querySelectorAll("[role=dialog] [role=status], [role=dialog] [role=alert]").length >= 2`)
	p.holds("the end of all", `[...document.querySelectorAll("[role=dialog] [role=status]")]
		.filter((e) => e.innerText.includes("done")).length === 2`)
	for _, name := range doors[:2] {
		if _, err := h.ssh(h.instance(name), "second", "hostname"); err == nil {
			t.Errorf("withdrawn and still let in to %s", name)
		}
		if out, err := h.ssh(h.instance(name), "mine", "hostname"); err != nil || out != name {
			t.Errorf("the key that stays at %s: %s %v", name, out, err)
		}
	}
	p.press("Close")
	p.open("/grants?key=mine")
	p.says("3 grants")
	p.tick("All that are shown")
	p.press("Withdraw them")
	p.press("Remove their lines")
	p.says("would be shut; it is thin now")
	p.says("Continue anyway, with the reason above")
	for _, name := range doors {
		if out, err := h.ssh(h.instance(name), "mine", "hostname"); err != nil || out != name {
			t.Errorf("%s is shut, by many at once: %s %v", name, out, err)
		}
	}
	p.open("/instances")
	p.says("3 instances")
	p.tick("All that are shown")
	p.press("Sweep them")
	p.says("0 could not be read")
}

// TestAListIsSavedAsAViewWithItsColumnsAndAsACSVFile looks at keys, one of whose comments a spreadsheet would run.
func TestAListIsSavedAsAViewWithItsColumnsAndAsACSVFile(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "odd", "-t", "ed25519", "-N", "", "-C", `=HYPERLINK("x","y")`)
	h.must("key", "import", "odd", "-from", filepath.Join(dir, "odd.pub"), "-purpose", "tides, and \"more\"")
	for n := range 60 {
		h.must("key", "new", "tern-"+string(rune('a'+n/26))+string(rune('a'+n%26)))
	}
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "odd", "-steward")
	p := h.console(t)
	p.open("/keys")
	p.says("50 of 61 keys") // without the steward key
	p.press("the service’s own too")
	p.says("50 of 62 keys")
	p.press("the service’s own too")
	p.says("50 of 61 keys")
	p.press("Columns ▾")
	p.press("Comment")
	p.press("SHA-256")
	p.holds("the columns in the address", `decodeURIComponent(location.search).includes("name,type,holder") &&
		location.search.includes("comment") && !location.search.includes("sha256") &&
		document.querySelector("thead").innerText.includes("Comment")`)
	p.press("CSV")
	rows, err := csv.NewReader(strings.NewReader(p.downloaded("keys.csv"))).ReadAll()
	if err != nil || len(rows) != 62 {
		t.Fatalf("%d rows of a CSV file: %v", len(rows), err)
	}
	want := []string{"Name", "Type", "Holder", "Opens", "Purpose", "Comment", "Labels", "Recorded"}
	if !slices.Equal(rows[0], want) {
		t.Errorf("heads %q, want %q", rows[0], want)
	}
	odd := slices.IndexFunc(rows, func(r []string) bool { return r[0] == "odd" })
	if odd < 0 || rows[odd][4] != `tides, and "more"` || rows[odd][5] != `'=HYPERLINK("x","y")` ||
		rows[odd][3] != "1 login" {
		t.Errorf("the odd key as CSV: %q", rows[odd])
	}
	p.open("/keys?q=tern-a&sort=-name&columns=name,comment")
	p.says("26 keys")
	p.press("Views ▾")
	p.press("Save what is shown…")
	p.fill("Name", "the first terns")
	p.press("Save it")
	p.open("/keys")
	p.says("50 of 61 keys")
	p.press("Views ▾")
	p.press("the first terns")
	p.says("26 keys")
	p.holds("its order and columns", `document.querySelector("tbody tr[data-row-key] a").innerText.trim() === "tern-az" &&
		[...document.querySelectorAll("thead th")].map((e) => e.innerText.replace(/[^\w]/g, "")).join() === ",Name,Comment"`)
	p.press("Views ▾")
	p.press("Forget the view the first terns")
	p.open("/keys")
	p.press("Views ▾")
	p.says("Save what is shown")
	p.holds("no view", `!document.body.innerText.includes("the first terns")`)
	if out := h.must("key", "list", "-q"); strings.Contains(out, "steward") {
		t.Errorf("steward keys in the list of keys:\n%s", out)
	}
	if out := h.must("key", "list", "-own", "-q"); strings.TrimSpace(out) != "steward-door" {
		t.Errorf("the service's own keys:\n%s", out)
	}
}
