package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
	"plumlatch/internal/core/userdata"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Launch says what instance is wanted.
type Launch struct {
	Name, Image, Size string
	Cloud             string // "" means the one that has the zone, else the first
	Zone              string // "" means the cloud's first
	Keys              []string
	// NoKey must be set where Keys is empty: nobody will be able to log in.
	NoKey bool
	// Steward is whether a steward key is placed as well.
	Steward       bool
	StaticAddress bool
	Labels        map[string]string
	Reason        string
}

// Catalogue is what a cloud offers for a launch.
type Catalogue struct {
	Cloud  record.Cloud
	Images []cloud.Image
	Sizes  []cloud.Size
	Zones  []cloud.Zone
}

// ZonesOf are the zones in which an image can be launched.
func (c Catalogue) ZonesOf(i cloud.Image) (out []cloud.Zone) {
	if i.Zones == nil {
		return c.Zones
	}
	for _, z := range c.Zones {
		if slices.Contains(*i.Zones, z.Name) {
			out = append(out, z)
		}
	}
	return out
}

// Catalogue asks a cloud what it offers: the one that is named, else the one that has the zone, else the first.
func (s *Service) Catalogue(ctx context.Context, name, zone string) (c Catalogue, err error) {
	if c.Cloud, err = s.clouds.For(ctx, name, zone); err != nil {
		return c, err
	}
	from := s.clouds.Of(&c.Cloud.ID)
	if c.Images, err = from.Images(ctx); err != nil {
		return c, problem.FromCloud(err)
	}
	if c.Sizes, err = from.Sizes(ctx); err != nil {
		return c, problem.FromCloud(err)
	}
	c.Zones, err = from.Zones(ctx)
	return c, problem.FromCloud(err)
}

// List returns one page of the instances that are there.
func (s *Service) List(
	ctx context.Context, f record.InstanceFilter, p record.Page,
) (record.List[record.Instance], error) {
	l, err := s.store.Instances(ctx, f, p)
	return l, problem.FromPage(err)
}

// Instance returns the instance of that name.
func (s *Service) Instance(ctx context.Context, name string) (record.Instance, error) {
	i, err := s.store.InstanceNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return i, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-instance",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no instance named %q", name),
			Remedy: "See what there is: plumlatch instance list",
		}
	}
	return i, err
}

// Openers returns one page of the keys that open, or should open, the instance.
func (s *Service) Openers(ctx context.Context, name string, p record.Page) (record.List[record.Opening], error) {
	i, err := s.Instance(ctx, name)
	if err != nil {
		return record.List[record.Opening]{}, err
	}
	l, err := s.store.Openers(ctx, i.ID, p)
	return l, problem.FromPage(err)
}

// StopCosts says in words what a stop would cost.
func StopCosts(i record.Instance) []string {
	var costs []string
	if !i.StaticAddress && i.PublicAddress != "" {
		costs = append(
			costs, fmt.Sprintf("the public address %s is given back; the next start brings another", i.PublicAddress),
		)
	}
	if i.JumpHost {
		costs = append(costs, "instances are reached by way of it, and are not while it is stopped: plumlatch jump list")
	}
	if i.TemporaryGiB > 0 {
		costs = append(costs, fmt.Sprintf("the temporary disk (%d GiB) is wiped", i.TemporaryGiB))
	}
	return costs
}

