package service

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/paddock"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/store"
)

func TestMain(m *testing.M) {
	if os.Getenv(childVariable) != "" {
		beKilled()
		return
	}
	pgtest.Main(m, prepare)
}

// prepare readies the database that those of the tests are copied from: its first admin is ines.
func prepare(ctx context.Context, owner, service string) error {
	if err := store.Prepare(ctx, owner, service); err != nil {
		return err
	}
	st, err := store.Open(ctx, service)
	if err != nil {
		return err
	}
	defer st.Close()
	log := slog.New(slog.DiscardHandler)
	return New(
		st,
		nil,
		runs.New(st, log),
		log,
	).AddOperator(
		ctx,
		Actor{Name: "setup", Via: "service"},
		IdempotencyKey{},
		NewOperator{Name: "ines", Title: "Ines", Password: officePassword, Role: Admin},
	)
}

// rig is a service with a clock that the test sets.
type rig struct {
	*Service
	t   *testing.T
	dir string
	// database, cloudURL and safeFile are what the service works with.
	database, cloudURL, safeFile string
	shift                        atomic.Int64
	ines                         Actor
	calls                        atomic.Int64 // of the cloud
	capabilities                 atomic.Int64 // those for what it can do
	lacks                        atomic.Value // what the service is told that the cloud cannot
	port                         *cloud.Cloud // the test's own, which waits
	// stop stops the service.
	stop func()
}

func newRig(t *testing.T) *rig {
	t.Helper()
	return newRigWith(t, paddock.Options{}, cloud.CallTimeout, nil)
}

// blocks counts the ranges of addresses that were given to stand-in clouds.
var (
	blocks     atomic.Uint32
	firstBlock = rand.Uint32N(1024)
)

// newRigWith is newRig with a cloud of some other kind. Before the service starts, it is
// set up.
func newRigWith(t *testing.T, o paddock.Options, timeout time.Duration, setUp func(*Service)) *rig {
	t.Helper()
	r := &rig{t: t, dir: t.TempDir()}
	o.Dir, o.Token = r.dir, "secret"
	n := firstBlock + blocks.Add(1)%2048 // no two of this process share one
	o.Block = netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(64 + n/64), byte(4 * (n % 64)), 0}), 22)
	c, err := paddock.Open(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	handler := c.Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		r.calls.Add(1)
		if strings.HasSuffix(q.URL.Path, "/capabilities") {
			r.capabilities.Add(1)
		}
		if lacks, _ := r.lacks.Load().(string); lacks != "" {
			without(lacks, handler, w, q)
			return
		}
		handler.ServeHTTP(w, q)
	}))
	whole := httptest.NewServer(handler)
	t.Cleanup(whole.Close)
	t.Cleanup(server.Close)
	r.database, r.cloudURL, r.safeFile = pgtest.Database(t), server.URL, filepath.Join(r.dir, "safe.key")
	if err := safe.Make(r.safeFile); err != nil {
		t.Fatal(err)
	}
	if r.port, err = cloud.Connect(whole.URL, "secret", cloud.CallTimeout); err != nil {
		t.Fatal(err)
	}
	if r.Service, err = connectService(t.Context(), r.database, r.cloudURL, r.safeFile, timeout); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.store.Close() })
	r.now = func() time.Time { return time.Now().Add(time.Duration(r.shift.Load())) }
	if setUp != nil {
		setUp(r.Service)
	}
	r.start()
	t.Cleanup(func() { r.stop() })
	operator, err := r.store.OperatorNamed(t.Context(), "ines")
	if err != nil {
		t.Fatal(err)
	}
	r.ines = Actor{ID: operator.ID, Name: "ines", Role: Admin, Via: "api"}
	return r
}

// connectService returns a service that is not started.
func connectService(ctx context.Context, database, cloudURL, safeFile string, timeout time.Duration) (*Service, error) {
	port, err := cloud.Connect(cloudURL, "secret", timeout)
	if err != nil {
		return nil, err
	}
	st, err := store.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	s := New(st, port, runs.New(st, log), log)
	s.Safe, err = safe.Open(safeFile)
	return s, err
}

// start starts the service.
func (r *rig) start() {
	r.t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	if err := r.Start(ctx); err != nil {
		r.t.Fatal(err)
	}
	r.stop = func() {
		stop()
		r.engine.Stop(context.Background())
	}
}

// jump sets the clock on or back by so much.
func (r *rig) jump(by time.Duration) { r.shift.Add(int64(by)) }

