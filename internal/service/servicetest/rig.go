package servicetest

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/rotation"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/paddock"
	"plumlatch/internal/paddock/block"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/rotate"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

func Main(m *testing.M) {
	if os.Getenv(childVariable) != "" {
		beKilled()
		return
	}
	pgtest.Main(m, prepare)
}

// prepare readies the database that those of the tests are copied from: its first admin is ines.
func prepare(ctx context.Context, owner, url string) error {
	if err := store.Prepare(ctx, owner, url); err != nil {
		return err
	}
	st, err := store.Open(ctx, url)
	if err != nil {
		return err
	}
	defer st.Close()
	log := slog.New(slog.DiscardHandler)
	return service.New(
		st, nil, runs.New(st, log), log, service.Options{},
	).People.AddOperator(
		ctx, people.Actor{Name: "setup", Via: "service"}, journal.IdempotencyKey{},
		people.NewOperator{Name: "ines", Title: "Ines", Password: OfficePassword, Role: people.Admin},
	)
}

// Rig is a service with a clock that the test sets.
type Rig struct {
	*service.Service
	Store  *store.Store
	Engine *runs.Engine
	T      *testing.T
	Dir    string
	// database, cloudURL and safeFile are what the service works with.
	database, cloudURL, safeFile string
	shift                        atomic.Int64
	Ines                         people.Actor
	Calls                        atomic.Int64 // of the cloud
	Capabilities                 atomic.Int64 // those for what it can do
	Lacks                        atomic.Value // what the service is told that the cloud cannot
	Port                         *cloud.Cloud // the test's own, which waits
	// Down stops the service.
	Down func()

	timeout time.Duration // of a call of the cloud
	setUp   func(*service.Service, *runs.Engine)
}

func NewRig(t *testing.T) *Rig {
	t.Helper()
	return newRigWith(t, paddock.Options{}, cloud.CallTimeout, nil)
}

// blocks counts the ranges of addresses that were given to stand-in clouds.
var (
	blocks     atomic.Uint32
	firstBlock = rand.Uint32N(1024)
)

// openCloud opens a stand-in cloud at an address block that no other process on this machine has.
func openCloud(o paddock.Options) (*paddock.Cloud, error) {
	for {
		n := firstBlock + blocks.Add(1)%2048 // no two of this process share one
		o.Block = netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(64 + n/64), byte(4 * (n % 64)), 0}), 22)
		c, err := paddock.Open(o)
		var taken *block.TakenError
		if !errors.As(err, &taken) {
			return c, err
		}
	}
}

// newRigWith is newRig with a cloud of some other kind. Before the service starts, it is
// set up.
func newRigWith(
	t *testing.T, o paddock.Options, timeout time.Duration, setUp func(*service.Service, *runs.Engine),
) *Rig {
	t.Helper()
	r := &Rig{T: t, Dir: t.TempDir(), timeout: timeout, setUp: setUp}
	o.Dir, o.Token = r.Dir, "secret"
	c, err := openCloud(o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(c.Close)
	handler := c.Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		r.Calls.Add(1)
		if strings.HasSuffix(q.URL.Path, "/capabilities") {
			r.Capabilities.Add(1)
		}
		if lacks, _ := r.Lacks.Load().(string); lacks != "" {
			without(lacks, handler, w, q)
			return
		}
		handler.ServeHTTP(w, q)
	}))
	whole := httptest.NewServer(handler)
	t.Cleanup(whole.Close)
	t.Cleanup(server.Close)
	r.database, r.cloudURL, r.safeFile = pgtest.Database(t), server.URL, filepath.Join(r.Dir, "safe.key")
	if err := safe.Make(r.safeFile); err != nil {
		t.Fatal(err)
	}
	if r.Port, err = cloud.Connect(whole.URL, "secret", cloud.CallTimeout); err != nil {
		t.Fatal(err)
	}
	r.Restart()
	t.Cleanup(func() { r.Down() })
	operator, err := r.Store.OperatorNamed(t.Context(), "ines")
	if err != nil {
		t.Fatal(err)
	}
	r.Ines = people.Actor{ID: operator.ID, Name: "ines", Role: people.Admin, Via: "api"}
	return r
}

// connectService returns a service that is not started.
func connectService(
	ctx context.Context, database, cloudURL, safeFile string, timeout time.Duration, now func() time.Time,
) (*service.Service, *store.Store, *runs.Engine, error) {
	port, err := cloud.Connect(cloudURL, "secret", timeout)
	if err != nil {
		return nil, nil, nil, err
	}
	box, err := safe.Open(safeFile)
	if err != nil {
		return nil, nil, nil, err
	}
	st, err := store.Open(ctx, database)
	if err != nil {
		return nil, nil, nil, err
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError}))
	e := runs.New(st, log)
	return service.New(st, port, e, log, service.Options{Safe: box, Now: now}), st, e, nil
}

