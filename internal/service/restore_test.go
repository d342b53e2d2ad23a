package service

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
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
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/paddock"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// restoreCase is a route and the instance on which it is taken.
type restoreCase struct {
	route        restore.Route
	image, size  string
	static       bool
	steward      bool
	holder       bool // somebody else's key is in place and proved
	passwords    bool // password login is on
	keeperPlaces bool // the line is placed from somebody's machine
	ports        []int
}

func (c restoreCase) name() string {
	if c.keeperPlaces && c.route == restore.StandingKey {
		return "standing-key-of-a-keeper"
	}
	return string(c.route)
}

var restoreCases = []restoreCase{
	{route: restore.StandingKey, image: "debian-12", steward: true},
	{route: restore.StandingKey, image: "debian-12", holder: true, keeperPlaces: true},
	{route: restore.GuestAgent, image: "debian-12"},
	{route: restore.MetadataKeys, image: "ubuntu-24.04"},
	{route: restore.BrowserShell, image: "debian-12"},
	{route: restore.Password, image: "debian-12", passwords: true, keeperPlaces: true},
	{route: restore.HelperDisk, image: "fedora-42", size: "large-scratch", static: true},
	{route: restore.Replacement, image: "debian-12", static: true, ports: []int{2222}},
	{route: restore.WindowsPassword, image: "windows-2022"},
}

// restoreTimeout is for how long a call of the cloud is waited for in these tests.
const restoreTimeout = 400 * time.Millisecond

func newRestoreRig(t *testing.T, setUp func(*Service)) *rig {
	t.Helper()
	r := newRigWith(t, paddock.Options{}, restoreTimeout, func(s *Service) {
		s.Patience, s.engine.RetryAfter = 5*time.Second, 10*time.Millisecond
		if setUp != nil {
			setUp(s)
		}
	})
	rules, err := r.port.FirewallRules(t.Context()) // they let all of loopback in
	for _, rule := range rules {
		err = errors.Join(err, r.port.ClosePort(t.Context(), rule.Id))
	}
	if _, opened := r.port.OpenPort(t.Context(), "", "default", "127.0.0.1/32", paddock.SSHPort); errors.Join(err, opened) != nil {
		t.Fatal(err, opened)
	}
	return r
}

// lockedOut is an instance of a case to which a key is lost.
type lockedOut struct {
	*rig
	restoreCase
	name, login, user string
	before            cloud.Instance
	disk              cloud.Disk
	file              string // authorized_keys as it stands on the disk
	rules             int
	begun             int        // how many restores were
	other             ssh.Signer // the key of somebody who has nothing to do with it
}

// madeKey has the service make a key and hand it over.
func (r *rig) madeKey(name string, spec keypair.Spec) ssh.Signer {
	r.t.Helper()
	_, half, err := r.MakeKey(r.t.Context(), r.ines, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: name}, Spec: spec})
	if err != nil {
		r.t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(half)
	if err != nil {
		r.t.Fatal(err)
	}
	return signer
}

// lockOut launches the instance of a case, opened by a key that is lost and another.
func (r *rig) lockOut(c restoreCase, name string) *lockedOut {
	r.t.Helper()
	ctx := r.t.Context()
	o := &lockedOut{rig: r, restoreCase: c, name: name}
	spec := keypair.Spec{}
	if c.route == restore.WindowsPassword {
		spec = keypair.Spec{Type: keypair.RSA, Bits: 2048}
	}
	r.madeKey(name+"-lost", spec)
	o.other = r.madeKey(name+"-other", spec)
	size := c.size
	if size == "" {
		size = "small"
	}
	_, run, err := r.Launch(ctx, r.ines, IdempotencyKey{}, Launch{Name: name, Image: c.image, Size: size, Keys: []string{name + "-lost", name + "-other"}, Steward: c.steward, StaticAddress: c.static})
	if err != nil {
		r.t.Fatal(err)
	}
	r.until("the launch", func() bool {
		now, err := r.Run(ctx, run.ID)
		return err == nil && now.State == runs.Done
	})
	i, err := r.Instance(ctx, name)
	if err != nil {
		r.t.Fatal(err)
	}
	o.user, o.login = i.LoginUser, loginName(i.LoginUser, name)
	if c.passwords {
		o.turnPasswordsOn()
	}
	if c.holder {
		o.entered(name+"-other", o.other)
	}
	if o.before, err = r.port.Instance(ctx, i.CloudID); err != nil {
		r.t.Fatal(err)
	}
	o.disk, o.rules = o.root(), len(o.firewall())
	o.file = o.onDisk(o.disk)
	return o
}