func (r *rig) until(what string, ok func() bool) {
	r.t.Helper()
	for end := time.Now().Add(90 * time.Second); !ok(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			all, err := r.Rotations(r.t.Context(), store.Page{Limit: 1})
			for _, state := range all.Items {
				items, err := r.RotationItems(r.t.Context(), state.ID, "", store.Page{Limit: 5})
				r.t.Logf("%+v %+v %v", state, items.Items, err)
			}
			r.t.Fatalf("waited in vain: %s (%v)", what, err)
		}
	}
}

// launch launches an instance with a steward key, opened by the key, and sweeps it.
func (r *rig) launch(name, key string) { r.t.Helper(); r.launchWith(name, key, true) }

func (r *rig) launchWith(name, key string, steward bool) {
	r.t.Helper()
	if _, err := r.Key(r.t.Context(), key); err != nil {
		if _, _, err := r.MakeKey(r.t.Context(), r.ines, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: key}}); err != nil {
			r.t.Fatal(err)
		}
	}
	_, run, err := r.Launch(
		r.t.Context(),
		r.ines,
		IdempotencyKey{},
		Launch{Name: name, Image: "debian-12", Size: "small", Keys: []string{key}, Steward: steward},
	)
	if err != nil {
		r.t.Fatal(err)
	}
	r.until("the launch", func() bool {
		now, err := r.Run(r.t.Context(), run.ID)
		return err == nil && now.EndedAt != nil && now.State == runs.Done
	})
	r.sweep()
}

func (r *rig) sweep() {
	r.t.Helper()
	w, err := r.StartSweep(r.t.Context(), r.ines, SweepWanted{All: true})
	if err != nil {
		r.t.Fatal(err)
	}
	r.until("the sweep", func() bool {
		now, err := r.Sweep(r.t.Context(), w.ID)
		return err == nil && now.EndedAt != nil
	})
}

// rotate starts a rotation of a key as its plan shows it.
func (r *rig) rotate(start RotationStart) RotationState {
	r.t.Helper()
	plan, err := r.PlanRotation(r.t.Context(), start.RotationWanted)
	if err != nil {
		r.t.Fatal(err)
	}
	for _, i := range plan.Items {
		if i.LeftOut == "" {
			start.Shown = append(start.Shown, ShownItem{i.Login, i.Old, i.New})
		}
	}
	state, err := r.StartRotation(r.t.Context(), r.ines, IdempotencyKey{}, start)
	if err != nil {
		r.t.Fatal(err)
	}
	return state
}

// is reports whether all of a rotation is in the state of an item.
func (r *rig) is(of RotationState, state rotation.ItemState) func() bool {
	return func() bool {
		now, err := r.Rotation(r.t.Context(), of.ID)
		return err == nil && now.Counts[state] == len(now.Counts) && len(now.Counts) == 1
	}
}

// reportEntry reports a login with a key, signed with its private half, as the client does.
func (r *rig) reportEntry(login, key, hostKey string, private []byte) {
	r.t.Helper()
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		r.t.Fatal(err)
	}
	if err := r.reportEntryBy(r.ines, login, key, hostKey, signer); err != nil {
		r.t.Fatal(err)
	}
}

func (r *rig) reportEntryBy(who Actor, login, key, hostKey string, signer ssh.Signer) error {
	c, err := r.Challenge(r.t.Context(), who, key, &EntryFor{Login: login, HostKey: hostKey})
	if err != nil {
		return err
	}
	armoured, err := signature.Sign(signer, signature.EntryNamespace, []byte(c.Text))
	if err != nil {
		return err
	}
	_, err = r.ReportEntry(
		r.t.Context(),
		who,
		login,
		ReportedEntry{Key: key, HostKey: hostKey, Challenge: c.ID, Signature: armoured},
	)
	return err
}

// keysPath is where the authorized_keys of an instance lies in the stand-in.
func (r *rig) keysPath(instance string) string {
	r.t.Helper()
	i, err := r.Instance(r.t.Context(), instance)
	if err != nil {
		r.t.Fatal(err)
	}
	return filepath.Join(r.dir, "disks", i.CloudID, "home/debian/.ssh/authorized_keys")
}

func (r *rig) keysFile(instance string) string {
	r.t.Helper()
	data, err := os.ReadFile(r.keysPath(instance))
	if err != nil {
		r.t.Fatal(err)
	}
	return string(data)
}

// stands reports whether the key's line stands on the instance.
func (r *rig) stands(instance, key string) bool {
	r.t.Helper()
	k, err := r.Key(r.t.Context(), key)
	if err != nil {
		r.t.Fatal(err)
	}
	return strings.Contains(r.keysFile(instance), strings.Fields(lineOf(k))[1])
}

