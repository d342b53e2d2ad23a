package e2e

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
)

// glance is what the command says until it fits.
func (h *house) glance(
	t *testing.T,
	what string,
	fits func(apiclient.Glance) bool,
	args ...string,
) (g apiclient.Glance) {
	t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		g = apiclient.Glance{}
		if err := json.Unmarshal([]byte(h.must(append([]string{"glance", "-json"}, args...)...)), &g); err != nil {
			t.Fatal(err)
		}
		if fits(g) {
			return g
		}
	}
	t.Fatalf("waited in vain for %s: %+v", what, g)
	return g
}

func (g pendingOf) names(kind apiclient.PendingKind) []string {
	for _, p := range g {
		if p.Kind == kind {
			return p.Names
		}
	}
	return nil
}

type pendingOf []apiclient.PendingThings

// TestTheFirstPageTellsWhatChangedAndWhatWaits follows a login from thin to shut, for two people who look at
// different times.
func TestTheFirstPageTellsWhatChangedAndWhatWaits(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	if out := h.must("glance"); !strings.Contains(out, "Nothing is pending") { // before anything was kept
		t.Errorf("of an empty service:\n%s", out)
	}
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("sweep", "door")
	reach := func(want apiclient.ReachState) func(apiclient.Glance) bool {
		return func(g apiclient.Glance) bool {
			return g.Changed == 1 && len(g.Changes) == 1 && g.Changes[0].Login == "debian@door" && g.Changes[0].After == want
		}
	}
	g := h.glance(t, "a login that is new", reach(apiclient.ReachStateThin))
	if g.Looked || g.Changes[0].Before != nil {
		t.Errorf("a person who never looked: %+v", g)
	}
	if names := pendingOf(g.Pending).names(apiclient.PendingKindProve); len(names) != 1 || names[0] != "mine" {
		t.Errorf("what waits for ines: %+v", g.Pending)
	}
	if n := len(g.History); n != 1 || g.History[0].Counts["thin"] != 1 {
		t.Errorf("the history of a service that has just begun: %+v", g.History)
	}
	h.must("glance", "-seen")
	h.glance(t, "nothing new", func(g apiclient.Glance) bool { return g.Looked && g.Changed == 0 })
	h.must("key", "mark-lost", "mine", "-reason", "left on a train", "-yes")
	g = h.glance(t, "a login that is shut", reach(apiclient.ReachStateShut))
	if g.Changes[0].Before == nil || *g.Changes[0].Before != apiclient.ReachStateThin || len(g.Pending) != 0 {
		t.Errorf("after a loss: %+v", g)
	}
	if r := h.client("glance", "-days", "367"); r.status != 1 {
		t.Errorf("more days than there are: %d %s", r.status, r.err)
	}
	p := h.console(t)
	p.open("/")
	p.says("thin → ")
	p.press("I have seen it")
	p.says("No login has another reach than before.")
	h.glance(t, "what was seen in the console", func(g apiclient.Glance) bool { return g.Changed == 0 })
	h.must("instance", "delete", "door", "-yes")
	h.glance(t, "a login that is gone", func(g apiclient.Glance) bool {
		return g.Changed == 0 && g.History[len(g.History)-1].Counts["shut"] == 0
	})
}

// TestSomebodyLimitedLooksAtTheirPartAlone has an operator of one team ask what changed, and for the map, beside a
// login of another team, and say that they have seen it.
func TestSomebodyLimitedLooksAtTheirPartAlone(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	for name, team := range map[string]string{"gull": "cameras", "tern": "tides"} {
		h.must(
			"instance", "launch", name, "-image", "debian-12", "-size", "small", "-key", "mine", "-label", "team="+team,
		)
	}
	word := writeFile(t, h.dir+"/word", password)
	h.must("operator", "add", "oona", "-role", "operator", "-limit", "team=cameras", "-password-file", word)
	h.glance(t, "both logins", func(g apiclient.Glance) bool { return g.Changed == 2 })
	oona := h.in(t)
	oona.token = h.signIn("oona", password)
	g := oona.glance(t, "her login", func(g apiclient.Glance) bool { return g.Changed > 0 })
	if g.Changed != 1 || len(g.Changes) != 1 || g.Changes[0].Login != "debian@gull" {
		t.Errorf("she is told of %+v", g.Changes)
	}
	sum := 0
	for _, n := range g.History[len(g.History)-1].Counts {
		sum += n
	}
	if sum != 1 {
		t.Errorf("the history that she sees counts %d logins", sum)
	}
	var groups apiclient.ReachGroups
	if err := json.Unmarshal([]byte(oona.must("reach", "map", "-together", "-json")), &groups); err != nil {
		t.Fatal(err)
	}
	if groups.Logins != 1 {
		t.Errorf("her map has %d logins", groups.Logins)
	}
	var goals []apiclient.RotationGoal
	if err := json.Unmarshal([]byte(oona.must("rotate", "goals", "-json")), &goals); err != nil {
		t.Fatal(err)
	}
	for _, goal := range goals {
		if goal.Keys != 0 { // on one instance that she sees, the key is not shared
			t.Errorf("she is told of %+v", goal)
		}
	}
	oona.must("glance", "-seen")
	oona.must("glance", "-seen") // and again
	oona.glance(t, "nothing new", func(g apiclient.Glance) bool { return g.Looked && g.Changed == 0 })
	var passkeys []apiclient.Passkey
	if err := json.Unmarshal([]byte(oona.must("passkey", "list", "-json")), &passkeys); err != nil || len(passkeys) != 0 {
		t.Errorf("her passkeys: %+v %v", passkeys, err)
	}
}
