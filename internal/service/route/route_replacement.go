package route

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/userdata"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// replacement launches another instance from an image of this one.
var replacement = Route{
	Way:     must(restore.Replacement),
	NoGrant: true,
	prepare: prepareReplacement,
	rehearse: func(s *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
		return "whether the image and the size are still offered", func(ctx context.Context) (string, error) {
			sizes, err := s.clouds.Of(c.Instance.InCloud).Sizes(ctx)
			if err != nil {
				return "", problem.FromCloud(err)
			}
			_, err = fleet.Choose("size", c.Instance.Size, sizes, func(z cloud.Size) string { return z.Name })
			return "the size " + c.Instance.Size + " is, in " + c.Instance.Zone, err
		}
	},
	steps: replacementSteps,
	settled: func(ctx context.Context, r *restoring, p *runs.Progress) (string, error) {
		return "the copy of the disk, with the old keys in it, is deleted", r.deleteImage(ctx, p)
	},
	ended: func(ctx context.Context, r *restoring, tx *store.Store, by journal.By) error {
		return r.endedReplaced(ctx, tx, by)
	},
}

// prepareReplacement names the replacement. The steward key of the previous instance is in its image,
// so its line goes as well.
func prepareReplacement(ctx context.Context, s *Service, b *Beginning) (err error) {
	w := b.Work
	w.Static, w.StopFirst, w.Ports = b.Facts.Static, b.Wanted.StopFirst, b.Wanted.Ports
	w.Replacement, w.NewLogin = store.NewID(), store.NewID()
	if w.NewName, err = s.newNameFor(ctx, b.Wanted, b.Instance); err != nil {
		return err
	}
	found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{b.Login.ID})
	if err != nil {
		return err
	}
	if steward := found[0].Steward; steward != nil {
		w.Removes = append(w.Removes, NamedKey{steward.ID, steward.Name})
	}
	return nil
}

func replacementSteps(r *restoring) map[restore.Step]runs.Step {
	name := r.instance.Name
	stop := runs.Step{
		Title:      "Stop the instance",
		Intent:     "Stop " + name,
		UndoIntent: "Start it again, if it ran",
		Do:         r.stopIt,
		Undo:       r.startAgain,
	}
	stopOld := stop
	stopOld.Title, stopOld.Intent = "Stop the old one", "Stop "+name+", which is not ended"
	stopOld.UndoIntent = "Start it again"
	return map[restore.Step]runs.Step{
		restore.StopIt:  stop,
		restore.StopOld: stopOld,
		restore.Image: {
			Title:      "Make an image",
			Intent:     "Copy the root disk of " + name,
			UndoIntent: "Delete the copy",
			Do:         r.image,
			Undo:       r.deleteImage,
		},
		restore.LaunchNew: {
			Title: "Launch the replacement",
			Intent: "Launch " + r.work.NewName + " from the copy, opened by " + r.work.KeyName +
				", and pin its host keys from the boot output",
			UndoIntent: "End the replacement and its disk",
			Do:         r.launchNew,
			Undo:       r.endNew,
		},
		restore.Check: {
			Title:    "Wait for its services",
			Intent:   "Wait until the replacement answers at the ports " + portsText(r.work.Ports),
			Do:       r.check,
			Patience: checkPatience,
		},
		restore.MoveAddress: {
			Title:      "Move the address",
			Intent:     "Give the static address of " + name + " to the replacement",
			UndoIntent: "Give the address back",
			Do:         r.moveAddress,
			Undo:       r.moveBack,
		},
	}
}

// The route by which another instance takes the place of one.

func (r *restoring) imageToken() string { return r.run.ID.String() + " image" }
func (r *restoring) newToken() string   { return r.run.ID.String() + " replacement" }

// image copies the root disk.
func (r *restoring) image(ctx context.Context, p *runs.Progress) (string, error) {
	r.work.ImageAsked = true
	if err := p.Save(ctx); err != nil {
		return "", err
	}
	op, err := r.cloud.MakeSnapshot(ctx, r.imageToken(), r.instance.CloudID, r.work.NewName+"-image", true)
	if err != nil {
		return "", fleet.Calling(err)
	}
	if op.Snapshot == nil {
		return "", errors.New("the cloud does not name the copy that it makes")
	}
	r.work.Image = *op.Snapshot
	if err := p.Save(ctx); err != nil {
		return "", err
	}
	if err := r.machine.Await(ctx, p, op.Id); err != nil {
		return "", err
	}
	return fmt.Sprintf("%d GiB are copied", r.work.GiB), nil
}

