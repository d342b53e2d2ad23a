package notify_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/subscribers"
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

func TestASubscriberIsToldOfItsKindsOnceAndDeadOnesAreKept(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	ctx := t.Context()
	pager := newHook(t)
	for name, c := range map[string]struct {
		address string
		kinds   []subscribers.Kind
		code    string
	}{"no address": {"nowhere", nil, "bad-address"}, "no kind": {pager.URL, []subscribers.Kind{"rain"}, "bad-kind"}} {
		_, err := o.Notify.AddSubscriber(ctx, o.Ines, journal.IdempotencyKey{}, "x", c.address, c.kinds)
		o.Wants(name, err, c.code)
	}
	r, err := o.Notify.AddSubscriber(
		ctx, o.Ines, journal.IdempotencyKey{}, "pager", pager.URL,
		[]subscribers.Kind{subscribers.KeyReleased, subscribers.RunFailed},
	)
	if err != nil || r.Secret == "" {
		t.Fatal(r, err)
	}
	failed := o.Journal.Entry(journal.ByService, "instance.launched", "instance", "hide-cam-9", "", nil)
	failed.Outcome = "failed"
	happens := func() {
		t.Helper()
		if err := o.Store.Note(
			ctx, o.Journal.Entry(o.Ines.By(), "key.make", "key", "gannet", "", nil), failed,
			o.Journal.Entry(o.Ines.By(), "key.release", "key", "gannet", "", nil),
		); err != nil {
			t.Fatal(err)
		}
	}
	deliver := func() {
		t.Helper()
		if err := o.Notify.Deliver(ctx); err != nil {
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
	for range subscribers.MostAttempts + 2 {
		deliver()
		o.At = o.At.Add(3 * time.Hour)
	}
	all, err := o.Notify.Subscribers(ctx)
	if err != nil || all[0].Dead != 2 || all[0].Waiting != 0 || all[0].Delivered != 2 ||
		!strings.Contains(all[0].LastError, "503") {
		t.Fatalf("%+v %v", all, err)
	}
	dead, err := o.Notify.DeadDeliveries(ctx, "pager")
	if err != nil || len(dead) != 2 || dead[0].Attempts != subscribers.MostAttempts ||
		!strings.Contains(dead[0].Sentence, "gannet") {
		t.Fatalf("%+v %v", dead, err)
	}
	if why, err := o.Notify.TestSubscriber(ctx, "pager"); err != nil || !strings.Contains(why, "503") {
		t.Errorf("%q %v", why, err)
	}
	pager.set(http.StatusOK)
	if n, err := o.Notify.SendAgain(ctx, o.Ines, "pager"); err != nil || n != 2 {
		t.Fatal(n, err)
	}
	o.Wants("paused", o.Notify.PauseSubscriber(ctx, o.Ines, "pager", true), "")
	deliver()
	if got := strings.Count(pager.types(), "plumlatch"); got != 2 {
		t.Errorf("%d calls while it is paused", got)
	}
	o.Wants("resumed", o.Notify.PauseSubscriber(ctx, o.Ines, "pager", false), "")
	deliver()
	if got := strings.Count(pager.types(), "plumlatch"); got != 4 {
		t.Errorf("%d calls in all", got)
	}
	// A subscriber of everything that is itself told of does not tell of itself for ever.
	if _, err := o.Notify.AddSubscriber(
		ctx, o.Ines, journal.IdempotencyKey{}, "all", pager.URL, []subscribers.Kind{subscribers.All},
	); err != nil {
		t.Fatal(err)
	}
	before, err := o.Store.LastEntry(ctx)
	if err != nil {
		t.Fatal(err)
	}
	deliver()
	deliver()
	if after, err := o.Store.LastEntry(ctx); err != nil || after != before {
		t.Errorf("deliveries wrote %d entries, %v", after-before, err)
	}
	o.Wants("ended", o.Notify.DeleteSubscriber(ctx, o.Ines, "pager"), "")
	o.Wants("ended again", o.Notify.DeleteSubscriber(ctx, o.Ines, "pager"), "no-such-subscriber")
}

func TestTheDaybookTellsWhichLoginsBecameShutAndWhichStrangersCame(t *testing.T) {
	t.Parallel()
	r := servicetest.NewRig(t)
	r.Launch("gauge", "first")
	ctx := t.Context()
	said := func(action string) int {
		t.Helper()
		if err := r.Notify.WatchReach(ctx); err != nil {
			t.Fatal(err)
		}
		l, err := r.Journal.List(ctx, record.EntryFilter{Action: action}, record.Page{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(l.Items)
	}
	if n := said("login.shut"); n != 0 {
		t.Fatalf("%d logins became shut", n)
	}
	if _, err := r.Access.MarkLost(ctx, r.Ines, "first", "stolen"); err != nil {
		t.Fatal(err)
	}
	if n := said("login.shut"); n != 1 {
		t.Errorf("after the loss %d became shut", n)
	}
	if n := said("login.shut"); n != 1 {
		t.Errorf("it is told %d times", n)
	}
}
