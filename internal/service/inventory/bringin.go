package inventory

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// MostBroughtIn is how many instances are brought in at once.
const MostBroughtIn = 100

// Wanted says which instances of a cloud are brought in.
type Wanted struct {
	Cloud     string
	Instances []WantedInstance
	// LoginUser is the OS user to log in as; "" for that of each image.
	LoginUser string
	// Via is the instance by way of which they are reached; "" for what the jump rules say.
	Via string
	// FirstContact is whether the host keys of a machine are taken as it shows them where its cloud does not tell them
	// and none is expected.
	FirstContact bool
	Labels       map[string]string
	Reason       string
	// Preview is whether nothing is kept, and only told what would be.
	Preview bool
}

// WantedInstance is one of them, by the id or the name that it has in its cloud.
type WantedInstance struct {
	Is string
	// As is the name of its record; "" for that which it has in its cloud, made fit.
	As string
	// HostKey is the SHA-256 fingerprint that one of its host keys must have; "" for none.
	HostKey string
	// SameAs is the adopted machine at its address that it is, though its host keys are others; "" for none. The new
	// host keys are pinned in the place of those, which takes a reason.
	SameAs string
}

// Outcome is what became of one.
type Outcome string

// The outcomes.
const (
	BroughtIn Outcome = "brought-in"
	// Joined is of one that was adopted before, as a machine of no cloud.
	Joined Outcome = "joined"
	// WasThere is of one that was recorded before.
	WasThere Outcome = "was-there"
	LeftOut  Outcome = "left-out"
)

// Brought is what became of one.
type Brought struct {
	// Is is as it was named, Called its name in the cloud, and Name that of its record.
	Is, Called, CloudID, Name string
	Outcome                   Outcome
	Login, Address            string
	// HostKeys are the SHA-256 fingerprints of those that are pinned, Learnt is how they were learnt.
	HostKeys []string
	Learnt   string
	// Problem is why it was left out.
	Problem *problem.Problem
}

// candidate is an instance on its way in.
type candidate struct {
	Brought
	wanted WantedInstance
	now    cloud.Instance
	user   string
	gib    int // of its temporary disk
	via    *record.Instance
	keys   []keypair.Public
}

// BringIn records instances that run in a cloud and are not recorded: with their cloud, so that all ways back in are
// open to them, and with host keys that the cloud tells, that were expected, or that were accepted. A machine that was
// adopted and has the same host key becomes the cloud's instance, with its grants and its history.
func (s *Service) BringIn(ctx context.Context, actor people.Actor, w Wanted) ([]Brought, error) {
	c, labels, err := s.judge(ctx, actor, &w)
	if err != nil {
		return nil, err
	}
	list, err := s.candidates(ctx, c, w)
	if err != nil {
		return nil, err
	}
	if err := s.askEach(ctx, c, w, list); err != nil {
		return nil, err
	}
	if err := s.nameEach(ctx, list); err != nil {
		return nil, err
	}
	out := make([]Brought, len(list))
	var read []string
	for n := range list {
		one := &list[n]
		if one.Outcome == "" {
			err := s.bringIn(ctx, actor, c, w, labels, one)
			var p *problem.Problem
			if errors.As(err, &p) {
				one.leave(p)
			} else if err != nil {
				return nil, err
			}
		}
		if out[n] = one.Brought; one.Outcome == BroughtIn || one.Outcome == Joined {
			read = append(read, one.Name)
		}
	}
	if len(read) > 0 && !w.Preview { // where this fails, the schedule comes to them
		_, _ = s.reading.StartSweep(ctx, actor, reading.SweepWanted{Instances: read})
	}
	return out, nil
}