// deleteImage deletes the copy. Where it is not known whether the cloud ever received it,
// the same is asked for again, so that none is left that comes about later.
func (r *restoring) deleteImage(ctx context.Context, p *runs.Progress) error {
	if !r.work.ImageAsked {
		return nil
	}
	id := r.work.Image
	if id == "" {
		op, err := r.cloud.MakeSnapshot(ctx, r.imageToken(), r.instance.CloudID, r.work.NewName+"-image", true)
		var refused *cloud.RefusedError
		if errors.As(err, &refused) {
			return nil // there is none, and none comes
		}
		if err != nil || op.Snapshot == nil {
			return err
		}
		id = *op.Snapshot
		if err := r.machine.Await(ctx, p, op.Id); err != nil && runs.IsTemporary(err) {
			return err
		}
	}
	err := r.cloud.DeleteSnapshot(ctx, id)
	if cloud.NotThere(err) {
		return nil
	}
	return err
}

// fresh is the instance that replaces the previous one.
func (r *restoring) fresh(ctx context.Context) (*fleet.Machine, error) {
	i, err := r.store.InstanceByID(ctx, r.work.Replacement)
	return r.fleet.Machine(i), err
}

// launchNew launches the replacement. Its record is made first.
func (r *restoring) launchNew(ctx context.Context, p *runs.Progress) (string, error) {
	k, err := r.key(ctx)
	if err != nil {
		return "", err
	}
	l, err := r.fresh(ctx)
	if errors.Is(err, store.ErrNotFound) {
		if err = r.recordNew(ctx, k); err == nil {
			l, err = r.fresh(ctx)
		}
	}
	if err != nil {
		return "", err
	}
	data, err := userdata.Render(userdata.Config{LoginUser: l.Instance.LoginUser, Keys: []string{keys.LineOf(k)}})
	if err != nil {
		return "", err
	}
	copied, firewall := r.work.Image, r.before().Firewall
	op, err := r.cloud.Launch(ctx, cloud.Launch{
		RequestToken: r.newToken(),
		Name:         l.Instance.Name,
		Image:        l.Instance.Image,
		Size:         l.Instance.Size,
		Zone:         l.Instance.Zone,
		UserData:     &data, KeyLabel: &l.Instance.KeyLabel, Firewall: &firewall, Snapshot: &copied,
	})
	if err != nil {
		return "", fleet.Calling(err)
	}
	if err := l.Set(ctx, record.InstanceChange{CloudID: op.Instance}); err != nil {
		return "", err
	}
	if err := l.Await(ctx, p, op.Id); err != nil {
		return "", err
	}
	if _, err := l.NoteAddresses(ctx); err != nil {
		return "", err
	}
	said, err := l.PinBoot(ctx)
	return l.Instance.Name + " is up; " + said, err
}

// recordNew records the replacement with its login.
func (r *restoring) recordNew(ctx context.Context, k record.Key) error {
	id, login, old := r.work.Replacement, r.work.NewLogin, r.instance
	i := record.Instance{
		ID:           id,
		Name:         r.work.NewName,
		State:        machines.Launching,
		Image:        old.Image,
		Size:         old.Size,
		Zone:         old.Zone,
		Region:       old.Region,
		LoginUser:    old.LoginUser,
		TemporaryGiB: old.TemporaryGiB,
		InCloud:      old.InCloud,
		KeyLabel:     k.Name,
		Labels:       maps.Clone(old.Labels),
		CreatedAt:    r.now(),
		CreatedBy:    r.run.RequestedBy,
	}
	return r.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddInstance(ctx, &i); err != nil {
			return fleet.TakenInstance(err, i.Name)
		}
		user, _, _ := strings.Cut(r.work.LoginName, "@")
		return tx.AddLogin(ctx, record.Login{ID: login, InstanceID: id, OSUser: user})
	})
}

// endNew ends the replacement, whether or not its launch was ever answered.
func (r *restoring) endNew(ctx context.Context, p *runs.Progress) error {
	if err := r.machine.EndLaunched(ctx, p, r.newToken()); err != nil {
		return err
	}
	id := r.work.Replacement
	if _, err := r.store.InstanceByID(ctx, id); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		return err
	}
	return r.store.InTx(ctx, func(tx *store.Store) error { return r.fleet.Forget(ctx, tx, id) })
}

// check waits until the replacement answers at all ports that were given.
func (r *restoring) check(ctx context.Context, _ *runs.Progress) (string, error) {
	l, err := r.fresh(ctx)
	if err != nil {
		return "", err
	}
	for _, port := range r.work.Ports {
		address := net.JoinHostPort(l.Instance.PublicAddress, strconv.Itoa(port))
		conn, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "tcp", address)
		if err != nil {
			return "", runs.Temporary(fmt.Errorf("%s does not answer yet", address))
		}
		conn.Close()
	}
	return "it answers at " + portsText(r.work.Ports), nil
}