func (o *lockedOut) root() cloud.Disk {
	o.t.Helper()
	disks, err := o.port.Disks(o.t.Context(), o.before.Id)
	if err != nil || len(disks) != 1 {
		o.t.Fatalf("%s: %v %+v", o.name, err, disks)
	}
	return disks[0]
}

func (o *lockedOut) firewall() []cloud.FirewallRule {
	o.t.Helper()
	rules, err := o.port.FirewallRules(o.t.Context())
	if err != nil {
		o.t.Fatal(err)
	}
	return rules
}

func (o *lockedOut) onDisk(cloud.Disk) string {
	o.t.Helper()
	home := "home/" + o.user
	if o.user == "root" {
		home = "root"
	}
	data, err := os.ReadFile(filepath.Join(o.dir, "disks", o.before.Id, home, ".ssh/authorized_keys"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		o.t.Fatal(err)
	}
	return string(data)
}

// session logs in to the instance that is to be logged in to.
func (r *rig) session(instance, user string, by ssh.Signer) (*sshio.Session, error) {
	i, err := r.Instance(r.t.Context(), instance)
	if err != nil {
		return nil, err
	}
	return sshio.Login(r.t.Context(), targetOf(i, user), by)
}

func (o *lockedOut) entered(key string, by ssh.Signer) {
	o.t.Helper()
	s, err := o.session(o.name, o.user, by)
	if err != nil {
		o.t.Fatal(err)
	}
	defer s.Close()
	if _, err := o.ReportEntry(o.t.Context(), o.ines, o.login, key, ssh.FingerprintSHA256(s.HostKey)); err != nil {
		o.t.Fatal(err)
	}
}

const doorPassword = "brent-goose"

func (o *lockedOut) turnPasswordsOn() {
	o.t.Helper()
	s, err := o.session(o.name, o.user, o.other)
	if err != nil {
		o.t.Fatal(err)
	}
	defer s.Close()
	_, err = s.Run([]byte(o.user+":"+doorPassword+"\n"), "sudo", "chpasswd")
	config, read := s.Run(nil, "sudo", "cat", sshio.ServerConfig)
	_, wrote := s.Run([]byte(strings.ReplaceAll(string(config), "PasswordAuthentication no", "PasswordAuthentication yes")), "sudo", "tee", sshio.ServerConfig)
	if err := errors.Join(err, read, wrote); err != nil {
		o.t.Fatal(err)
	}
}

// begin begins the restore with a key that the service makes and keeps.
func (o *lockedOut) begin() Restore {
	o.t.Helper()
	o.begun++
	w := RestoreWanted{
		Login: o.login, Route: o.route, Key: fmt.Sprintf("%s-new-%d", o.name, o.begun), Make: true, Lost: []string{o.name + "-lost"}, Confirm: o.name, Reason: "the laptop is gone", Ports: o.ports,
	}
	if o.route == restore.WindowsPassword { // to which no line is lost; and RSA keys take long to make
		w.Key, w.Make, w.Lost = o.name+"-other", false, []string{}
	}
	r, err := o.StartRestore(o.t.Context(), o.ines, IdempotencyKey{}, w)
	if err != nil {
		o.t.Fatal(err)
	}
	return r
}

// help does what a restore waits for somebody to do.
func (o *lockedOut) help(r Restore) error {
	if r.Waits == nil {
		return nil
	}
	ctx := o.t.Context()
	switch {
	case r.Waits.Step == restore.Place:
		i, err := o.Instance(ctx, o.name)
		if err != nil {
			return err
		}
		var s *sshio.Session
		if o.route == restore.Password {
			s, err = sshio.LoginWithPassword(ctx, targetOf(i, o.user), doorPassword)
		} else {
			s, err = o.session(o.name, o.user, o.other)
		}
		if err != nil {
			return err
		}
		defer s.Close()
		k, err := o.Key(ctx, r.Key)
		if err != nil {
			return err
		}
		err = s.EditAll(func(_ string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			if !first || len(f.Find(k.Blob)) > 0 {
				return f, nil
			}
			return f.Add(lineOf(k)), nil
		})
		files, folders, read := FilesIn(s)
		if err := errors.Join(err, read); err != nil {
			return err
		}
		_, err = o.ReportFiles(ctx, o.ines, o.login, files, folders, ssh.FingerprintSHA256(s.HostKey))
		return err
	case r.Waits.Step == restore.Open:
		return o.OpenedPassword(ctx, o.ines, o.name)
	}
	return fmt.Errorf("it waits for %s", r.Waits.What)
}

// ends waits until the restore has ended.
func (o *lockedOut) ends(id uuid.UUID) Restore {
	o.t.Helper()
	var r Restore
	for until := time.Now().Add(40 * time.Second); ; time.Sleep(15 * time.Millisecond) {
		var err error
		r, err = o.Restore(o.t.Context(), id)
		if err == nil && r.EndedAt != nil {
			return r
		}
		if err == nil {
			err = o.help(r)
		}
		if time.Now().After(until) {
			o.t.Fatalf("%s is %s: %v\n%s", o.name, r.State, err, stepsOf(r))
		}
	}
}

func stepsOf(r Restore) string {
	var b strings.Builder
	for _, s := range r.Steps {
		fmt.Fprintf(&b, "  %-8s %-14s %s\n", s.State, s.Name, s.Outcome)
	}
	return b.String() + r.Error
}

// judge says what is wrong after a restore: it is done and proved, or all is as it was;
// nothing is left open or lying about, and nobody else's line is touched.
func (o *lockedOut) judge(r Restore) (wrong []string) {
	ctx := o.t.Context()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	replaced := o.route == restore.Replacement && r.State == runs.Done
	switch r.State {
	case runs.Done:
		wrong = o.judgeDone(r)
	case runs.Undone:
		if text := o.onDisk(o.disk); text != o.file && !(o.keeperPlaces && r.Differs != "") {
			bad("the file is not as it was:\n%s", text)
		}
	default:
		bad("it ended as %s: %s", r.State, r.Error)
	}
	i, err := o.port.Instance(ctx, o.before.Id)
	if err != nil {
		return append(wrong, err.Error())
	}
	if !replaced {
		if i.State != "running" || o.before.StaticAddress && i.PublicAddress != o.before.PublicAddress || i.PrivateAddress != o.before.PrivateAddress {
			bad("it is %s at %s (%s), and was running at %s (%s)", i.State, i.PublicAddress, i.PrivateAddress, o.before.PublicAddress, o.before.PrivateAddress)
		}
		if s, err := o.session(o.name, o.user, o.other); err != nil {
			bad("somebody else's key does not open it any more: %v", err)
		} else {
			s.Close()
		}
	}
	if now := o.root(); !slices.Equal(now.Attachments, o.disk.Attachments) {
		bad("its disk is attached as %+v, and was as %+v", now.Attachments, o.disk.Attachments)
	}
	if disks, err := o.port.AllDisks(ctx); err != nil || slices.ContainsFunc(disks, func(d cloud.Disk) bool { return len(d.Attachments) == 0 }) {
		bad("a disk hangs loose: %v %+v", err, disks)
	}
	if n := len(o.firewall()); n != o.rules {
		bad("there are %d firewall rules, and were %d", n, o.rules)
	}
	if state, err := o.port.Agent(ctx, o.before.Id); err != nil || state == cloud.AgentReady {
		bad("the guest agent is %s: %v", state, err)
	}
	for n := range maxHelpers {
		if helper, there, err := o.port.Launched(ctx, fmt.Sprintf("%s helper %d", r.ID, n+1)); err != nil || there && helper.State != "terminated" {
			bad("the helper %d is there: %v %+v", n+1, err, helper)
		}
	}
	if list, err := o.port.Snapshots(ctx); err != nil || len(list) != 0 {
		bad("a copy of the disk is left: %v %+v", err, list)
	}
	for _, c := range r.Closings {
		if c.ClosedAt == nil {
			bad("%s is not written down as closed", c.What)
		}
	}
	return wrong
}

func (o *lockedOut) judgeDone(r Restore) (wrong []string) {
	ctx := o.t.Context()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	if len(r.Left) > 0 {
		bad("left: %v", r.Left)
	}
	if o.route == restore.WindowsPassword {
		return wrong
	}
	lost, err := o.Key(ctx, o.name+"-lost")
	if err != nil || lost.State != "lost" {
		bad("the lost key is %s: %v", lost.State, err)
	}
	k, err := o.Key(ctx, r.Key)
	if err != nil {
		return append(wrong, err.Error())
	}
	signer, err := o.keptSigner(ctx, k)
	if err != nil {
		return append(wrong, err.Error())
	}
	s, err := o.session(r.Target, o.user, signer)
	if err != nil {
		return append(wrong, "the new key does not open it: "+err.Error())
	}
	defer s.Close()
	files, err := s.ReadAll()
	if err != nil {
		return append(wrong, err.Error())
	}
	file := authorizedkeys.Parse(files[0].Content)
	if len(file.Find(lost.Blob)) > 0 {
		bad("the line of the lost key is there")
	}
	if len(file.Find(o.other.PublicKey().Marshal())) != 1 {
		bad("the line of somebody else is gone")
	}
	target, err := o.Instance(ctx, r.Target)
	if err != nil || target.State != "running" || o.static && target.PublicAddress != o.before.PublicAddress {
		bad("%s is %s at %s: %v", r.Target, target.State, target.PublicAddress, err)
	}
	openers, err := o.Openers(ctx, r.Target, store.Page{Limit: 10})
	granted := func(key string) bool {
		return slices.ContainsFunc(openers.Items, func(p store.Opening) bool { return p.KeyName == key && p.GrantedAt != nil })
	}
	if err != nil || !granted(r.Key) || granted(lost.Name) || !granted(o.name+"-other") {
		bad("the grants are %+v: %v", openers.Items, err)
	}
	return wrong
}

// stepsIn are the steps of a case, as the routes themselves order them.
func stepsIn(r Restore) []restore.Step { return restore.Steps(restorePlanOf(r.Facts)) }

func TestEveryRouteLetsInWithTheNewKeyAndNotWithTheLostOne(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			o := newRestoreRig(t, nil).lockOut(c, "door")
			r := o.ends(o.begin().ID)
			if wrong := o.judge(r); r.State != runs.Done || len(wrong) > 0 {
				t.Errorf("%s\n%s", strings.Join(wrong, "\n"), stepsOf(r))
			}
			report, err := o.ReportRestore(t.Context(), r.ID)
			if err != nil || report.AddressBefore != o.before.PublicAddress || len(report.Copies) != 0 {
				t.Errorf("%v %+v", err, report)
			}
		})
	}
}