// Launch records the instance, its grants and a run that launches it.
func (s *Service) Launch(
	ctx context.Context, actor people.Actor, once journal.IdempotencyKey, l Launch,
) (record.Instance, record.Run, error) {
	i, image, err := s.judgeLaunch(ctx, actor, &l)
	if err != nil {
		return record.Instance{}, record.Run{}, err
	}
	keys, err := s.judgeLaunchKeys(ctx, l, image)
	if err != nil {
		return record.Instance{}, record.Run{}, err
	}
	if len(keys) > 0 {
		i.KeyLabel = keys[0].Name
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     launchKind,
		Instance: i,
		By:       actor.Name,
		Reason:   l.Reason,
		Payload:  lifecycleWork{},
		At:       s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, run.ID.String())
		if err != nil {
			return err
		}
		if earlier != "" {
			run.ID, err = uuid.Parse(earlier)
			return err
		}
		if err := tx.AddInstance(ctx, &i); err != nil {
			return err
		}
		login := record.Login{ID: store.NewID(), InstanceID: i.ID, OSUser: image.LoginUser}
		if err := tx.AddLogin(ctx, login); err != nil {
			return err
		}
		grants := make([]record.Grant, len(keys))
		for n, k := range keys {
			grants[n] = record.Grant{
				ID:        store.NewID(),
				KeyID:     k.ID,
				LoginID:   login.ID,
				GrantedAt: s.now(),
				GrantedBy: actor.Name,
				Reason:    cmp.Or(l.Reason, "placed at launch"),
			}
		}
		if l.Steward {
			k, err := s.NewSteward(ctx, tx, actor, i, "")
			if err != nil {
				return err
			}
			grants = append(grants, record.Grant{
				ID:        store.NewID(),
				KeyID:     k.ID,
				LoginID:   login.ID,
				GrantedAt: s.now(),
				GrantedBy: actor.Name,
				Reason:    "steward key",
			})
		}
		if err := tx.AddGrants(ctx, grants); err != nil {
			return err
		}
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		told := "instance.launch"
		if len(keys) == 0 {
			told = "instance.launch:shut"
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), told, "instance", l.Name, l.Reason,
			journal.Facts{"image": l.Image, "size": l.Size, "keys": keyNames(keys)},
		))
	})
	if err != nil {
		return record.Instance{}, record.Run{}, TakenInstance(err, l.Name)
	}
	s.engine.Wake(ctx, run.ID)
	if run, err = s.store.RunByID(ctx, run.ID); err != nil {
		return record.Instance{}, record.Run{}, err
	}
	i, err = s.store.InstanceByID(ctx, run.InstanceID)
	return i, run, err
}

func keyNames(keys []record.Key) []string {
	names := make([]string, len(keys))
	for i, k := range keys {
		names[i] = k.Name
	}
	return names
}

func TakenInstance(err error, name string) error {
	var taken *store.TakenError
	if errors.As(err, &taken) && taken.Constraint == "instances_name" {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "name-taken",
			Field:  "name",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is an instance named %s already, or one is being launched", name),
			Remedy: "Choose another name, or see it: plumlatch instance show " + name,
		}
	}
	if errors.As(err, &taken) && taken.Constraint == "instances_in_cloud" {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "recorded-already",
			Where:  []string{name},
			Detail: "it was recorded at this moment by somebody else",
			Remedy: "See what there is: plumlatch instance list",
		}
	}
	return err
}