func selecting(key string) RotationWanted {
	return RotationWanted{Selection: rotation.Selection{Keys: []string{key}}}
}

// TestAClockThatJumpsMovesARemovalAndNeverTakesAProofAway sets the clock on and back
// while both keys stand beside each other.
func TestAClockThatJumpsMovesARemovalAndNeverTakesAProofAway(t *testing.T) {
	r := newRig(t)
	r.launch("door", "old")
	grace := store.RotationSettings{GraceSeconds: 3600}
	state := r.rotate(RotationStart{RotationWanted: selecting("old"), Make: makeService, Settings: grace})
	r.until("both keys", r.is(state, rotation.ItemProved))
	both := r.keysFile("door")
	if !r.stands("door", "old") || !r.stands("door", "old-2") {
		t.Errorf("the file is\n%s", both)
	}
	for _, by := range []time.Duration{-3 * time.Hour, 30 * 24 * time.Hour, -30 * 24 * time.Hour} {
		r.jump(by)
		if by > 0 {
			break
		}
		if err := r.carryRotations(t.Context()); err != nil {
			t.Fatal(err)
		}
		if !r.is(state, rotation.ItemProved)() || r.keysFile("door") != both {
			t.Errorf("the clock was set by %s, and the grace was over:\n%s", by, r.keysFile("door"))
		}
	}
	// Set on by a month, the grace is over; the login is completed again all the same.
	r.until("the removal", r.is(state, rotation.ItemDone))
	if r.stands("door", "old") || !r.stands("door", "old-2") {
		t.Errorf("the file is\n%s", r.keysFile("door"))
	}
	r.jump(-40 * 24 * time.Hour) // and a done one stays done
	if err := r.carryRotations(t.Context()); err != nil || !r.is(state, rotation.ItemDone)() {
		t.Errorf("%v", err)
	}
}

func TestALoginThatIsReportedWhileTheClockIsSetBackCounts(t *testing.T) {
	r := newRig(t)
	r.launch("door", "old")
	made, half, err := r.MakeKey(t.Context(), r.ines, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: "next"}})
	if err != nil || len(half) == 0 {
		t.Fatal(err)
	}
	wanted := selecting("old")
	wanted.To = made.Name
	state := r.rotate(RotationStart{RotationWanted: wanted})
	r.until("the new line", r.is(state, rotation.ItemPlaced))
	r.jump(-26 * time.Hour)
	i, err := r.Instance(t.Context(), "door")
	if err != nil {
		t.Fatal(err)
	}
	hostKey, err := ssh.ParsePublicKey(i.HostKeys[0].Blob)
	if err != nil {
		t.Fatal(err)
	}
	r.reportEntry("debian@door", "next", ssh.FingerprintSHA256(hostKey), half)
	r.until("the end", r.is(state, rotation.ItemDone))
	if r.stands("door", "old") || !r.stands("door", "next") {
		t.Errorf("the file is\n%s", r.keysFile("door"))
	}
}