// fault is something that goes wrong with the cloud at a step.
type fault struct {
	kind  cloud.FaultKind
	times int
}

var faults = []fault{{"fail", 1}, {"refuse", 1}, {"hang", 1}, {"twice", 1}, {"lose-reply", 1}, {"break", 1}, {"break", 4}}

// at has something go wrong as a step of a restore begins, or as its undo does.
type at struct {
	step string
	undo bool
	do   func(ctx context.Context)
	once bool
	// ask, where it is set, is told of the steps that ask the cloud something, by its calls.
	ask   func(step string)
	calls *atomic.Int64
}

// hook returns what is called around steps: before each, at.do where it is the one.
func (a *at) hook(_ store.Run, step runs.Step) runs.Step {
	wrap := func(undo bool) func(context.Context) {
		return func(ctx context.Context) {
			if step.Name == a.step && undo == a.undo && !a.once {
				a.once = true
				a.do(ctx)
			}
		}
	}
	if do, before := step.Do, wrap(false); do != nil {
		step.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
			before(ctx)
			if a.ask == nil {
				return do(ctx, p)
			}
			asked := a.calls.Load()
			said, err := do(ctx, p)
			if err == nil && a.calls.Load() > asked {
				a.ask(step.Name)
			}
			return said, err
		}
	}
	if undo, before := step.Undo, wrap(true); undo != nil {
		step.Undo = func(ctx context.Context, p *runs.Progress) error {
			before(ctx)
			return undo(ctx, p)
		}
	}
	return step
}