// addressMoved gives the static address of one instance to another, or waits until
// somebody did where the cloud has no call for it.
func (r *restoring) addressMoved(ctx context.Context, from, to string) error {
	i, err := r.cloud.Instance(ctx, to)
	if err != nil {
		return fleet.Calling(err)
	}
	if i.StaticAddress {
		return nil
	}
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil {
		return fleet.Calling(err)
	}
	if !slices.Contains(can.Capabilities, cloud.CanAddresses) {
		return runs.WaitFor(record.Waits{
			Who:    r.run.RequestedBy,
			What:   fmt.Sprintf("to move the address %s to %s, since the cloud has no call for it", r.before().Address, i.Name),
			ByHand: true,
		})
	}
	return fleet.Calling(r.cloud.MoveAddress(ctx, from, to))
}

// noteBoth takes over what the cloud says of the addresses of both instances.
func (r *restoring) noteBoth(ctx context.Context, l *fleet.Machine) error {
	for _, one := range []*fleet.Machine{r.machine, l} {
		i, err := one.NoteAddresses(ctx)
		if err == nil {
			err = one.Set(ctx, record.InstanceChange{StaticAddress: &i.StaticAddress})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (r *restoring) moveAddress(ctx context.Context, _ *runs.Progress) (string, error) {
	l, err := r.fresh(ctx)
	if err == nil {
		err = r.addressMoved(ctx, r.instance.CloudID, l.Instance.CloudID)
	}
	if err != nil {
		return "", err
	}
	return r.before().Address + " leads to " + l.Instance.Name + " now", r.noteBoth(ctx, l)
}

func (r *restoring) moveBack(ctx context.Context, _ *runs.Progress) error {
	l, err := r.fresh(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	if err := r.addressMoved(ctx, l.Instance.CloudID, r.instance.CloudID); err != nil {
		return err
	}
	return r.noteBoth(ctx, l)
}

// before is how the instance was; as nothing where that was not looked at.
func (r *restoring) before() stoodAs {
	if r.work.Before == nil {
		return stoodAs{}
	}
	return *r.work.Before
}

// endedReplaced hands the grants of the login over to that of the replacement.
func (r *restoring) endedReplaced(ctx context.Context, tx *store.Store, actor journal.By) error {
	run, w := r.run, r.work
	granted, err := tx.GrantedKeys(ctx, w.Login)
	if err != nil {
		return err
	}
	ids := make([]uuid.UUID, len(granted))
	for n, k := range granted {
		ids[n] = k.ID
	}
	before, err := tx.LiveGrants(ctx, w.Login, ids)
	if err != nil {
		return err
	}
	grants := []record.Grant{
		{
			ID:        store.NewID(),
			KeyID:     w.Key,
			LoginID:   w.NewLogin,
			GrantedAt: r.now(),
			GrantedBy: run.RequestedBy,
			Reason:    "restore of " + run.Instance.Name,
		},
	}
	for _, k := range granted {
		if k.ID != w.Key && k.StewardOf == nil && !slices.Contains(IdsOf(w.Lost), k.ID) {
			grants = append(grants, record.Grant{
				ID:        store.NewID(),
				KeyID:     k.ID,
				LoginID:   w.NewLogin,
				GrantedAt: r.now(),
				GrantedBy: run.RequestedBy,
				Reason:    "as on " + run.Instance.Name,
				Limits:    before[k.ID].Limits,
				Forced:    before[k.ID].Forced,
			})
		}
	}
	if err := tx.AddGrants(ctx, grants); err != nil {
		return err
	}
	if err := tx.ChangeInstance(ctx, w.Replacement, record.InstanceChange{State: machines.Running}); err != nil {
		return err
	}
	return tx.Note(ctx, r.journal.Entry(
		actor, "instance.launched:instead", "instance", w.NewName, run.Reason,
		journal.Facts{"instance": run.Instance.Name},
	))
}

// replacementName proposes the name of an instance that takes the place of one.
func replacementName(old string, taken func(string) bool) string {
	for n := 2; ; n++ {
		if next := old + "-" + strconv.Itoa(n); !taken(next) {
			return next
		}
	}
}

func (s *Service) newNameFor(ctx context.Context, w NewInstance, i record.Instance) (string, error) {
	if w.NewName != "" {
		if err := problem.CheckName("new_name", w.NewName); err != nil {
			return "", err
		}
		if _, err := s.store.InstanceNamed(ctx, w.NewName); err == nil {
			return "", &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "name-taken",
				Field:  "new_name",
				Where:  []string{w.NewName},
				Detail: fmt.Sprintf("there is an instance named %s already", w.NewName),
				Remedy: "Choose another name",
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return "", err
		}
		return w.NewName, nil
	}
	var failed error
	name := replacementName(i.Name, func(n string) bool {
		_, err := s.store.InstanceNamed(ctx, n)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			failed = err
		}
		return err == nil
	})
	return name, failed
}