// judgeLaunch checks everything that can be checked before anything is recorded.
func (s *Service) judgeLaunch(
	ctx context.Context, actor people.Actor, l *Launch,
) (record.Instance, cloud.Image, error) {
	none := func(err error) (record.Instance, cloud.Image, error) { return record.Instance{}, cloud.Image{}, err }
	var err error
	if l.Labels, err = actor.Labelled(l.Labels); err != nil {
		return record.Instance{}, cloud.Image{}, err
	}
	if err := errors.Join(
		problem.CheckName("name", l.Name), problem.CheckLabels(l.Labels), problem.CheckText("reason", l.Reason),
	); err != nil {
		return none(err)
	}
	c, err := s.Catalogue(ctx, l.Cloud, l.Zone)
	if err != nil {
		return none(err)
	}
	can, _, err := s.clouds.Outline(ctx, &c.Cloud.ID)
	if err != nil {
		return none(problem.FromCloud(err))
	}
	if !slices.Contains(can.Capabilities, cloud.CanBootOutput) {
		return none(&problem.Problem{
			Kind: problem.Conflict, Code: "no-boot-output", Field: "cloud",
			Detail: "the cloud " + c.Cloud.Name + " does not tell the boot output, from which the first host keys are pinned",
			Remedy: "Launch it there, and bring it in with the host key that its console shows: " +
				"plumlatch instance bring-in NAME -host-key SHA256:…",
		})
	}
	image, err := Choose("image", l.Image, c.Images, func(i cloud.Image) string { return i.Name })
	if err != nil {
		return none(err)
	}
	if err := name.CheckUser(image.LoginUser); err != nil {
		return none(&problem.Problem{
			Kind:  problem.Unavailable,
			Code:  "bad-image",
			Field: "image",
			Detail: fmt.Sprintf(
				"the cloud says that the login user of %s is %q: %v", image.Name, text.Line(image.LoginUser, text.MaxLine),
				err,
			),
			Remedy: "Ask the person who runs the adapter",
		})
	}
	size, err := Choose("size", l.Size, c.Sizes, func(z cloud.Size) string { return z.Name })
	if err != nil {
		return none(err)
	}
	zones := c.ZonesOf(image)
	if l.Zone == "" && len(zones) > 0 {
		l.Zone = zones[0].Name
	}
	zone, err := Choose("zone", l.Zone, zones, func(z cloud.Zone) string { return z.Name })
	if err != nil {
		return none(err)
	}
	if l.Labels == nil {
		l.Labels = map[string]string{}
	}
	return record.Instance{
		ID:        store.NewID(),
		Name:      l.Name,
		State:     machines.Launching,
		Image:     image.Name,
		Size:      size.Name,
		Zone:      zone.Name,
		Region:    zone.Region,
		InCloud:   &c.Cloud.ID,
		CloudName: c.Cloud.Name,
		LoginUser: image.LoginUser, StaticAddress: l.StaticAddress, TemporaryGiB: size.TemporaryDiskGib,
		Labels: l.Labels, CreatedAt: s.now(), CreatedBy: actor.Name,
	}, image, nil
}

// Choose finds the named thing, or says what there is.
func Choose[T any](field, wanted string, among []T, nameOf func(T) string) (T, error) {
	names := make([]string, len(among))
	for i, a := range among {
		names[i] = nameOf(a)
		if names[i] == wanted {
			return a, nil
		}
	}
	var none T
	p := &problem.Problem{
		Kind:   problem.Invalid,
		Code:   "no-such-" + field,
		Field:  field,
		Detail: fmt.Sprintf("the cloud has no %s %q", field, wanted),
		Remedy: "There are: " + strings.Join(names, ", "),
	}
	if wanted == "" {
		p.Detail = "no " + field + " was given"
	}
	if i := slices.IndexFunc(names, func(n string) bool { return wanted != "" && strings.HasPrefix(n, wanted) }); i >= 0 {
		p.Suggestion = names[i]
	}
	return none, p
}

func (s *Service) judgeLaunchKeys(ctx context.Context, l Launch, image cloud.Image) ([]record.Key, error) {
	bad := func(code, detail, remedy string) ([]record.Key, error) {
		return nil, &problem.Problem{Kind: problem.Invalid, Code: code, Field: "keys", Detail: detail, Remedy: remedy}
	}
	if len(l.Keys) == 0 && !l.NoKey {
		return bad(
			"no-key", "no key was given, so nobody would be able to log in",
			"Name a key (-key NAME), make one (-new NAME), or say -no-key if that is meant",
		)
	}
	if len(l.Keys) > 0 && l.NoKey {
		return bad("no-key", "keys were given and no_key was set", "Give one or the other")
	}
	found, err := s.store.KeysNamed(ctx, l.Keys)
	if err != nil {
		return nil, err
	}
	var granted []record.Key
	var lines []string
	for n, wanted := range l.Keys {
		i := slices.IndexFunc(found, func(k record.Key) bool { return k.Name == wanted })
		if i < 0 {
			return bad("no-such-key", fmt.Sprintf("there is no key named %q", wanted), "See what there is: plumlatch key list")
		}
		k := found[i]
		if slices.Contains(l.Keys[:n], wanted) {
			continue
		}
		if err := s.keys.Grantable(k); err != nil {
			return nil, err
		}
		if !slices.Contains(image.KeyTypes, k.Type) {
			return bad(
				"key-type-not-taken",
				fmt.Sprintf(
					"the image %s takes keys of the type %s only; %s is %s", image.Name, strings.Join(image.KeyTypes, ", "),
					k.Name, k.Type,
				),
				"Make one that fits: plumlatch key new NAME -type "+image.KeyTypes[0],
			)
		}
		granted = append(granted, k)
		lines = append(lines, keys.LineOf(k))
	}
	if _, err := userdata.Render(userdata.Config{LoginUser: image.LoginUser, Keys: lines}); err != nil {
		return bad("too-many-keys", err.Error(), "")
	}
	return granted, nil
}