// TestWhateverTheCloudDoesWrongAtAnyStepTheLoginIsRestoredOrAsItWas goes through the
// steps that the routes themselves are made of, so that a new one is in it by itself.
func TestWhateverTheCloudDoesWrongAtAnyStepTheLoginIsRestoredOrAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			now := &at{}
			r := newRestoreRig(t, func(s *Service) {
				s.stepHook = func(run store.Run, step runs.Step) runs.Step { return now.hook(run, step) }
			})
			var steps []string
			now = &at{ask: func(step string) { steps = append(steps, step) }, calls: &r.calls}
			o := r.lockOut(c, "door")
			o.ends(o.begin().ID)
			var undone *lockedOut
			for n, step := range steps {
				for m, f := range faults {
					if o = undone; o == nil {
						o = r.lockOut(c, fmt.Sprintf("hut-%d-%d", n, m))
					}
					now = &at{step: step, do: func(ctx context.Context) {
						if err := r.port.ScheduleFault(ctx, cloud.Fault{Call: "*", Kind: f.kind, Times: &f.times}); err != nil {
							t.Error(err)
						}
					}}
					run := o.ends(o.begin().ID)
					if err := r.port.ClearFaults(t.Context()); err != nil { // of a step that asks the cloud nothing
						t.Fatal(err)
					}
					if undone = nil; (run.State == runs.Undone || c.route == restore.WindowsPassword) && !o.keeperPlaces {
						undone = o // which is as it was
					}
					if wrong := o.judge(run); len(wrong) > 0 {
						t.Errorf("%s: %s, %d times:\n%s\n%s", step, f.kind, f.times, strings.Join(wrong, "\n"), stepsOf(run))
					}
				}
			}
		})
	}
}

