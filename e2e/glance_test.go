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