// judge checks what can be before the cloud is asked.
func (s *Service) judge(ctx context.Context, actor people.Actor, w *Wanted) (record.Cloud, map[string]string, error) {
	none := func(err error) (record.Cloud, map[string]string, error) { return record.Cloud{}, nil, err }
	if len(w.Instances) == 0 || len(w.Instances) > MostBroughtIn {
		return none(&problem.Problem{
			Kind: problem.Invalid, Code: "bad-instances", Field: "instances",
			Detail: fmt.Sprintf("%d instances were named; 1 to %d are taken at once", len(w.Instances), MostBroughtIn),
		})
	}
	labels, err := actor.Labelled(w.Labels)
	if err != nil {
		return none(err)
	}
	if err := errors.Join(problem.CheckLabels(labels), problem.CheckText("reason", w.Reason)); err != nil {
		return none(err)
	}
	if labels == nil {
		labels = map[string]string{}
	}
	if w.LoginUser != "" && name.CheckUser(w.LoginUser) != nil {
		return none(&problem.Problem{
			Kind: problem.Invalid, Code: "bad-login_user", Field: "login_user", Detail: name.ErrUser.Error(),
			Remedy: "Give the OS user to log in as",
		})
	}
	for n, i := range w.Instances {
		field := fmt.Sprintf("instances[%d]", n)
		if i.SameAs != "" && w.Reason == "" {
			return none(&problem.Problem{
				Kind: problem.Invalid, Code: "no-reason", Field: "reason",
				Detail: "pinned host keys are replaced with a reason, for the daybook",
				Remedy: "Find out why they changed, and say so: -reason TEXT",
			})
		}
		if d, ok := keypair.ReadFingerprint(i.HostKey); i.HostKey != "" && (!ok || d.Kind != "sha256") {
			return none(&problem.Problem{
				Kind: problem.Invalid, Code: "bad-digest", Field: field + ".host_key",
				Detail: fmt.Sprintf("%q is no SHA-256 fingerprint", text.Line(i.HostKey, text.MaxLine)),
			})
		}
		if i.As != "" {
			if err := problem.CheckName(field+".as", i.As); err != nil {
				return none(err)
			}
		}
	}
	c, err := s.clouds.Cloud(ctx, w.Cloud)
	return c, labels, err
}

// candidates finds what was named among what was last read of the cloud, as far as the caller may see it.
func (s *Service) candidates(ctx context.Context, c record.Cloud, w Wanted) ([]candidate, error) {
	named := make([]string, len(w.Instances))
	for n, i := range w.Instances {
		named[n] = i.Is
	}
	found, err := s.store.CloudInstancesOf(ctx, c.ID, named)
	if err != nil {
		return nil, err
	}
	out := make([]candidate, len(w.Instances))
	for n, i := range w.Instances {
		one := &out[n]
		one.wanted, one.Is = i, i.Is
		var fits []record.CloudInstance
		for _, f := range found {
			if f.CloudID == i.Is {
				fits = []record.CloudInstance{f}
				break
			}
			if f.Name == i.Is {
				fits = append(fits, f)
			}
		}
		switch {
		case len(fits) == 0:
			one.leave(&problem.Problem{
				Kind: problem.NotFound, Code: "no-such-instance", Where: []string{i.Is},
				Detail: fmt.Sprintf("%s has no instance %q, as it was last read", c.Name, text.Line(i.Is, text.MaxLine)),
				Remedy: "Read it: plumlatch cloud read " + c.Name,
			})
		case len(fits) > 1:
			ids := make([]string, len(fits))
			for n, f := range fits {
				ids[n] = f.CloudID
			}
			one.leave(&problem.Problem{
				Kind: problem.Conflict, Code: "several-instances", Where: ids[:min(len(ids), 10)],
				Detail: fmt.Sprintf("%s has %d instances named %s", c.Name, len(fits), i.Is),
				Remedy: "Name it by its id: " + strings.Join(ids[:min(len(ids), 10)], ", "),
			})
		case fits[0].RecordedAs != "":
			one.CloudID, one.Called = fits[0].CloudID, fits[0].Name
			one.Name, one.Outcome = fits[0].RecordedAs, WasThere
		default:
			one.CloudID, one.Called = fits[0].CloudID, fits[0].Name
		}
		if at := slices.IndexFunc(out[:n], func(o candidate) bool { return o.CloudID == one.CloudID }); at >= 0 &&
			one.Outcome == "" {
			one.leave(&problem.Problem{
				Kind: problem.Invalid, Code: "twice", Where: []string{i.Is},
				Detail: i.Is + " was named before, as " + out[at].Is,
			})
		}
	}
	return out, nil
}

func (c *candidate) leave(p *problem.Problem) { c.Outcome, c.Problem = LeftOut, p }