var errByTest = errors.New("the test has it fail")

// failing has a step fail once it is done, so that all is undone.
func failing(step restore.Step, a *at) func(store.Run, runs.Step) runs.Step {
	return func(run store.Run, s runs.Step) runs.Step {
		s = a.hook(run, s)
		if do := s.Do; s.Name == string(step) {
			s.Do = func(ctx context.Context, p *runs.Progress) (string, error) {
				if _, err := do(ctx, p); err != nil {
					return "", err
				}
				return "", errByTest
			}
		}
		return s
	}
}

// beforeEntry are the steps of a case whose failure leads to an undo.
func beforeEntry(steps []restore.Step) []restore.Step {
	return steps[:slices.IndexFunc(steps, func(s restore.Step) bool { return s == restore.Enter || s == restore.Open })]
}

// TestWhateverTheCloudDoesWrongInAnUndoAllIsAsItWas fails the last step before the entry,
// and has the cloud go wrong in the undo of each step.
func TestWhateverTheCloudDoesWrongInAnUndoAllIsAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			hook := func(_ store.Run, s runs.Step) runs.Step { return s }
			r := newRestoreRig(t, func(s *Service) {
				s.stepHook = func(run store.Run, step runs.Step) runs.Step { return hook(run, step) }
			})
			first := r.lockOut(c, "door")
			steps := beforeEntry(stepsIn(first.ends(first.begin().ID)))
			var o *lockedOut
			for n, step := range steps {
				if !first.undoes(step) {
					continue
				}
				for m, kind := range []cloud.FaultKind{"lose-reply", "refuse", "break"} {
					if o == nil || o.keeperPlaces {
						o = r.lockOut(c, fmt.Sprintf("hut-%d-%d", n, m))
					}
					hook = failing(steps[len(steps)-1], &at{step: string(step), undo: true, do: func(ctx context.Context) {
						if err := r.port.ScheduleFault(ctx, cloud.Fault{Call: "*", Kind: kind}); err != nil {
							t.Error(err)
						}
					}})
					run := o.ends(o.begin().ID)
					if err := r.port.ClearFaults(t.Context()); err != nil {
						t.Fatal(err)
					}
					if wrong := o.judge(run); run.State != runs.Undone || len(wrong) > 0 || !strings.Contains(run.Error, errByTest.Error()) {
						t.Errorf("in the undo of %s: %s:\n%s\n%s", step, kind, strings.Join(wrong, "\n"), stepsOf(run))
					}
				}
			}
		})
	}
}

// wire is the key of a line as it is written in a file.
func wire(k store.Key) string { return base64.StdEncoding.EncodeToString(k.Blob) }