func (r *Rig) Now() time.Time { return time.Now().Add(time.Duration(r.shift.Load())) }

// Up starts the service.
func (r *Rig) Up() {
	r.T.Helper()
	ctx, stop := context.WithCancel(context.Background())
	if err := r.Start(ctx); err != nil {
		r.T.Fatal(err)
	}
	r.Down = func() {
		stop()
		r.Engine.Stop(context.Background())
	}
}

// Restart has the service come up again, once it is stopped.
func (r *Rig) Restart() { r.T.Helper(); r.Reconnect(); r.Up() }

// Reconnect makes the service again, without a start.
func (r *Rig) Reconnect() {
	r.T.Helper()
	var err error
	r.Service, r.Store, r.Engine, err = connectService(
		r.T.Context(), r.database, r.cloudURL, r.safeFile, r.timeout, r.Now,
	)
	if err != nil {
		r.T.Fatal(err)
	}
	r.T.Cleanup(r.Store.Close)
	if r.setUp != nil {
		r.setUp(r.Service, r.Engine)
	}
}

// Jump sets the clock on or back by so much.
func (r *Rig) Jump(by time.Duration) { r.shift.Add(int64(by)) }

func (r *Rig) Until(what string, ok func() bool) {
	r.T.Helper()
	for end := time.Now().Add(90 * time.Second); !ok(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			all, err := r.Rotate.Rotations(r.T.Context(), "", record.Page{Limit: 1})
			for _, state := range all.Items {
				items, err := r.Rotate.RotationItems(r.T.Context(), state.ID, "", record.Page{Limit: 5})
				r.T.Logf("%+v %+v %v", state, items.Items, err)
			}
			r.T.Fatalf("waited in vain: %s (%v)", what, err)
		}
	}
}

// Launch launches an instance with a steward key, opened by the key, and sweeps it.
func (r *Rig) Launch(name, key string) { r.T.Helper(); r.LaunchWith(name, key, true) }

func (r *Rig) LaunchWith(name, key string, steward bool) {
	r.T.Helper()
	if _, err := r.Keys.Key(r.T.Context(), key); err != nil {
		if _, _, err := r.Keys.MakeKey(
			r.T.Context(), r.Ines, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: key}},
		); err != nil {
			r.T.Fatal(err)
		}
	}
	_, run, err := r.Fleet.Launch(
		r.T.Context(), r.Ines, journal.IdempotencyKey{},
		fleet.Launch{Name: name, Image: "debian-12", Size: "small", Keys: []string{key}, Steward: steward},
	)
	if err != nil {
		r.T.Fatal(err)
	}
	r.Until("the launch", func() bool {
		now, err := r.Runs.Run(r.T.Context(), run.ID)
		return err == nil && now.EndedAt != nil && now.State == runs.Done
	})
	r.Sweep()
}

func (r *Rig) Sweep() {
	r.T.Helper()
	w, err := r.Reading.StartSweep(r.T.Context(), r.Ines, reading.SweepWanted{All: true})
	if err != nil {
		r.T.Fatal(err)
	}
	r.Until("the sweep", func() bool {
		now, err := r.Reading.Sweep(r.T.Context(), w.ID)
		return err == nil && now.EndedAt != nil
	})
}

// StartRotation starts a rotation of a key as its plan shows it.
func (r *Rig) StartRotation(start rotate.RotationStart) rotate.RotationState {
	r.T.Helper()
	plan, err := r.Rotate.PlanRotation(r.T.Context(), start.RotationWanted)
	if err != nil {
		r.T.Fatal(err)
	}
	for _, i := range plan.Items {
		if i.LeftOut == "" {
			start.Shown = append(start.Shown, rotate.ShownItem{Login: i.Login, Old: i.Old, New: i.New})
		}
	}
	state, err := r.Rotate.StartRotation(r.T.Context(), r.Ines, journal.IdempotencyKey{}, start)
	if err != nil {
		r.T.Fatal(err)
	}
	return state
}

// Is reports whether all of a rotation is in the state of an item.
func (r *Rig) Is(of rotate.RotationState, state rotation.ItemState) func() bool {
	return func() bool {
		now, err := r.Rotate.Rotation(r.T.Context(), of.ID)
		return err == nil && now.Counts[state] == len(now.Counts) && len(now.Counts) == 1
	}
}

// ReportEntry reports a login with a key, signed with its private key, as the client does.
func (r *Rig) ReportEntry(login, key, hostKey string, private []byte) {
	r.T.Helper()
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		r.T.Fatal(err)
	}
	if err := r.ReportEntryBy(r.Ines, login, key, hostKey, signer); err != nil {
		r.T.Fatal(err)
	}
}

