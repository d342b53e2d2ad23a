package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
)

// inSeconds is a time to come as -until takes it.
func inSeconds(n int) (string, time.Time) {
	at := time.Now().Add(time.Duration(n) * time.Second).Truncate(time.Second)
	return at.UTC().Format(time.RFC3339), at
}

// pastEnds has the service end what is over: it does so at its start.
func (h *house) pastEnds(at time.Time) {
	h.t.Helper()
	if err := h.service.Stop(10 * time.Second); err != nil {
		h.t.Fatal(err)
	}
	eventually(h.t, "the time to be over", func() bool { return time.Now().After(at.Add(time.Second)) })
	h.startService(h.listen())
}

func (h *house) grants(args ...string) (out []apiclient.GrantRecord, status int) {
	h.t.Helper()
	r := h.client(append([]string{"grant", "list", "-json"}, args...)...)
	if err := json.Unmarshal([]byte(r.out), &out); err != nil {
		h.t.Fatalf("%v: %s%s", err, r.out, r.err)
	}
	return out, r.status
}

// toldOften is how many entries of the daybook have the name.
func (h *house) toldOften(name string) (n int) {
	h.t.Helper()
	var all []apiclient.Entry
	if err := json.Unmarshal([]byte(h.must("daybook", "list", "-all", "-json")), &all); err != nil {
		h.t.Fatal(err)
	}
	for _, e := range all {
		if e.Told != nil && *e.Told == name {
			n++
		}
	}
	return n
}

func (h *house) opens(instance, key string) bool {
	h.t.Helper()
	out, err := h.ssh(h.instance(instance), key, "hostname")
	return err == nil && out == instance
}

// TestAnEndIsKeptThoughTheLoginIsLessSafeByIt has a helper's key end at a login that is thin without it, as it
// was before, and sees that the SSH server ends it while no service runs.
func TestAnEndIsKeptThoughTheLoginIsLessSafeByIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("prove", "mine")
	h.holder("oona")
	h.must("key", "new", "helps", "-holder", "oona")
	before := read(t, h.keysFile("door"))
	until, at := inSeconds(4)
	h.must("grant", "add", "helps", "door", "-until", until)
	after := read(t, h.keysFile("door"))
	if !strings.HasPrefix(after, before) ||
		!strings.Contains(after, `expiry-time="`+at.UTC().Format("20060102150405")+`Z" `) {
		t.Errorf("the file was\n%s\nand is\n%s", before, after)
	}
	if !h.opens("door", "helps") {
		t.Fatal("the helper does not get in")
	}
	machine := h.instance("door")
	if err := h.service.Stop(10 * time.Second); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the SSH server to end it", func() bool { _, err := h.ssh(machine, "helps", "true"); return err != nil })
	if strings.Count(read(t, h.keysFile("door")), "\n") != strings.Count(after, "\n") {
		t.Error("the line was gone already")
	}
	h.startService(h.listen())
	eventually(t, "the line to be removed", func() bool { return read(t, h.keysFile("door")) == before })
	if h.opens("door", "helps") || !h.opens("door", "mine") {
		t.Error("the wrong key gets in")
	}
	eventually(t, "the grant to have ended", func() bool { g, _ := h.grants("-key", "helps"); return len(g) == 0 })
	if out, status := h.grants("-overdue"); len(out) != 0 || status != 0 {
		t.Errorf("overdue: %d %+v", status, out)
	}
}

// TestAnEndThatWouldShutTheLoginIsToldOfUntilItIsKept has the last key's grant end.
func TestAnEndThatWouldShutTheLoginIsToldOfUntilItIsKept(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("prove", "mine")
	until, at := inSeconds(3)
	h.must("grant", "add", "mine", "door", "-until", until)
	if strings.Contains(read(t, h.keysFile("door")), "expiry-time") {
		t.Error("the only line that opens the login ends by itself")
	}
	h.pastEnds(at)
	var overdue []apiclient.GrantRecord
	eventually(t, "the grant to be overdue", func() bool {
		out, status := h.grants("-overdue")
		overdue = out
		return len(out) == 1 && status == 3
	})
	if g := overdue[0]; g.Overdue == nil || !*g.Overdue || g.EndProblem == nil ||
		!strings.Contains(*g.EndProblem, "shut") {
		t.Errorf("it says %+v", overdue[0])
	}
	if !h.opens("door", "mine") {
		t.Fatal("the login was shut")
	}
	var page apiclient.ReachPage
	if r := h.client("reach"); r.status != 3 || !strings.Contains(r.out, "grant list -overdue") {
		t.Errorf("reach: %d %s", r.status, r.out)
	}
	_, body := h.call("GET", "/api/v1/reach", h.token, "")
	if err := json.Unmarshal([]byte(body), &page); err != nil || page.Overdue != 1 {
		t.Errorf("the API says %d overdue: %v", page.Overdue, err)
	}
	if _, metrics := h.call("GET", "/metrics", h.token, ""); !strings.Contains(metrics, "plumlatch_grants_overdue 1") {
		t.Error("the metrics do not say so")
	}
	if e := h.told("grant.end"); len(e) != 1 || e[0].Outcome != "refused" || detail(e[0], "key") != "mine" {
		t.Errorf("the daybook says %+v", e)
	}
	h.pastEnds(at) // the same is not told twice a day
	if n := h.toldOften("grant.end"); n != 1 {
		t.Errorf("told %d times", n)
	}
	h.sql("UPDATE grants SET end_told_at = end_told_at - interval '25 hours'")
	h.pastEnds(at)
	eventually(t, "it to be told again", func() bool { return h.toldOften("grant.end") == 2 })
	// With another way in, the end is kept.
	h.must("key", "new", "other")
	h.must("grant", "add", "other", "door")
	h.pastEnds(at)
	eventually(t, "the end", func() bool { return !h.opens("door", "mine") })
	if !h.opens("door", "other") {
		t.Error("nobody gets in")
	}
}

