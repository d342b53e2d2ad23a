package service

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/receivers"
	"plumlatch/internal/store"
)

// hook is a webhook that can be made to fail.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	answer int
	heard  []map[string]any
}

func newHook(t *testing.T) *hook {
	t.Helper()
	h := &hook{answer: http.StatusOK}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		var e map[string]any
		body, err := io.ReadAll(r.Body)
		if err != nil || json.Unmarshal(body, &e) != nil {
			t.Errorf("a call that cannot be read: %v", err)
		}
		if h.answer == http.StatusOK {
			h.heard = append(h.heard, e)
		}
		w.WriteHeader(h.answer)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) set(answer int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.answer = answer
}

func (h *hook) types() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out []string
	for _, e := range h.heard {
		out = append(out, e["type"].(string))
	}
	return strings.Join(out, " ")
}

func TestAReceiverIsToldOfItsKindsOnceAndDeadOnesAreKept(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	ctx := t.Context()
	pager := newHook(t)
	for name, c := range map[string]struct {
		address string
		kinds   []string
		code    string
	}{"no address": {"nowhere", nil, "bad-address"}, "no kind": {pager.URL, []string{"rain"}, "bad-kind"}} {
		_, err := o.AddReceiver(ctx, o.ines, IdempotencyKey{}, "x", c.address, c.kinds)
		o.wants(name, err, c.code)
	}
	r, err := o.AddReceiver(ctx, o.ines, IdempotencyKey{}, "pager", pager.URL, []string{keyReleased, runFailed})
	if err != nil || r.Secret == "" {
		t.Fatal(r, err)
	}
	failed := o.entry(byService, "instance.launched", "instance", "hide-cam-9", "", "It failed.")
	failed.Outcome = "failed"
	happens := func() {
		t.Helper()
		if err := o.store.Note(
			ctx,
			o.entry(o.ines.By(), "key.make", "key", "gannet", "", "Of no account."),
			failed,
			o.entry(o.ines.By(), "key.release", "key", "gannet", "", "Taken."),
		); err != nil {
			t.Fatal(err)
		}
	}
	deliver := func() {
		t.Helper()
		if err := o.deliver(ctx); err != nil {
			t.Fatal(err)
		}
	}
	happens()
	deliver()
	deliver()
	if got := pager.types(); got != "plumlatch.run-failed plumlatch.key-released" &&
		got != "plumlatch.key-released plumlatch.run-failed" {
		t.Fatalf("it heard %s", got)
	}
	pager.set(http.StatusServiceUnavailable)
	happens()
	for range receivers.MostAttempts + 2 {
		deliver()
		o.at = o.at.Add(3 * time.Hour)
	}
	all, err := o.Receivers(ctx)
	if err != nil || all[0].Dead != 2 || all[0].Waiting != 0 || all[0].Delivered != 2 ||
		!strings.Contains(all[0].LastError, "503") {
		t.Fatalf("%+v %v", all, err)
	}
	dead, err := o.DeadDeliveries(ctx, "pager")
	if err != nil || len(dead) != 2 || dead[0].Attempts != receivers.MostAttempts || dead[0].Sentence != "Taken." {
		t.Fatalf("%+v %v", dead, err)
	}
	if why, err := o.TestReceiver(ctx, "pager"); err != nil || !strings.Contains(why, "503") {
		t.Errorf("%q %v", why, err)
	}
	pager.set(http.StatusOK)
	if n, err := o.SendAgain(ctx, o.ines, "pager"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	o.wants("paused", o.PauseReceiver(ctx, o.ines, "pager", true), "")
	deliver()
	if got := strings.Count(pager.types(), "plumlatch"); got != 2 {
		t.Errorf("%d calls while it is paused", got)
	}
	o.wants("resumed", o.PauseReceiver(ctx, o.ines, "pager", false), "")
	deliver()
	if got := strings.Count(pager.types(), "plumlatch"); got != 4 {
		t.Errorf("%d calls in all", got)
	}
	// A receiver of everything that is itself told of does not tell of itself for ever.
	if _, err := o.AddReceiver(ctx, o.ines, IdempotencyKey{}, "all", pager.URL, []string{allKinds}); err != nil {
		t.Fatal(err)
	}
	before, err := o.store.LastEntry(ctx)
	if err != nil {
		t.Fatal(err)
	}
	deliver()
	deliver()
	if after, err := o.store.LastEntry(ctx); err != nil || after != before {
		t.Errorf("deliveries wrote %d entries, %v", after-before, err)
	}
	o.wants("ended", o.DeleteReceiver(ctx, o.ines, "pager"), "")
	o.wants("ended again", o.DeleteReceiver(ctx, o.ines, "pager"), "no-such-receiver")
}

func TestTheDaybookTellsWhichLoginsBecameShutAndWhichStrangersCame(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	r.launch("gauge", "first")
	ctx := t.Context()
	said := func(action string) int {
		t.Helper()
		if err := r.watchReach(ctx); err != nil {
			t.Fatal(err)
		}
		l, err := r.Daybook(ctx, store.EntryFilter{Action: action}, store.Page{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(l.Items)
	}
	if n := said("login.shut"); n != 0 {
		t.Fatalf("%d logins became shut", n)
	}
	if _, err := r.MarkLost(ctx, r.ines, "first", "stolen"); err != nil {
		t.Fatal(err)
	}
	if n := said("login.shut"); n != 1 {
		t.Errorf("after the loss %d became shut", n)
	}
	if n := said("login.shut"); n != 1 {
		t.Errorf("it is told %d times", n)
	}
}