func TestAHelperThatVanishesAtAnyStepIsReplacedOrAllIsAsItWas(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := newRestoreRig(t, func(s *Service) {
		s.stepHook = func(run store.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	c := restoreCases[slices.IndexFunc(restoreCases, func(c restoreCase) bool { return c.route == restore.HelperDisk })]
	for n, step := range restore.Steps(restore.Plan{Route: restore.HelperDisk, Lost: true}) {
		o := r.lockOut(c, fmt.Sprintf("door-%d", n))
		var id uuid.UUID
		now = &at{step: string(step), do: func(ctx context.Context) {
			helper, there, err := r.port.Launched(ctx, id.String()+" helper 1")
			if err != nil || !there || helper.State != "running" {
				return
			}
			op, err := r.port.Terminate(ctx, helper.Id)
			if _, err := r.port.Await(ctx, op, err); err != nil {
				t.Error(err)
			}
		}}
		hold := make(chan struct{})
		do := now.do
		now.do = func(ctx context.Context) { <-hold; do(ctx) }
		begun := o.begin()
		id = begun.ID
		close(hold)
		run := o.ends(begun.ID)
		if wrong := o.judge(run); len(wrong) > 0 {
			t.Errorf("%s: %s\n%s", step, strings.Join(wrong, "\n"), stepsOf(run))
		}
	}
}

func TestAnUndoThatIsAskedForCutsTheStepOffAndAllIsAsItWas(t *testing.T) {
	for _, c := range restoreCases {
		t.Run(c.name(), func(t *testing.T) {
			t.Parallel()
			now := &at{}
			r := newRestoreRig(t, func(s *Service) {
				s.stepHook = func(run store.Run, step runs.Step) runs.Step { return now.hook(run, step) }
			})
			first := r.lockOut(c, "door")
			var o *lockedOut
			for n, step := range beforeEntry(stepsIn(first.ends(first.begin().ID))) {
				if o == nil || o.keeperPlaces {
					o = r.lockOut(c, fmt.Sprintf("hut-%d", n))
				}
				at := &at{step: string(step), do: func(ctx context.Context) { <-ctx.Done() }}
				now = at
				begun := o.begin()
				r.until("the step "+string(step), func() bool {
					run, err := o.Restore(t.Context(), begun.ID)
					if err == nil && (run.Waits == nil || run.Waits.Step != step) {
						err = o.help(run)
					}
					return err == nil && slices.ContainsFunc(run.Steps, func(s store.RunStep) bool { return s.Name == string(step) && s.State == runs.StepRunning })
				})
				if _, err := o.UndoRestore(t.Context(), o.ines, begun.ID, "wrong machine"); err != nil {
					t.Fatal(err)
				}
				run := o.ends(begun.ID)
				if wrong := o.judge(run); run.State != runs.Undone || len(wrong) > 0 || !strings.Contains(run.Error, "ines asked for its undo: wrong machine") {
					t.Errorf("%s:\n%s\n%s", step, strings.Join(wrong, "\n"), stepsOf(run))
				}
				var p *Problem
				if _, err := o.UndoRestore(t.Context(), o.ines, begun.ID, ""); !errors.As(err, &p) || p.Code != "restore-over" {
					t.Errorf("undone twice: %v", err)
				}
			}
		})
	}
}

func TestNoLineOfALostKeyGoesWithoutALogin(t *testing.T) {
	t.Parallel()
	r := newRestoreRig(t, nil)
	o := r.lockOut(restoreCases[2], "door")
	fresh := r.madeKey("fresh", keypair.Spec{})
	run, err := r.StartRestore(t.Context(), r.ines, IdempotencyKey{}, RestoreWanted{Login: o.login, Route: restore.GuestAgent, Key: "fresh", Lost: []string{"door-lost"}})
	if err != nil {
		t.Fatal(err)
	}
	waits := func(step restore.Step) func() bool {
		return func() bool {
			now, err := r.Restore(t.Context(), run.ID)
			return err == nil && now.Waits != nil && now.Waits.Step == step
		}
	}
	r.until("the wait for a login", waits(restore.Enter))
	if !bytes.HasPrefix([]byte(o.onDisk(o.disk)), []byte(o.file)) {
		t.Errorf("lines are gone:\n%s", o.onDisk(o.disk))
	}
	if state, err := r.port.Agent(t.Context(), o.before.Id); err != nil || state != cloud.AgentNotPermitted {
		t.Errorf("the agent is %s while somebody is waited for: %v", state, err)
	}
	// A login with another key does not do.
	o.entered("door-other", o.other)
	if !waits(restore.Enter)() {
		t.Error("it went on")
	}
	s, err := r.session("door", o.user, fresh)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := r.ReportEntry(t.Context(), r.ines, o.login, "fresh", ssh.FingerprintSHA256(s.HostKey)); err != nil {
		t.Fatal(err)
	}
	r.until("the wait for the removal", waits(restore.Remove))
	var p *Problem
	if _, err := r.UndoRestore(t.Context(), r.ines, run.ID, ""); !errors.As(err, &p) || p.Code != "restore-proved" {
		t.Errorf("an undo after the proof: %v", err)
	}
	lost, err := r.Key(t.Context(), "door-lost")
	if err != nil {
		t.Fatal(err)
	}
	if err := s.EditAll(func(_ string, _ bool, f authorizedkeys.File) (authorizedkeys.File, error) {
		return f.Remove(lost.Blob), nil
	}); err != nil {
		t.Fatal(err)
	}
	files, folders, err := FilesIn(s)
	if err == nil {
		_, err = r.ReportFiles(t.Context(), r.ines, o.login, files, folders, ssh.FingerprintSHA256(s.HostKey))
	}
	if err != nil {
		t.Fatal(err)
	}
	if now := o.ends(run.ID); now.State != runs.Done || len(now.Left) > 0 || strings.Contains(o.onDisk(o.disk), wire(lost)) {
		t.Errorf("%s", stepsOf(now))
	}
}

func TestWhatIsOpenIsClosedAtItsDeadlineAlsoWhereTheServiceWasAway(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := newRestoreRig(t, func(s *Service) {
		s.stepHook = func(run store.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	for n, c := range []restoreCase{restoreCases[2], restoreCases[4]} {
		o := r.lockOut(c, fmt.Sprintf("door-%d", n))
		reached := make(chan struct{})
		now = &at{step: string(restore.Place), do: func(ctx context.Context) { close(reached); <-ctx.Done() }}
		begun := o.begin()
		<-reached
		open, err := r.OpenNow(t.Context())
		if err != nil || len(open) != 1 || open[0].InstanceName != o.name {
			t.Fatalf("%v %+v", err, open)
		}
		r.stop()
		r.jump(time.Hour) // while the service is away
		if err := r.store.ChangeRun(t.Context(), begun.ID, map[string]any{"state": runs.Failed, "ended_at": time.Now()}); err != nil {
			t.Fatal(err) // and the run is dead
		}
		r.start()
		r.until("the closing", func() bool {
			open, err := r.OpenNow(t.Context())
			return err == nil && len(open) == 0
		})
		closings, err := r.store.ClosingsOf(t.Context(), begun.ID)
		if err != nil || len(closings) != 1 || !strings.Contains(closings[0].Note, "after its deadline") {
			t.Errorf("it does not say how late: %v %+v", err, closings)
		}
		if len(o.firewall()) != o.rules {
			t.Error("the rule is still there")
		}
		if state, err := r.port.Agent(t.Context(), o.before.Id); err != nil || state != cloud.AgentNotPermitted {
			t.Errorf("the agent is %s: %v", state, err)
		}
		r.jump(-time.Hour)
	}
}

func TestAnOpeningThatComesAboutLaterIsClosedAsWell(t *testing.T) {
	t.Parallel()
	r := newRestoreRig(t, nil)
	o := r.lockOut(restoreCases[4], "door")
	run := o.ends(o.begin().ID)
	c := run.Closings[0]
	// As if its answer had never come, and the cloud did it after all.
	if err := r.store.ChangeClosing(t.Context(), c.ID, map[string]any{"opened_at": nil}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.port.OpenPort(t.Context(), "another", "default", "127.255.16.0/28", 2222); err != nil {
		t.Fatal(err)
	}
	late, err := r.port.OpenPort(t.Context(), c.ID.String()+" ", "default", "127.255.16.0/28", 2222)
	if err != nil || late.RequestToken == nil {
		t.Fatal(err)
	}
	before := len(o.firewall())
	if err := r.closeDue(t.Context()); err != nil {
		t.Fatal(err)
	}
	if after := len(o.firewall()); after != before {
		t.Errorf("rules that are not the run's went: %d of %d", after, before)
	}
}

func TestOneRunAtATimeWorksOnAnInstance(t *testing.T) {
	t.Parallel()
	now := &at{}
	r := newRestoreRig(t, func(s *Service) {
		s.stepHook = func(run store.Run, step runs.Step) runs.Step { return now.hook(run, step) }
	})
	o := r.lockOut(restoreCases[2], "door")
	hold := make(chan struct{})
	now = &at{step: string(restore.Place), do: func(context.Context) { <-hold }}
	first := o.begin()
	var p *Problem
	if _, err := r.StartRestore(t.Context(), r.ines, IdempotencyKey{}, RestoreWanted{Login: o.login, Route: restore.MetadataKeys, Key: "x", Make: true}); !errors.As(err, &p) || p.Code != "route-not-possible" {
		t.Errorf("%v", err)
	}
	if _, err := r.StartRestore(t.Context(), r.ines, IdempotencyKey{}, RestoreWanted{Login: o.login, Route: restore.BrowserShell, Key: "x", Make: true}); !errors.As(err, &p) || p.Code != "run-at-work" {
		t.Errorf("%v", err)
	}
	if _, err := r.Key(t.Context(), "x"); err == nil {
		t.Error("the key of a restore that was refused is there")
	}
	close(hold)
	if run := o.ends(first.ID); run.State != runs.Done {
		t.Errorf("%s", stepsOf(run))
	}
}

func TestARouteIsRefusedWithWhatIsMissingAndWhatToDo(t *testing.T) {
	t.Parallel()
	r := newRestoreRig(t, nil)
	o := r.lockOut(restoreCase{image: "alpine-3.22"}, "gate")
	r.madeKey("fresh", keypair.Spec{})
	for name, c := range map[string]struct {
		change func(*RestoreWanted)
		code   string
	}{
		"no agent":       {func(w *RestoreWanted) { w.Route = restore.GuestAgent }, "route-not-possible"},
		"no such route":  {func(w *RestoreWanted) { w.Route = "tunnel" }, "no-such-route"},
		"no such login":  {func(w *RestoreWanted) { w.Login = "warden@gate" }, "no-such-login"},
		"no such key":    {func(w *RestoreWanted) { w.Key = "none" }, "no-such-key"},
		"not confirmed":  {func(w *RestoreWanted) { w.Confirm = "gale" }, "not-confirmed"},
		"no stop":        {func(w *RestoreWanted) { w.Limits.NoStop = true }, "outside-limits"},
		"new and lost":   {func(w *RestoreWanted) { w.Lost = []string{"fresh"} }, "bad-lost"},
		"lost unknown":   {func(w *RestoreWanted) { w.Lost = []string{"none"} }, "no-such-key"},
		"name taken":     {func(w *RestoreWanted) { w.Make = true }, "name-taken"},
		"bad name":       {func(w *RestoreWanted) { w.Make, w.Key = true, "a b" }, "bad-name"},
		"ports for disk": {func(w *RestoreWanted) { w.Ports = []int{80} }, "not-for-this-route"},
		"bad port":       {func(w *RestoreWanted) { w.Route, w.Ports = restore.Replacement, []int{99999} }, "bad-port"},
		"instance name":  {func(w *RestoreWanted) { w.Route, w.NewName = restore.Replacement, "gate" }, "name-taken"},
		"bad reason":     {func(w *RestoreWanted) { w.Reason = "a\nb" }, "bad-text"},
	} {
		w := RestoreWanted{Login: o.login, Route: restore.HelperDisk, Key: "fresh", Lost: []string{"gate-lost"}, Confirm: "gate"}
		c.change(&w)
		_, err := r.StartRestore(t.Context(), r.ines, IdempotencyKey{}, w)
		var p *Problem
		if !errors.As(err, &p) || p.Code != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	if live, err := r.store.LiveRuns(t.Context()); err != nil || len(live) != 0 {
		t.Errorf("something was begun: %v %v", err, live)
	}
}