// askEach asks the cloud, and where it must the machines themselves, what is pinned of each.
func (s *Service) askEach(ctx context.Context, c record.Cloud, w Wanted, list []candidate) error {
	if !slices.ContainsFunc(list, func(o candidate) bool { return o.Outcome == "" }) {
		return nil
	}
	can, images, err := s.clouds.Outline(ctx, &c.ID)
	if err != nil {
		return problem.FromCloud(err)
	}
	sizes, err := s.clouds.Of(&c.ID).Sizes(ctx)
	if err != nil {
		return problem.FromCloud(err)
	}
	boot := slices.Contains(can.Capabilities, cloud.CanBootOutput)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for n := range list {
		one := &list[n]
		if one.Outcome != "" {
			continue
		}
		group.Go(func() error {
			err := problem.Guard(
				s.log,
				"bringing in "+one.CloudID,
				func() error { return s.askOne(ctx, c, w, boot, images, one) },
			)
			var p *problem.Problem
			if errors.As(err, &p) {
				one.leave(p)
				return nil
			}
			if i := slices.IndexFunc(sizes, func(z cloud.Size) bool { return z.Name == one.now.Size }); i >= 0 {
				one.gib = sizes[i].TemporaryDiskGib
			}
			return err
		})
	}
	return group.Wait()
}

func (s *Service) askOne(
	ctx context.Context, c record.Cloud, w Wanted, boot bool, images []cloud.Image, one *candidate,
) (err error) {
	from := s.clouds.Of(&c.ID)
	if one.now, err = from.Instance(ctx, one.CloudID); cloud.NotThere(err) ||
		err == nil && one.now.State == cloud.Deleted {
		return &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-instance", Where: []string{one.Is}, Detail: one.Is + " is gone",
			Remedy: "Read the cloud again: plumlatch cloud read " + c.Name,
		}
	}
	if err != nil {
		return problem.FromCloud(err)
	}
	if _, err := toldOf(one.now); err != nil || one.now.Id != one.CloudID {
		return &problem.Problem{
			Kind: problem.Unavailable, Code: "bad-answer", Where: []string{one.Is},
			Detail: fmt.Sprintf("the cloud was asked for %s and answered with what cannot be that", one.CloudID),
			Remedy: "Ask the person who runs the adapter",
		}
	}
	if one.via, err = s.viaOf(ctx, w, one.now); err != nil {
		return err
	}
	if one.Address = one.now.PublicAddress; one.via != nil && one.now.PrivateAddress != "" {
		one.Address = one.now.PrivateAddress
	}
	if one.user = w.LoginUser; one.user == "" {
		if i := slices.IndexFunc(images, func(i cloud.Image) bool { return i.Name == one.now.Image }); i >= 0 {
			one.user = images[i].LoginUser
		}
	}
	if name.CheckUser(one.user) != nil {
		return &problem.Problem{
			Kind: problem.Invalid, Code: "no-login-user", Field: "login_user", Where: []string{one.Is},
			Detail: "the cloud does not tell the login user of the image " + text.Line(one.now.Image, text.MaxLine),
			Remedy: "Say it: -login USER",
		}
	}
	return s.hostKeysOf(ctx, from, boot, w.FirstContact, one)
}

// viaOf returns the jump host by way of which an instance is reached; nil for none.
func (s *Service) viaOf(ctx context.Context, w Wanted, now cloud.Instance) (*record.Instance, error) {
	if w.Via != "" {
		i, err := s.fleet.Instance(ctx, w.Via)
		return &i, err
	}
	address := now.PrivateAddress
	if address == "" {
		address = now.PublicAddress
	}
	ctx = store.Unlimited(ctx) // rules count for everybody
	via, err := s.store.ViaFor(ctx, w.Labels, address)
	if err != nil || via == nil {
		return nil, err
	}
	i, err := s.store.InstanceByID(ctx, *via)
	return &i, err
}

