package e2e

import (
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
)

func (h *house) past(args ...string) (p apiclient.PastPage, status int) {
	h.t.Helper()
	r := h.client(append(args, "-json")...)
	if err := json.Unmarshal([]byte(r.out), &p); err != nil {
		h.t.Fatalf("%v: %v %s%s", args, err, r.out, r.err)
	}
	return p, r.status
}

// knownOf is how well it is known that a key was in place; "" where nothing is said of it.
func knownOf(p apiclient.PastPage, key string) apiclient.PastKeyKnown {
	for _, k := range p.Keys {
		if k.Key != nil && *k.Key == key {
			return k.Known
		}
	}
	return ""
}

// TestAnAuditorsDateIsAnsweredWithWhatIsKnownThen moves the readings and grants of a login into the past.
func TestAnAuditorsDateIsAnsweredWithWhatIsKnownThen(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "helps")
	h.must("grant", "add", "helps", "door", "-reason", "two days in the boathouse")
	h.must("sweep", "door")
	ago := func(days string) string { return "now() - interval '" + days + " days'" }
	h.sql("UPDATE instances SET created_at = " + ago("30"))
	h.sql("UPDATE grants SET granted_at = " + ago("29"))
	h.sql(
		"DELETE FROM file_versions WHERE id NOT IN (SELECT id FROM file_versions WHERE there ORDER BY seen_at DESC LIMIT 1)",
	)
	h.sql("UPDATE file_versions SET seen_at = " + ago("20") + ", seen_until = " + ago("15"))
	h.sql("UPDATE login_servers SET since = " + ago("20"))
	h.must("grant", "withdraw", "helps", "door", "-anyway", "-reason", "over")
	mallory := h.pairOutside("mallory")
	file := h.keysFile("door")
	if err := os.WriteFile(file, []byte(read(t, file)+mallory+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.client("sweep", "door")
	for _, c := range []struct {
		at         string
		mine, help apiclient.PastKeyKnown
		status     int
	}{
		// Before the first reading the grants are known, and nothing else.
		{"25d", apiclient.PastKeyKnownNotKnownBetweenReadings, apiclient.PastKeyKnownNotKnownBetweenReadings, 3},
		{"18d", apiclient.PastKeyKnownSeen, apiclient.PastKeyKnownSeen, 0},
		{"10d", apiclient.PastKeyKnownSeen, apiclient.PastKeyKnownNotKnownBetweenReadings, 0},
	} {
		p, status := h.past("openers", "door", "-at", c.at)
		if knownOf(p, "mine") != c.mine || knownOf(p, "helps") != c.help || status != c.status {
			t.Errorf("%s ago: %d, mine is %q, helps is %q", c.at, status, knownOf(p, "mine"), knownOf(p, "helps"))
		}
	}
	p, _ := h.past("opens", "helps", "-at", "18d")
	if len(p.Keys) != 1 || p.Keys[0].Login != "debian@door" || len(p.Keys[0].Grants) != 1 ||
		*p.Keys[0].Grants[0].Reason != "two days in the boathouse" || p.Keys[0].GoneBy == nil || *p.Keys[0].Holder != "ines" {
		t.Errorf("the past of the key is %+v", p.Keys)
	}
	if out := h.must("report", "access", "-from", "19d", "-instance", "door", "-changes"); !strings.Contains(
		out,
		"mallory",
	) ||
		!strings.Contains(out, "went") {
		t.Errorf("the changes:\n%s", out)
	}
	csvFile := filepath.Join(h.dir, "access.csv")
	h.must("report", "access", "-from", "28d", "-holder", "ines", "-format", "csv", "-out", csvFile)
	rows, err := csv.NewReader(strings.NewReader(read(t, csvFile))).ReadAll()
	if err != nil || len(rows) < 3 || len(rows[0]) != 18 {
		t.Errorf("%v %v", rows, err)
	}
	if r := h.client("report", "access", "-at", "18d", "-format", "csv", "-out", csvFile); r.status != 6 {
		t.Errorf("over a file that is there: %d %s", r.status, r.err)
	}
	page := h.must("report", "access", "-from", "28d", "-instance", "door", "-format", "html")
	for _, want := range []string{"mallory", "two days in the boathouse", "BEGIN SSH SIGNATURE", "<!doctype html>"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Contains(page, "<script") || strings.Contains(page, "http") {
		t.Error("the page asks for something")
	}
	for _, args := range [][]string{
		{"report", "access"}, {"report", "access", "-at", "2d", "-from", "3d"},
		{"report", "access", "-at", "2d", "-format", "pdf"},
	} {
		if r := h.client(args...); r.status != 2 {
			t.Errorf("%v: %d", args, r.status)
		}
	}
	h.refused("no-such-holder", "report", "access", "-at", "2d", "-holder", "nobody-here")
	h.refused("no-such-holder", "holder", "show", "nobody-here")
	if p, status := h.past("holder", "show", "ines", "-at", "18d"); status != 0 || len(p.Keys) != 2 ||
		knownOf(p, "helps") != apiclient.PastKeyKnownSeen {
		t.Errorf("what ines could open: %d %+v", status, p.Keys)
	}
	if p, _ := h.past("holder", "show", "ines"); len(p.Keys) != 1 || knownOf(p, "mine") == "" {
		t.Errorf("what ines can open now: %+v", p.Keys)
	}
	// What is no longer kept is not known, and not taken for nothing.
	defer func() {
		if err := h.service.Stop(10 * time.Second); err != nil {
			t.Fatal(err)
		}
		h.startService(h.listen(), "-keep-readings", "10")
		eventually(t, "the old readings to go", func() bool {
			p, _ := h.past("openers", "door", "-at", "18d")
			return knownOf(p, "mine") != apiclient.PastKeyKnownSeen
		})
		if p, _ := h.past("openers", "door", "-at", "1h"); len(p.Keys)+len(p.Unknown) == 0 {
			t.Error("nothing is said of a time without readings")
		}
	}()
	// Of an instance that is gone it is answered as well.
	h.must("instance", "delete", "door", "-yes")
	if p, _ := h.past("openers", "door", "-at", "18d"); knownOf(p, "mine") != apiclient.PastKeyKnownSeen {
		t.Errorf("of an instance that is gone: %+v", p)
	}
}

// TestOtherWaysInAreAnsweredAtADate has a server take passwords for some days of the past.
func TestOtherWaysInAreAnsweredAtADate(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	config := filepath.Join(h.disk("door"), "etc/ssh/sshd_config")
	was := read(t, config)
	h.must("sweep", "door")
	const program = "AuthorizedKeysCommand /opt/names %u\n"
	if err := os.WriteFile(config, []byte(program+was), 0o644); err != nil {
		t.Fatal(err)
	}
	for range 2 { // twice is one version
		h.client("sweep", "door")
	}
	if err := os.WriteFile(config, []byte(was), 0o644); err != nil {
		t.Fatal(err)
	}
	h.must("sweep", "door")
	ago := func(days string) string { return "now() - interval '" + days + " days'" }
	h.sql("UPDATE instances SET created_at = " + ago("50"))
	h.sql("UPDATE file_versions SET seen_at = " + ago("30"))
	h.sql("UPDATE login_servers SET since = " + ago("8"))
	const of = " WHERE jsonb_exists(server, 'keys_command')"
	h.sql("UPDATE server_versions SET since = " + ago("30") + ", read_at = " + ago("20"))
	h.sql("UPDATE server_versions SET since = " + ago("18") + ", read_at = " + ago("10") + of)
	for _, c := range []struct {
		at     string
		known  apiclient.PastWayKnown // of the program
		status int
	}{
		{"40d", "", 3}, {"25d", "", 0}, {"19d", apiclient.PastWayKnownNotKnownBetweenReadings, 0},
		{"15d", apiclient.PastWayKnownSeen, 0}, {"9d", apiclient.PastWayKnownNotKnownBetweenReadings, 0}, {"5d", "", 0},
	} {
		p, status := h.past("openers", "door", "-at", c.at)
		var known apiclient.PastWayKnown
		unread := false
		for _, w := range *p.Ways {
			if w.Kind == apiclient.PastWayKindProgram {
				known = w.Known
			}
			unread = unread || w.Kind == apiclient.PastWayKindUnread
		}
		if known != c.known || status != c.status || unread != (c.status == 3) {
			t.Errorf("%s ago: %d %+v", c.at, status, *p.Ways)
		}
	}
	out := h.must("report", "access", "-from", "25d", "-until", "15d", "-instance", "door", "-changes")
	if !strings.Contains(out, "/opt/names") || !strings.Contains(out, "came") {
		t.Errorf("the changes:\n%s", out)
	}
	for format, want := range map[string]string{"csv": ",program", "html": "Other ways in", "table": "OTHER WAY IN"} {
		out := h.must("report", "access", "-at", "15d", "-instance", "door", "-format", format)
		if !strings.Contains(out, "/opt/names") || !strings.Contains(out, want) {
			t.Errorf("%s:\n%s", format, out)
		}
	}
	if p, _ := h.past("opens", "mine", "-at", "15d"); p.Ways != nil {
		t.Errorf("a question about a key has other ways: %+v", *p.Ways)
	}
	page := h.console(t)
	page.open("/instances/door")
	page.says("Choose a day")
	page.do(chromedp.Evaluate[chromedp.Void](`(() => {
		const date = document.querySelector("input[type=date]");
		Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(date, ` +
		quote(time.Now().AddDate(0, 0, -15).Format(time.DateOnly)) + `);
		date.dispatchEvent(new Event("input", { bubbles: true }));
	})()`))
	page.says("/opt/names")
}
