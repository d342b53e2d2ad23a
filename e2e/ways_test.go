package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
)

// TestAWayThatIsWantedIsAcceptedAndStaysInSight has a program that names keys accepted, and then changes the settings.
func TestAWayThatIsWantedIsAcceptedAndStaysInSight(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	h.must("openers", "door")
	config := filepath.Join(h.disk("door"), "etc/ssh/sshd_config")
	was := read(t, config)
	settings := func(more string) {
		t.Helper()
		if err := os.WriteFile(config, []byte(more+was), 0o644); err != nil {
			t.Fatal(err)
		}
		h.client("sweep", "door")
	}
	const program = "/opt/names %u"
	settings("AuthorizedKeysCommand " + program + "\n")
	if r := h.client("openers", "door"); r.status != 3 || !strings.Contains(r.out, "way accept") {
		t.Fatalf("a program: %+v", r)
	}
	// It takes a reason, and a way that is there.
	h.refused("no-reason", "way", "accept", program, "door")
	h.refused("no-such-way", "way", "accept", "password", "door", "-reason", "why not")
	h.refused("no-such-login", "way", "accept", program, "nobody@door", "-reason", "why not")
	for n := range 2 { // twice is once
		var done apiclient.AcceptedWays
		out := h.must("way", "accept", program, "door", "-reason", "our directory", "-json")
		if err := json.Unmarshal([]byte(out), &done); err != nil || done.Changed != 1-n || len(done.Logins) != 1 {
			t.Errorf("accepted for the %d. time: %s %v", n+1, out, err)
		}
	}
	for _, args := range [][]string{{"openers", "door"}, {"sweep", "door"}} {
		if r := h.client(args...); r.status != 0 {
			t.Errorf("%v with an accepted way: %+v", args, r)
		}
	}
	if out := h.must("openers", "door"); !strings.Contains(out, program) || !strings.Contains(out, "accepted by ines") ||
		!strings.Contains(out, "our directory") {
		t.Errorf("an accepted way is out of sight:\n%s", out)
	}
	if in := h.access("door"); in.Beyond.OtherWays != 0 || len(*in.Logins[0].Ways) != 1 {
		t.Errorf("%+v", in)
	}
	if told := h.told("way.accept"); len(told) != 1 {
		t.Errorf("the daybook: %+v", told)
	}
	// Another program is another way.
	settings("AuthorizedKeysCommand /opt/others %u\n")
	if r := h.client("openers", "door"); r.status != 3 {
		t.Errorf("another program: %+v", r)
	}
	settings("AuthorizedKeysCommand " + program + "\n")
	h.must("openers", "door")

	page := h.console(t)
	page.open("/logins/debian@door")
	page.press("No longer accept")
	page.press("Accept")
	page.says("Reason, for the daybook")
	page.fill("Reason", "our directory, again")
	page.press("Accept it")
	page.says("our directory, again")
	h.must("openers", "door")
	h.must("way", "withdraw", program, "door")
	if r := h.client("openers", "door"); r.status != 3 {
		t.Errorf("after its withdrawal: %+v", r)
	}
	viewer := h.api(strings.TrimSpace(h.must("token", "new", "weak", "-role", "viewer", "-q")))
	if answer, err := viewer.AcceptWay(t.Context(), apiclient.AcceptWay{
		Way: program, Logins: []string{"door"}, Reason: new("mine to say"),
	}); err != nil || answer.StatusCode != 403 {
		t.Errorf("a viewer: %v %v", answer, err)
	}
}
