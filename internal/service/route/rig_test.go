package route_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/reentry"
	"plumlatch/internal/service/route"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/sshio"
)

// restoreCase is a route and the instance on which it is taken.
type restoreCase struct {
	route        restore.Route
	image, size  string
	static       bool
	steward      bool
	holder       bool // somebody else's key is in place and proved
	passwords    bool // password login is on
	holderPlaces bool // the line is placed from somebody's machine
	ports        []int
}

func (c restoreCase) name() string {
	if c.holderPlaces && c.route == restore.StandingKey {
		return "standing-key-of-a-holder"
	}
	return string(c.route)
}

var restoreCases = []restoreCase{
	{route: restore.StandingKey, image: "debian-12", steward: true},
	{route: restore.StandingKey, image: "debian-12", holder: true, holderPlaces: true},
	{route: restore.GuestAgent, image: "debian-12"},
	{route: restore.MetadataKeys, image: "ubuntu-24.04"},
	{route: restore.BrowserShell, image: "debian-12"},
	{route: restore.Password, image: "debian-12", passwords: true, holderPlaces: true},
	{route: restore.HelperDisk, image: "fedora-42", size: "large-scratch", static: true},
	{route: restore.Replacement, image: "debian-12", static: true, ports: []int{2222}},
	{route: restore.WindowsPassword, image: "windows-2022"},
}

// restoreTimeout is for how long a call of the cloud is waited for where calls hang.
const restoreTimeout = 400 * time.Millisecond

// lockedOut is an instance of a case to which a key is lost.
type lockedOut struct {
	*servicetest.Rig
	restoreCase
	name, login, user string
	before            cloud.Instance
	disk              cloud.Disk
	file              string // authorized_keys as it is on the disk
	rules             int
	begun             int        // how many restores were
	other             ssh.Signer // the key of somebody who has nothing to do with it
}

func (o *lockedOut) root() cloud.Disk {
	o.T.Helper()
	disks, err := o.Port.Disks(o.T.Context(), o.before.Id)
	if err != nil || len(disks) != 1 {
		o.T.Fatalf("%s: %v %+v", o.name, err, disks)
	}
	return disks[0]
}

func (o *lockedOut) firewall() []cloud.FirewallRule {
	o.T.Helper()
	rules, err := o.Port.FirewallRules(o.T.Context())
	if err != nil {
		o.T.Fatal(err)
	}
	return rules
}