// hostKeysOf finds the host keys of an instance: by what its cloud tells, else by what it shows, where one was
// expected or the first contact is accepted.
func (s *Service) hostKeysOf(
	ctx context.Context, from *cloud.Cloud, boot, firstContact bool, one *candidate,
) error {
	if boot {
		output, err := from.BootOutput(ctx, one.CloudID)
		if err != nil && !cloud.NotThere(err) {
			return problem.FromCloud(err)
		}
		one.keys, one.Learnt = cloud.HostKeys(output), "cloud boot output"
	}
	expected := one.wanted.HostKey
	if len(one.keys) == 0 {
		if err := s.shown(ctx, one); err != nil {
			return err
		}
		one.Learnt = "first contact"
		if expected == "" {
			public, by, err := s.fleet.Vouched(ctx, s.targetOf(one), one.now.Name, one.now.PublicAddress, one.Address)
			if err != nil {
				return err
			}
			if by != "" {
				one.keys, one.Learnt = []keypair.Public{public}, "host certificate of the authority "+by
			}
		}
	}
	if len(one.keys) > fleet.MostHostKeys {
		one.keys = one.keys[:fleet.MostHostKeys]
	}
	if expected != "" {
		at := slices.IndexFunc(one.keys, func(k keypair.Public) bool { return keypair.FormatSHA256(k.SHA256()) == expected })
		if at < 0 {
			return &problem.Problem{
				Kind: problem.Conflict, Code: "not-the-expected", Where: []string{one.Is},
				Detail: fmt.Sprintf("%s has no host key %s; it has %s", one.Is, expected, fingerprints(one.keys)),
				Remedy: "Find out which machine answers there; nothing was recorded",
			}
		}
		if one.Learnt == "first contact" {
			one.keys, one.Learnt = one.keys[at:at+1], "machine itself, with the fingerprint that was expected"
		}
	}
	if one.Learnt == "first contact" && !firstContact {
		return &problem.Problem{
			Kind: problem.Conflict, Code: "host-key-unknown", Where: []string{one.Is},
			Detail: fmt.Sprintf("the cloud does not tell the host keys of %s; it shows %s", one.Is, fingerprints(one.keys)),
			Remedy: "Compare that with its console: -host-key SHA256:…, or -first-contact to take it as it is",
		}
	}
	for _, k := range one.keys {
		one.HostKeys = append(one.HostKeys, keypair.FormatSHA256(k.SHA256()))
	}
	return nil
}

func fingerprints(keys []keypair.Public) string {
	all := make([]string, len(keys))
	for n, k := range keys {
		all[n] = keypair.FormatSHA256(k.SHA256())
	}
	return strings.Join(all, ", ")
}

// shown asks a machine for its host keys, in place of those that were told.
func (s *Service) shown(ctx context.Context, one *candidate) error {
	if one.Address == "" || one.now.State != cloud.Running {
		return &problem.Problem{
			Kind: problem.Conflict, Code: "host-key-unknown", Where: []string{one.Is},
			Detail: fmt.Sprintf("the cloud does not tell the host keys of %s, and it is %s", one.Is, one.now.State),
			Remedy: "Start it in its cloud first",
		}
	}
	shown, err := sshio.HostKeys(ctx, s.targetOf(one))
	if err != nil {
		return &problem.Problem{
			Kind: problem.Conflict, Code: "no-ssh-server", Where: []string{one.Is},
			Detail: fmt.Sprintf(
				"the cloud does not tell the host keys of %s, and at %s: %v", one.Is, one.Address, err,
			),
			Remedy: "See that a firewall lets this service in",
		}
	}
	one.keys = nil
	for _, k := range shown {
		public, err := keypair.ReadLine(k.Type() + " " + base64.StdEncoding.EncodeToString(k.Marshal()))
		if err != nil {
			return err
		}
		one.keys = append(one.keys, public)
	}
	return nil
}

// targetOf is how one is reached that is not recorded yet.
func (s *Service) targetOf(one *candidate) sshio.Target {
	if one.via != nil {
		return s.fleet.Jumps.By(*one.via, one.Address, one.now.SshPort)
	}
	return sshio.Target{Address: one.Address, Port: one.now.SshPort}
}