func TestARuleBeginsOnTheDayAndOnceADayAtMost(t *testing.T) {
	r := newRig(t)
	r.launch("door", "old")
	_, err := r.AddRotationRule(
		t.Context(),
		r.ines,
		IdempotencyKey{},
		RuleWanted{
			Name:   "monthly",
			Wanted: RotationWanted{Selection: rotation.Selection{Older: 20 * 24 * time.Hour}},
			Make:   makeService,
		},
	)
	if err != nil {
		t.Fatal(err)
	}
	begun := func() int {
		t.Helper()
		if err := r.carryRules(t.Context()); err != nil {
			t.Fatal(err)
		}
		all, err := r.Rotations(t.Context(), store.Page{Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(all.Items)
	}
	due := func() time.Duration {
		t.Helper()
		list, err := r.DueRotations(t.Context(), 30)
		if err != nil || len(list) != 1 || list[0].Login != "debian@door" {
			t.Fatalf("%v %+v", err, list)
		}
		return list[0].At.Sub(r.now())
	}
	if n, left := begun(), due(); n != 0 || left < 19*24*time.Hour || left > 20*24*time.Hour {
		t.Errorf("%d begun; due in %s", n, left)
	}
	r.jump(20*24*time.Hour - time.Hour)
	if n, left := begun(), due(); n != 0 || left > time.Hour {
		t.Errorf("%d begun; due in %s", n, left)
	}
	r.jump(2 * time.Hour)
	if n := begun(); n != 1 {
		t.Fatalf("on the day %d began", n)
	}
	all, err := r.Rotations(t.Context(), store.Page{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	r.until("the end", r.is(all.Items[0], rotation.ItemDone))
	// What comes due again within the day waits for it to be over.
	r.launch("gate", "old-2")
	r.jump(-time.Hour)
	rules, err := r.RotationRules(t.Context())
	if err != nil || rules[0].NextAt == nil || rules[0].Note != "" {
		t.Fatalf("%v %+v", err, rules)
	}
	if n := begun(); n != 1 {
		t.Errorf("a second began on the same day")
	}
	r.jump(21 * 24 * time.Hour)
	if n := begun(); n != 2 {
		t.Errorf("%d began in all", n)
	}
}

func TestAStepTakenElsewhereThatIsNotReportedFailsInTime(t *testing.T) {
	r := newRig(t)
	r.launchWith("door", "old", false)
	wanted := selecting("old")
	wanted.FromHere = true
	if _, _, err := r.MakeKey(t.Context(), r.ines, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: "next"}}); err != nil {
		t.Fatal(err)
	}
	wanted.To = "next"
	state := r.rotate(RotationStart{RotationWanted: wanted})
	before := r.keysFile("door")
	if err := r.carryRotations(t.Context()); err != nil || !r.is(state, rotation.ItemWaiting)() {
		t.Errorf("the service took what is to be edited from somebody's machine: %v", err)
	}
	taken, err := r.TakeRotationItems(t.Context(), r.ines, state.ID, []string{"old"}, 0)
	if err != nil || len(taken) != 1 || taken[0].Phase != rotation.In {
		t.Fatalf("%v %+v", err, taken)
	}
	if again, err := r.TakeRotationItems(t.Context(), r.ines, state.ID, []string{"old"}, 0); err != nil ||
		len(again) != 0 {
		t.Errorf("taken twice: %v %+v", err, again)
	}
	var p *Problem
	if _, err := r.ReportStep(
		t.Context(),
		Actor{Name: "marek", Role: Operator},
		taken[0].Run,
		"place",
		"done",
		"",
	); !errors.As(
		err,
		&p,
	) ||
		p.Code != "not-yours" {
		t.Errorf("somebody else reports: %v", err)
	}
	r.jump(3 * time.Minute)
	r.until("the failure", r.is(state, rotation.ItemFailed))
	items, err := r.RotationItems(t.Context(), state.ID, "", store.Page{Limit: 1})
	if err != nil || !strings.Contains(items.Items[0].Detail, "nothing was heard from the machine of ines") ||
		r.keysFile("door") != before {
		t.Errorf("%v %+v", err, items)
	}
	if _, err := r.ReportStep(t.Context(), r.ines, taken[0].Run, "place", "done", ""); !errors.As(err, &p) ||
		p.Code != "run-ended" {
		t.Errorf("reported too late: %v", err)
	}
}

// TestARotationThatCannotGoOnHoldsUpNoOther has the record of one rotation be unreadable.
func TestARotationThatCannotGoOnHoldsUpNoOther(t *testing.T) {
	r := newRig(t)
	r.launch("door", "old")
	r.launch("gate", "other")
	grace := store.RotationSettings{GraceSeconds: 3600}
	broken := r.rotate(RotationStart{RotationWanted: selecting("old"), Make: makeService, Settings: grace})
	r.until("the first", r.is(broken, rotation.ItemProved))
	later := r.rotate(RotationStart{RotationWanted: selecting("other"), Make: makeService, Settings: grace})
	r.until("the second", r.is(later, rotation.ItemProved))
	const spoil = "UPDATE rotations SET settings = '[]' WHERE id = $1"
	if _, err := r.store.Pool().Exec(t.Context(), spoil, broken.ID); err != nil {
		t.Fatal(err)
	}
	r.jump(2 * time.Hour)
	r.until("the second's removal", r.is(later, rotation.ItemDone))
	if err := r.carryRotations(t.Context()); err == nil || !strings.Contains(err.Error(), broken.ID.String()) {
		t.Errorf("the first is not told of: %v", err)
	}
}

// TestWhatTheCloudOffersIsAskedOnceForManyLogins counts calls while rotations are planned.
func TestWhatTheCloudOffersIsAskedOnceForManyLogins(t *testing.T) {
	r := newRig(t)
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		r.launchWith(name, "old", false)
	}
	r.offers.at = time.Time{} // nothing is known of the cloud any more
	before := r.capabilities.Load()
	if _, err := r.PlanRotation(t.Context(), selecting("old")); err != nil {
		t.Fatal(err)
	}
	if asked := r.capabilities.Load() - before; asked > 1 {
		t.Errorf("what it can do was asked %d times for 5 logins, want once", asked)
	}
}