func (o *lockedOut) onDisk(cloud.Disk) string {
	o.T.Helper()
	home := "home/" + o.user
	if o.user == "root" {
		home = "root"
	}
	data, err := os.ReadFile(filepath.Join(o.Dir, "disks", o.before.Id, home, ".ssh/authorized_keys"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		o.T.Fatal(err)
	}
	return string(data)
}

func (o *lockedOut) entered(key string, by ssh.Signer) {
	o.T.Helper()
	s, err := o.Session(o.name, o.user, by)
	if err != nil {
		o.T.Fatal(err)
	}
	defer s.Close()
	if err := o.ReportEntryBy(o.Ines, o.login, key, ssh.FingerprintSHA256(s.HostKey), by); err != nil {
		o.T.Fatal(err)
	}
}

const doorPassword = "brent-goose"

func (o *lockedOut) turnPasswordsOn() {
	o.T.Helper()
	s, err := o.Session(o.name, o.user, o.other)
	if err != nil {
		o.T.Fatal(err)
	}
	defer s.Close()
	_, err = s.Run([]byte(o.user+":"+doorPassword+"\n"), "sudo", "chpasswd")
	config, read := s.Run(nil, "sudo", "cat", sshio.ServerConfig)
	_, wrote := s.Run(
		[]byte(strings.ReplaceAll(string(config), "PasswordAuthentication no", "PasswordAuthentication yes")), "sudo",
		"tee", sshio.ServerConfig,
	)
	if err := errors.Join(err, read, wrote); err != nil {
		o.T.Fatal(err)
	}
}

// begin begins the restore with a key that the service makes and keeps.
func (o *lockedOut) begin() reentry.Restore {
	o.T.Helper()
	o.begun++
	w := reentry.RestoreWanted{
		Login:       o.login,
		Route:       o.route,
		Key:         fmt.Sprintf("%s-new-%d", o.name, o.begun),
		Make:        true,
		Lost:        []string{o.name + "-lost"},
		Confirm:     o.name,
		Reason:      "the laptop is gone",
		NewInstance: route.NewInstance{Ports: o.ports},
	}
	if o.route == restore.WindowsPassword { // to which no line is lost; and RSA keys take long to make
		w.Key, w.Make, w.Lost = o.name+"-other", false, []string{}
	}
	for until := time.Now().Add(20 * time.Second); ; {
		r, err := o.Reentry.StartRestore(o.T.Context(), o.Ines, journal.IdempotencyKey{}, w)
		if err == nil {
			return r
		}
		var p *problem.Problem
		if !errors.As(err, &p) || p.Code != "cloud-unreachable" ||
			time.Now().After(until) { // too slow a machine for a short timeout
			o.T.Fatal(err)
		}
	}
}

// help does what a restore waits for somebody to do.
func (o *lockedOut) help(r reentry.Restore) error {
	if r.Waits == nil {
		return nil
	}
	ctx := o.T.Context()
	switch {
	case r.Waits.Step == string(restore.Place):
		i, err := o.Fleet.Instance(ctx, o.name)
		if err != nil {
			return err
		}
		var s *sshio.Session
		if o.route == restore.Password {
			s, err = sshio.LoginWithPassword(ctx, o.Fleet.Target(i, o.user), doorPassword)
		} else {
			s, err = o.Session(o.name, o.user, o.other)
		}
		if err != nil {
			return err
		}
		defer s.Close()
		k, err := o.Keys.Key(ctx, r.Key)
		if err != nil {
			return err
		}
		err = s.EditAll(func(_ string, first bool, f authorizedkeys.File) (authorizedkeys.File, error) {
			if !first || len(f.Find(k.Blob)) > 0 {
				return f, nil
			}
			return f.Add(keys.LineOf(k)), nil
		})
		seen, read := reading.ReadFiles(ctx, s)
		if err := errors.Join(err, read); err != nil {
			return err
		}
		_, err = o.Access.ReportFiles(ctx, o.Ines, o.login, seen, nil, ssh.FingerprintSHA256(s.HostKey))
		return err
	case r.Waits.Step == string(restore.Open):
		return o.Reentry.OpenedPassword(ctx, o.Ines, o.name)
	}
	return fmt.Errorf("it waits for %s", r.Waits.What)
}

// ends waits until the restore has ended.
func (o *lockedOut) ends(id uuid.UUID) reentry.Restore {
	o.T.Helper()
	var r reentry.Restore
	for until := time.Now().Add(90 * time.Second); ; time.Sleep(80 * time.Millisecond) {
		var err error
		r, err = o.Reentry.Restore(o.T.Context(), id)
		if err == nil && r.EndedAt != nil {
			return r
		}
		if err == nil {
			err = o.help(r)
		}
		if time.Now().After(until) {
			o.T.Fatalf("%s is %s: %v\n%s", o.name, r.State, err, stepsOf(r))
		}
	}
}

func stepsOf(r reentry.Restore) string {
	var b strings.Builder
	for _, s := range r.Steps {
		fmt.Fprintf(&b, "  %-8s %-14s %s\n", s.State, s.Name, s.Outcome)
	}
	return b.String() + r.Error
}

// judge says what is wrong after a restore: it is done and proved, or all is as it was;
// nothing is left open or lying about, and nobody else's line is touched.
func (o *lockedOut) judge(r reentry.Restore) (wrong []string) {
	ctx := o.T.Context()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	replaced := o.route == restore.Replacement && r.State == runs.Done
	switch r.State {
	case runs.Done:
		wrong = o.judgeDone(r)
	case runs.Undone:
		if text := o.onDisk(o.disk); text != o.file && !(o.holderPlaces && r.Differs != "") {
			bad("the file is not as it was:\n%s", text)
		}
	default:
		bad("it ended as %s: %s", r.State, r.Error)
	}
	i, err := o.Port.Instance(ctx, o.before.Id)
	if err != nil {
		return append(wrong, err.Error())
	}
	if !replaced {
		if i.State != "running" || o.before.StaticAddress && i.PublicAddress != o.before.PublicAddress ||
			i.PrivateAddress != o.before.PrivateAddress {
			bad(
				"it is %s at %s (%s), and was running at %s (%s)", i.State, i.PublicAddress, i.PrivateAddress,
				o.before.PublicAddress, o.before.PrivateAddress,
			)
		}
		if s, err := o.Session(o.name, o.user, o.other); err != nil {
			bad("somebody else's key no longer opens it: %v", err)
		} else {
			s.Close()
		}
	}
	if now := o.root(); !slices.Equal(now.Attachments, o.disk.Attachments) {
		bad("its disk is attached as %+v, and was as %+v", now.Attachments, o.disk.Attachments)
	}
	if disks, err := o.Port.AllDisks(ctx); err != nil ||
		slices.ContainsFunc(disks, func(d cloud.Disk) bool { return len(d.Attachments) == 0 }) {
		bad("a disk hangs loose: %v %+v", err, disks)
	}
	if n := len(o.firewall()); n != o.rules {
		bad("there are %d firewall rules, and were %d", n, o.rules)
	}
	if state, err := o.Port.Agent(ctx, o.before.Id); err != nil || state == cloud.AgentReady {
		bad("the guest agent is %s: %v", state, err)
	}
	for n := range route.MaxHelpers {
		if helper, there, err := o.Port.Launched(ctx, fmt.Sprintf("%s helper %d", r.ID, n+1)); err != nil ||
			there && helper.State != "deleted" {
			bad("the helper %d is there: %v %+v", n+1, err, helper)
		}
	}
	if list, err := o.Port.Snapshots(ctx); err != nil || len(list) != 0 {
		bad("a copy of the disk is left: %v %+v", err, list)
	}
	for _, c := range r.Closings {
		if c.ClosedAt == nil {
			bad("%s is not written down as closed", c.What)
		}
	}
	return wrong
}

func (o *lockedOut) judgeDone(r reentry.Restore) (wrong []string) {
	ctx := o.T.Context()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	if len(r.Left) > 0 {
		bad("left: %v", r.Left)
	}
	if o.route == restore.WindowsPassword {
		return wrong
	}
	lost, err := o.Keys.Key(ctx, o.name+"-lost")
	if err != nil || lost.State != custody.Lost {
		bad("the lost key is %s: %v", lost.State, err)
	}
	k, err := o.Keys.Key(ctx, r.Key)
	if err != nil {
		return append(wrong, err.Error())
	}
	signer, err := o.Keys.KeptSigner(ctx, k)
	if err != nil {
		return append(wrong, err.Error())
	}
	s, err := o.Session(r.Target, o.user, signer)
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
	target, err := o.Fleet.Instance(ctx, r.Target)
	if err != nil || target.State != "running" || o.static && target.PublicAddress != o.before.PublicAddress {
		bad("%s is %s at %s: %v", r.Target, target.State, target.PublicAddress, err)
	}
	openers, err := o.Fleet.Openers(ctx, r.Target, record.Page{Limit: 10})
	granted := func(key string) bool {
		return slices.ContainsFunc(
			openers.Items,
			func(p record.Opening) bool { return p.KeyName == key && p.GrantedAt != nil },
		)
	}
	if err != nil || !granted(r.Key) || granted(lost.Name) || !granted(o.name+"-other") {
		bad("the grants are %+v: %v", openers.Items, err)
	}
	return wrong
}

// stepsIn are the steps of a case, as the routes themselves order them.
func stepsIn(t *testing.T, r reentry.Restore) []restore.Step {
	t.Helper()
	steps, err := route.StepsIn(r.Run)
	if err != nil {
		t.Fatal(err)
	}
	return steps
}

// lockOut launches the instance of a case, opened by a key that is lost and another.
func lockOut(r *servicetest.Rig, c restoreCase, name string) *lockedOut {
	r.T.Helper()
	ctx := r.T.Context()
	o := &lockedOut{Rig: r, restoreCase: c, name: name}
	spec := keypair.Spec{}
	if c.route == restore.WindowsPassword {
		spec = keypair.Spec{Type: keypair.RSA, Bits: 2048}
	}
	r.MadeKey(name+"-lost", spec)
	o.other = r.MadeKey(name+"-other", spec)
	size := c.size
	if size == "" {
		size = "small"
	}
	_, run, err := r.Fleet.Launch(ctx, r.Ines, journal.IdempotencyKey{}, fleet.Launch{
		Name:          name,
		Image:         c.image,
		Size:          size,
		Keys:          []string{name + "-lost", name + "-other"},
		Steward:       c.steward,
		StaticAddress: c.static,
	})
	if err != nil {
		r.T.Fatal(err)
	}
	r.Until("the launch", func() bool {
		now, err := r.Runs.Run(ctx, run.ID)
		return err == nil && now.State == runs.Done
	})
	i, err := r.Fleet.Instance(ctx, name)
	if err != nil {
		r.T.Fatal(err)
	}
	o.user, o.login = i.LoginUser, fleet.LoginName(i.LoginUser, name)
	if c.passwords {
		o.turnPasswordsOn()
	}
	if c.holder {
		o.entered(name+"-other", o.other)
	}
	if o.before, err = r.Port.Instance(ctx, i.CloudID); err != nil {
		r.T.Fatal(err)
	}
	o.disk, o.rules = o.root(), len(o.firewall())
	o.file = o.onDisk(o.disk)
	return o
}