// nameEach finds the names under which they are recorded.
func (s *Service) nameEach(ctx context.Context, list []candidate) error {
	var wanted []string
	for _, one := range list {
		if one.Outcome == "" {
			wanted = append(
				wanted,
				one.wanted.As,
				machines.NameFor(one.now.Name, one.CloudID, func(string) bool { return false }),
			)
		}
	}
	known, err := s.store.InstancesKnown(ctx, wanted, nil)
	if err != nil {
		return err
	}
	taken := map[string]bool{}
	for _, i := range known {
		taken[i.Name] = true
	}
	for n := range list {
		one := &list[n]
		if one.Outcome != "" {
			continue
		}
		if one.Name = one.wanted.As; one.Name == "" {
			one.Name = machines.NameFor(one.now.Name, one.CloudID, func(s string) bool { return taken[s] })
		}
		one.Login = fleet.LoginName(one.user, one.Name)
		taken[one.Name] = true
	}
	return nil
}

// bringIn records one, or has the machine that it is become the cloud's.
func (s *Service) bringIn(
	ctx context.Context, actor people.Actor, c record.Cloud, w Wanted, labels map[string]string, one *candidate,
) error {
	if err := problem.CheckName("name", one.Name); err != nil {
		return err
	}
	digests := make([][]byte, len(one.keys))
	for n, k := range one.keys {
		digests[n] = k.SHA256()
	}
	same, beside, err := s.store.AdoptedWith(ctx, digests, addressesOf(one), one.now.SshPort)
	if err != nil {
		return err
	}
	as := one.wanted.SameAs
	named := slices.IndexFunc(beside, func(i record.Instance) bool { return i.Name == as })
	switch {
	case as != "" && named < 0 && (len(same) != 1 || same[0].Name != as):
		return &problem.Problem{
			Kind: problem.Conflict, Code: "not-the-same", Where: []string{one.Is, as},
			Detail: fmt.Sprintf("no adopted machine %s has a host key or the address of %s", as, one.Is),
			Remedy: "See both: plumlatch instance show " + as,
		}
	case len(same) > 1:
		return &problem.Problem{
			Kind: problem.Conflict, Code: "host-key-shared", Where: []string{same[0].Name, same[1].Name},
			Detail: fmt.Sprintf("%s and %s, which were adopted, both have its host key", same[0].Name, same[1].Name),
			Remedy: "Release the one that it is not: plumlatch instance release NAME",
		}
	case len(same) == 1:
		return s.join(ctx, actor, c, w, same[0], one)
	case named >= 0:
		return s.join(ctx, actor, c, w, beside[named], one)
	case len(beside) > 0:
		return &problem.Problem{
			Kind: problem.Conflict, Code: "address-taken", Where: []string{beside[0].Name},
			Detail: fmt.Sprintf(
				"%s was adopted at its address %s, with another host key: %s", beside[0].Name, one.Address,
				strings.Join(prints(beside[0].HostKeys), ", "),
			),
			Remedy: "If it is that machine, say why its host keys changed: -same-as " + beside[0].Name + " -reason TEXT",
		}
	}
	one.Outcome = BroughtIn
	if w.Preview {
		return nil
	}
	i := record.Instance{
		ID: store.NewID(), Name: one.Name, CloudID: one.CloudID, InCloud: &c.ID, BroughtIn: true,
		State: machines.State(one.now.State), LoginUser: one.user, TemporaryGiB: one.gib, Labels: labels,
		CreatedAt: s.now(), CreatedBy: actor.Name,
	}
	told, err := toldOf(one.now)
	if err != nil {
		return err
	}
	i.Image, i.Size, i.Zone, i.Region, i.KeyLabel = told.Image, told.Size, told.Zone, told.Region, told.KeyLabel
	i.PrivateAddress, i.PublicAddress, i.SSHPort = told.PrivateAddress, told.PublicAddress, told.SSHPort
	i.StaticAddress, i.RebuiltAt = told.StaticAddress, told.RebuiltAt
	if w.Via != "" {
		i.Via = &one.via.ID
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddInstance(ctx, &i); err != nil {
			return err
		}
		if err := tx.AddLogin(ctx, record.Login{ID: store.NewID(), InstanceID: i.ID, OSUser: one.user}); err != nil {
			return err
		}
		if err := tx.PinHostKeys(ctx, s.pins(i.ID, one)); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance.bring-in", "instance", i.Name, w.Reason,
			journal.Facts{"cloud": c.Name, "id": one.CloudID, "login": one.user, "learnt": one.Learnt},
		))
	})
	return fleet.TakenInstance(err, one.Name)
}