// Release lets the record of an adopted instance go. Nothing on the machine is touched.
func (s *Service) Release(ctx context.Context, actor people.Actor, name, reason string) error {
	if err := problem.CheckText("reason", reason); err != nil {
		return err
	}
	i, err := s.Instance(ctx, name)
	if err != nil {
		return err
	}
	if !i.Adopted && !i.BroughtIn {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-adopted",
			Where:  []string{name},
			Detail: name + " was launched here, so letting its record go would leave it running unseen",
			Remedy: "End it: plumlatch instance delete " + name,
		}
	}
	return s.release(ctx, actor, i, reason)
}

// RunFor says what kind of run is wanted on an instance.
type RunFor string

// The runs that change whether an instance runs.
const (
	RunStart  RunFor = "start"
	RunStop   RunFor = "stop"
	RunDelete RunFor = "delete"
)

var during = map[RunFor]machines.State{
	RunStart: machines.Starting, RunStop: machines.Stopping, RunDelete: machines.Deleting,
}

// Change begins a start, a stop or the end of an instance.
func (s *Service) Change(
	ctx context.Context, actor people.Actor, kind RunFor, name, reason string,
) (record.Run, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return record.Run{}, err
	}
	i, err := s.Instance(ctx, name)
	if err != nil {
		return record.Run{}, err
	}
	if i.Adopted {
		return record.Run{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "adopted",
			Where:  []string{name},
			Detail: name + " was adopted, and no cloud is asked about it",
			Remedy: "Start or stop it where it runs; to let its record go: plumlatch instance release " + name,
		}
	}
	needs := map[RunFor][]machines.State{
		RunStart:  {machines.Stopped},
		RunStop:   {machines.Running},
		RunDelete: {machines.Running, machines.Stopped, machines.Failed},
	}[kind]
	if !slices.Contains(needs, i.State) {
		return record.Run{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "wrong-state",
			Detail: fmt.Sprintf("the instance %s is %s, so it cannot %s", name, i.State, kind),
			Remedy: "See it: plumlatch instance show " + name,
		}
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     string(kind),
		Instance: i,
		By:       actor.Name,
		Reason:   reason,
		Payload:  lifecycleWork{StateBefore: i.State},
		At:       s.now(),
	})
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		if err := tx.ChangeInstance(ctx, i.ID, record.InstanceChange{State: during[kind]}); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance."+string(kind), "instance", name, reason, nil,
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return record.Run{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "run-at-work",
			Detail: fmt.Sprintf("another run is at work on %s", name),
			Remedy: "Wait for it: plumlatch run list -instance " + name,
		}
	}
	if err != nil {
		return record.Run{}, err
	}
	s.engine.Wake(ctx, run.ID)
	return s.store.RunByID(ctx, run.ID)
}

// Relabel gives an instance just these labels.
func (s *Service) Relabel(
	ctx context.Context, actor people.Actor, name string, labels map[string]string, reason string,
) error {
	if err := errors.Join(
		people.FleetWide(ctx, "to label instances"), problem.CheckLabels(labels), problem.CheckText("reason", reason),
	); err != nil {
		return err
	}
	i, err := s.Instance(ctx, name)
	if err != nil || maps.Equal(i.Labels, labels) {
		return err
	}
	if labels == nil {
		labels = map[string]string{}
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeInstance(ctx, i.ID, record.InstanceChange{Labels: &labels}); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance.label", "instance", name, reason, journal.Facts{"labels": labels, "were": i.Labels},
		))
	})
}