func (r *Rig) ReportEntryBy(who people.Actor, login, key, hostKey string, signer ssh.Signer) error {
	c, err := r.Access.Challenge(r.T.Context(), who, key, &access.EntryFor{Login: login, HostKey: hostKey})
	if err != nil {
		return err
	}
	armoured, err := signature.Sign(signer, signature.EntryNamespace, []byte(c.Text))
	if err != nil {
		return err
	}
	_, err = r.Access.ReportEntry(
		r.T.Context(), who, login,
		access.ReportedEntry{Key: key, HostKey: hostKey, Challenge: c.ID, Signature: armoured},
	)
	return err
}

// KeysPath is where the authorized_keys of an instance lies in the stand-in.
func (r *Rig) KeysPath(instance string) string {
	r.T.Helper()
	i, err := r.Fleet.Instance(r.T.Context(), instance)
	if err != nil {
		r.T.Fatal(err)
	}
	return filepath.Join(r.Dir, "disks", i.CloudID, "home/debian/.ssh/authorized_keys")
}

func (r *Rig) KeysFile(instance string) string {
	r.T.Helper()
	data, err := os.ReadFile(r.KeysPath(instance))
	if err != nil {
		r.T.Fatal(err)
	}
	return string(data)
}

// Stands reports whether the key's line is on the instance.
func (r *Rig) Stands(instance, key string) bool {
	r.T.Helper()
	k, err := r.Keys.Key(r.T.Context(), key)
	if err != nil {
		r.T.Fatal(err)
	}
	return strings.Contains(r.KeysFile(instance), strings.Fields(keys.LineOf(k))[1])
}

func Selecting(key string) rotate.RotationWanted {
	return rotate.RotationWanted{Selection: rotation.Selection{Keys: []string{key}}}
}

func CodeOf(err error) string {
	var p *problem.Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return fmt.Sprint(err)
}

// Wire is the key of a line as it is written in a file.
func Wire(k record.Key) string { return base64.StdEncoding.EncodeToString(k.Blob) }

// without serves a cloud that has no call for a capability: start-stop or static-addresses.
// Somebody at the cloud's own console still has.
func without(capability string, whole http.Handler, w http.ResponseWriter, q *http.Request) {
	last := q.URL.Path[strings.LastIndexByte(q.URL.Path, '/')+1:]
	blocked := map[string][]string{"start-stop": {"start", "stop"}, "static-addresses": {"address"}}[capability]
	switch {
	case q.Method == http.MethodPost && slices.Contains(blocked, last):
		http.Error(
			w,
			`{"type":"about:blank","title":"Not found","status":404,"code":"not-found","detail":"there is no such call"}`,
			http.StatusNotFound,
		)
	case last == "capabilities":
		all := httptest.NewRecorder()
		whole.ServeHTTP(all, q)
		var can map[string]any
		if err := json.Unmarshal(all.Body.Bytes(), &can); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		can["capabilities"] = slices.DeleteFunc(can["capabilities"].([]any), func(c any) bool { return c == capability })
		json.NewEncoder(w).Encode(can)
	default:
		whole.ServeHTTP(w, q)
	}
}

func (r *Rig) InstanceID(name string) uuid.UUID {
	i, err := r.Fleet.Instance(r.T.Context(), name)
	if err != nil {
		r.T.Error(err)
	}
	return i.ID
}

func NewRestoreRig(t *testing.T, setUp func(*service.Service, *runs.Engine)) *Rig {
	t.Helper()
	return NewImpatientRig(t, cloud.CallTimeout, setUp)
}

// NewImpatientRig is newRestoreRig whose service waits for a call of the cloud so long.
func NewImpatientRig(t *testing.T, timeout time.Duration, setUp func(*service.Service, *runs.Engine)) *Rig {
	t.Helper()
	r := newRigWith(t, paddock.Options{}, timeout, func(s *service.Service, e *runs.Engine) {
		s.Routes.Patience, e.RetryAfter = 5*time.Second, 10*time.Millisecond
		if setUp != nil {
			setUp(s, e)
		}
	})
	rules, err := r.Port.FirewallRules(t.Context()) // they let all of loopback in
	for _, rule := range rules {
		err = errors.Join(err, r.Port.ClosePort(t.Context(), rule.Id))
	}
	if _, opened := r.Port.OpenPort(t.Context(), "", "default", "127.0.0.1/32", paddock.SSHPort); errors.Join(
		err, opened,
	) != nil {
		t.Fatal(err, opened)
	}
	return r
}

// MadeKey has the service make a key and hand it over.
func (r *Rig) MadeKey(name string, spec keypair.Spec) ssh.Signer {
	r.T.Helper()
	_, private, err := r.Keys.MakeKey(
		r.T.Context(), r.Ines, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: name}, Spec: spec},
	)
	if err != nil {
		r.T.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		r.T.Fatal(err)
	}
	return signer
}

// Session logs in to the instance that will be logged in to.
func (r *Rig) Session(instance, user string, by ssh.Signer) (*sshio.Session, error) {
	i, err := r.Fleet.Instance(r.T.Context(), instance)
	if err != nil {
		return nil, err
	}
	return sshio.Login(r.T.Context(), r.Fleet.Target(i, user), by)
}