func (s *Service) pins(instance uuid.UUID, one *candidate) []record.HostKey {
	pins := make([]record.HostKey, len(one.keys))
	for n, k := range one.keys {
		pins[n] = record.HostKey{
			ID: store.NewID(), InstanceID: instance, Algorithm: k.Algorithm, Blob: k.Blob, SHA256: k.SHA256(),
			Learnt: one.Learnt, PinnedAt: s.now(),
		}
	}
	return pins
}

func prints(keys []record.HostKey) []string {
	all := make([]string, len(keys))
	for n, k := range keys {
		all[n] = keypair.FormatSHA256(k.SHA256)
	}
	return all
}

// addressesOf are those at which one may have been adopted.
func addressesOf(one *candidate) []string {
	all := []string{one.Address, one.now.PublicAddress}
	if one.now.OtherAddresses != nil {
		all = append(all, (*one.now.OtherAddresses)[:min(len(*one.now.OtherAddresses), mostBeside)]...)
	}
	return slices.DeleteFunc(all, func(a string) bool { return a == "" })
}

// join has a machine that was adopted become the cloud's instance that it is. Its name, its grants and its history
// stay; its host keys too, but where none of them is the cloud's instance's and somebody said that it is the same.
func (s *Service) join(
	ctx context.Context, actor people.Actor, c record.Cloud, w Wanted, was record.Instance, one *candidate,
) error {
	// A boot output is what an instance wrote of itself, and host keys are public: it has to show that it has the key.
	showing := *one
	if err := s.shown(ctx, &showing); err != nil {
		return err
	}
	has := func(k record.HostKey) bool {
		return slices.ContainsFunc(showing.keys, func(o keypair.Public) bool { return bytes.Equal(o.Blob, k.Blob) })
	}
	pinned := was.HostKeys
	if !slices.ContainsFunc(pinned, has) && one.wanted.SameAs == was.Name {
		pinned = s.pins(was.ID, one)
	}
	if !slices.ContainsFunc(pinned, has) {
		return &problem.Problem{
			Kind: problem.Conflict, Code: "host-key-not-shown", Where: []string{was.Name},
			Detail: fmt.Sprintf(
				"the cloud tells a host key of %s for %s, which does not show it at %s", was.Name, one.Is, one.Address,
			),
			Remedy: "Find out which machine it is; nothing was changed",
		}
	}
	one.Name, one.Outcome = was.Name, Joined
	one.Login, one.HostKeys, one.Learnt = fleet.LoginName(was.LoginUser, was.Name), nil, ""
	one.HostKeys = prints(pinned)
	for _, k := range pinned {
		if at := slices.IndexFunc(one.keys, func(o keypair.Public) bool { return bytes.Equal(o.Blob, k.Blob) }); at >= 0 {
			one.Learnt = k.Learnt
		}
	}
	if w.Preview {
		return nil
	}
	told, err := toldOf(one.now)
	if err != nil {
		return err
	}
	change := record.InstanceChange{
		InCloud: &c.ID, CloudID: one.CloudID, Adopted: new(false), BroughtIn: new(true), State: told.State,
		Image: told.Image, Size: told.Size, Zone: told.Zone, Region: told.Region, KeyLabel: &told.KeyLabel,
		PrivateAddress: &told.PrivateAddress, PublicAddress: &told.PublicAddress, SSHPort: told.SSHPort,
		StaticAddress: &told.StaticAddress, TemporaryGiB: &one.gib, RebuiltAt: told.RebuiltAt,
	}
	if was.PublicAddress != told.PublicAddress {
		change.AddressBefore, change.AddressChangedAt = was.PublicAddress, new(s.now())
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeInstance(ctx, was.ID, change); err != nil {
			return err
		}
		if !slices.Equal(prints(pinned), prints(was.HostKeys)) {
			w := fleet.PinWanted{Learnt: one.Learnt, Reason: w.Reason}
			if err := s.fleet.ReplaceHostKeys(ctx, tx, actor, was, pinned, w); err != nil {
				return err
			}
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance.join", "instance", was.Name, w.Reason, journal.Facts{"cloud": c.Name, "id": one.CloudID},
		))
	})
}