// TestALinesOwnEndDoesNotShutTheLogin takes the other key away shortly before the end.
func TestALinesOwnEndDoesNotShutTheLogin(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "other")
	until, at := inSeconds(20)
	h.must("grant", "add", "other", "door", "-until", until)
	if !strings.Contains(read(t, h.keysFile("door")), "expiry-time") {
		t.Fatal("the line has no end")
	}
	h.must("key", "mark-lost", "mine", "-reason", "stolen", "-yes")
	h.pastEnds(time.Now().Add(-time.Minute))
	eventually(
		t,
		"the end to be removed",
		func() bool { return !strings.Contains(read(t, h.keysFile("door")), "expiry-time") },
	)
	h.pastEnds(at)
	eventually(t, "it to be overdue", func() bool { out, _ := h.grants("-overdue"); return len(out) == 1 })
	if !h.opens("door", "other") {
		t.Error("the login is shut")
	}
}

// TestAnEndThatNobodyCouldKeepIsRefused grants a login that the service cannot change.
func TestAnEndThatNobodyCouldKeepIsRefused(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine")
	h.must("key", "new", "guest")
	until, at := inSeconds(5)
	with := []string{"grant", "add", "guest", "door", "-until", until, "-with", h.private("mine")}
	if p := h.refused("no-means-to-end", with...); p.Remedy == nil || !strings.Contains(*p.Remedy, "-end-by line") {
		t.Errorf("the remedy is %v", p.Remedy)
	}
	h.must(append(with, "-end-by", "line")...)
	if !h.opens("door", "guest") {
		t.Fatal("the guest does not get in")
	}
	h.pastEnds(at)
	eventually(t, "the grant to have ended", func() bool { g, _ := h.grants("-key", "guest"); return len(g) == 0 })
	if h.opens("door", "guest") {
		t.Error("the guest still gets in")
	}
	if e := h.told("grant.end:line"); len(e) != 1 || detail(e[0], "key") != "guest" {
		t.Errorf("the daybook says %+v", e)
	}
}

// TestTheEndOfAGrantIsMovedByOneCommandAndNotForgotten repeats a grant.
func TestTheEndOfAGrantIsMovedByOneCommandAndNotForgotten(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-steward")
	h.must("key", "new", "guest")
	file := h.keysFile("door")
	foreign := "# kept\nfrom=\"10.0.0.0/8\"\tnothing that reads\n"
	if err := os.WriteFile(file, []byte(read(t, file)+foreign), 0o600); err != nil {
		t.Fatal(err)
	}
	ends := func() string {
		_, rest, found := strings.Cut(read(t, file), `expiry-time="`)
		if !found {
			return ""
		}
		return rest[:15]
	}
	h.must("grant", "add", "guest", "door", "-until", "2d")
	first := ends()
	h.must("grant", "add", "guest", "door", "-until", "5d")
	if second := ends(); first == "" || second <= first {
		t.Errorf("the line ends at %s, then at %s", first, second)
	}
	h.refused("would-be-endless", "grant", "add", "guest", "door")
	out, err := h.onTerminal([]string{"grant", "add", "guest", "door"}, "Type endless to continue: ", "endless\n")
	if err != nil || ends() != "" {
		t.Errorf("asked at a terminal: %v, the line ends at %q\n%s", err, ends(), out)
	}
	if text := read(t, file); !strings.Contains(text, foreign) || strings.Count(text, "guest") != 1 {
		t.Errorf("the file is now\n%s", text)
	}
	if g, _ := h.grants("-key", "guest"); len(g) != 1 || g[0].Until != nil {
		t.Errorf("the grant is %+v", g)
	}
}

// TestManyLoginsAreGrantedAtOnceToAHolder grants by a label, after showing which.
func TestManyLoginsAreGrantedAtOnceToAHolder(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for n := range 3 {
		h.must(
			"instance", "launch", fmt.Sprintf("tile-%d", n+1), "-image", "debian-12", "-size", "small", "-label",
			"service=atlas", "-new", fmt.Sprintf("k%d", n+1), "-steward",
		)
	}
	h.holder("oona")
	h.must("key", "new", "helps", "-holder", "oona")
	if r := h.client("grant", "add", "oona", "-label", "service=atlas", "-until", "2d"); r.status != 2 ||
		strings.Count(r.out, "not granted") != 3 {
		t.Errorf("without -yes: %d %s%s", r.status, r.out, r.err)
	}
	if g, _ := h.grants("-key", "helps"); len(g) != 0 {
		t.Fatal("the preview has granted")
	}
	h.must("grant", "add", "oona", "-label", "service=atlas", "-until", "2d", "-yes")
	if g, _ := h.grants("-key", "helps", "-with-end"); len(g) != 3 {
		t.Errorf("granted: %+v", g)
	}
	for n := range 3 {
		if !h.opens(fmt.Sprintf("tile-%d", n+1), "helps") {
			t.Errorf("tile-%d does not open", n+1)
		}
	}
	if r := h.client("grant", "add", "oona", "-label", "service=none", "-yes"); r.status != 4 {
		t.Errorf("a label of nothing: %d", r.status)
	}
}
