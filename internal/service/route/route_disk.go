package route

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/reading"
)

// helperDisk edits the root disk while it is attached to another instance.
var helperDisk = Route{
	Way: must(restore.HelperDisk),
	by:  func(*restoring) string { return "on the mounted disk" },
	prepare: func(ctx context.Context, s *Service, b *Beginning) (err error) {
		b.Work.HelperImage = b.Facts.HelperImage
		b.Work.HelperSize, err = s.helperSize(ctx, b.Instance.InCloud)
		return err
	},
	rehearse: func(_ *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
		return "the root disk, and an image for a helper", func(context.Context) (string, error) {
			disk := c.Facts.Disk
			return fmt.Sprintf(
				"%d GiB of %s at %s in %s; the helper would be %s", disk.GiB, disk.Filesystem, disk.Device, c.Instance.Zone,
				c.Facts.HelperImage,
			), nil
		}
	},
	steps: diskSteps,
	place: func(
		ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		disk, err := r.onHelper(ctx, p, l)
		if err != nil {
			return "", err
		}
		if _, err := r.reading.DoorBy(disk, p, &r.work.Journal).Place(ctx, r.reading.MeansKey(k)); err != nil {
			return "", reading.Reaching(err)
		}
		return "the line is in the file on the disk, with the owner, the mode and the label of its place", nil
	},
	takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
		if !r.work.Journal.HasPlaced(k.Blob) {
			return nil
		}
		disk, err := r.onHelper(ctx, p, l)
		if err != nil {
			return err
		}
		_, err = r.taking(ctx, r.reading.DoorBy(disk, p, &r.work.Journal), k)
		return err
	},
	settled: func(ctx context.Context, r *restoring, p *runs.Progress) (string, error) {
		if err := r.dropHelpers(ctx, p); err != nil {
			return "", err
		}
		d, _, err := r.cloud.Disk(ctx, r.work.Disk)
		if err == nil && !slices.Contains(d.Attachments, r.ownPlace()) {
			err = errors.New("its disk is not attached as root under its own device name")
		}
		return "the helper is gone, and the disk is where it was", err
	},
}

// diskSteps bring the root disk to a helper and back.
func diskSteps(r *restoring) map[restore.Step]runs.Step {
	name := r.instance.Name
	return map[restore.Step]runs.Step{
		restore.Helper: {
			Title:      "Bring a helper up",
			Intent:     "Launch a helper instance in " + r.instance.Zone + " and wait until its guest agent answers",
			UndoIntent: "End the helper",
			Do:         r.helper,
			Undo:       r.dropHelpers,
			Patience:   r.Patience + restore.AgentOpenFor,
		},
		restore.StopIt: {
			Title:      "Stop the instance",
			Intent:     "Stop " + name,
			UndoIntent: "Start it again, if it ran",
			Do:         r.stopIt,
			Undo:       r.startAgain,
		},
		restore.DetachRoot: {
			Title:      "Detach the root disk",
			Intent:     "Detach the root disk of " + name,
			UndoIntent: "Attach it as root again, under its own device name",
			Do:         r.detachRoot,
			Undo:       r.attachAgain,
		},
		restore.Lend: {
			Title:      "Attach it to the helper",
			Intent:     "Attach the disk to the helper as a second disk",
			UndoIntent: "Detach it from the helper",
			Do:         r.lend,
			Undo:       r.fetchBack,
		},
		restore.Mount: {
			Title:      "Mount it",
			Intent:     "Mount the disk, also where its filesystem has the UUID of the helper's own",
			UndoIntent: "Unmount it",
			Do:         r.mount,
			Undo:       r.unmountAgain,
		},
		restore.Unmount: {Title: "Unmount it", Intent: "Write all to the disk and unmount it", Do: r.unmount},
		restore.Fetch:   {Title: "Detach it from the helper", Intent: "Detach the disk from the helper", Do: r.fetch},
		restore.Reattach: {
			Title:  "Attach the root disk",
			Intent: "Attach the disk to " + name + " as root, under its own device name",
			Do:     r.reattach,
		},
		restore.StartIt: {
			Title:      "Start the instance",
			Intent:     "Start " + name + " and compare the host keys of its boot output with the pinned ones",
			UndoIntent: "Stop it again, if it was stopped",
			Do:         r.startIt,
			Undo:       r.stopAgain,
		},
		restore.DropHelper: {Title: "End the helper", Intent: "End the helper and its own disk", Do: r.dropHelper},
	}
}

// The route over a helper's disk. Each step brings about a state, whatever it finds, so
// that it can be repeated after a cut and undone from anywhere.

const (
	// lentDevice is what a helper is to find the disk as, if the cloud heeds that, and mountPoint where it is mounted.
	lentDevice = "/dev/vdx"
	mountPoint = "/mnt/plumlatch"
	// maxHelpers is how many helpers are made for one restore, where they vanish.
	maxHelpers = 5
)

// deviceForm is that of a path to a device.
var deviceForm = regexp.MustCompile(`^/dev/[A-Za-z0-9/_.-]{1,80}$`)

// ownPlace is where the root disk belongs.
func (r *restoring) ownPlace() cloud.Attachment {
	return cloud.Attachment{Instance: r.instance.CloudID, Device: r.work.Device, Root: true}
}

// attached brings a disk to one place, or to none. What is attached elsewhere is detached
// there first, where it is by this restore.
func (r *restoring) attached(ctx context.Context, p *runs.Progress, want *cloud.Attachment) error {
	id := r.work.Disk
	for tries := 1; ; {
		d, there, err := r.cloud.Disk(ctx, id)
		switch {
		case err != nil:
			return fleet.Calling(err)
		case !there:
			return fmt.Errorf("the cloud does not know the disk %s now", id)
		case want == nil && len(d.Attachments) == 0,
			want != nil && len(d.Attachments) == 1 && isPlace(d.Attachments[0], *want):
			return nil
		}
		var op cloud.Operation
		if len(d.Attachments) > 0 {
			op, err = r.cloud.Detach(ctx, id, d.Attachments[0].Instance)
		} else {
			op, err = r.cloud.Attach(ctx, id, *want)
		}
		if err != nil {
			return fleet.Calling(err)
		}
		if err := r.machine.Await(ctx, p, op.Id); err != nil {
			if tries++; runs.IsTemporary(err) || ctx.Err() != nil || tries > operationTries {
				return err
			}
		}
	}
}

// isPlace reports whether a disk that is attached so is where it is wanted. What a helper finds it as is the cloud's
// affair.
func isPlace(a, want cloud.Attachment) bool {
	return a.Instance == want.Instance && a.Root == want.Root && (!want.Root || a.Device == want.Device)
}

func (r *restoring) detachRoot(ctx context.Context, p *runs.Progress) (string, error) {
	if r.work.Disk == "" {
		return "", errors.New("the cloud names no root disk of it")
	}
	if err := r.attached(ctx, p, nil); err != nil {
		return "", err
	}
	return fmt.Sprintf("its own device name is %s", r.work.Device), nil
}

// attachAgain brings the disk back to where it belongs, from wherever it is.
func (r *restoring) attachAgain(ctx context.Context, p *runs.Progress) error {
	own := r.ownPlace()
	if r.work.Disk == "" {
		return nil
	}
	return r.attached(ctx, p, &own)
}

func (r *restoring) helperToken(n int) string { return fmt.Sprintf("%s helper %d", r.run.ID, n) }

// helpers returns the instances that were made as helpers, the last one last. Those that
// are gone are not among them.
func (r *restoring) helpers(ctx context.Context) ([]cloud.Instance, error) {
	var out []cloud.Instance
	for n := 1; n <= r.work.Helpers; n++ {
		i, there, err := r.cloud.Launched(ctx, r.helperToken(n))
		if err != nil {
			return nil, fleet.Calling(err)
		}
		if there && i.State != cloud.Deleted {
			out = append(out, i)
		}
	}
	return out, nil
}

// ensureHelper returns a helper whose guest agent answers, and makes one where there is none.
func (r *restoring) ensureHelper(ctx context.Context, p *runs.Progress) (cloud.Instance, error) {
	there, err := r.helpers(ctx)
	if err != nil {
		return cloud.Instance{}, err
	}
	for _, i := range there {
		if i.State == cloud.Running {
			return i, r.permitHelper(ctx, i)
		}
	}
	n := r.work.Helpers
	launching := len(there) > 0 && there[len(there)-1].State == cloud.Launching
	if !launching {
		if n++; n > maxHelpers {
			return cloud.Instance{}, fmt.Errorf("%d helpers were made, and none stays", maxHelpers)
		}
		r.work.Helpers = n
		if err := p.Save(ctx); err != nil {
			return cloud.Instance{}, err
		}
	}
	op, err := r.cloud.Launch(ctx, cloud.Launch{
		RequestToken: r.helperToken(n),
		Name:         "helper-of-" + r.instance.Name,
		Image:        r.work.HelperImage,
		Size:         r.work.HelperSize,
		Zone:         r.instance.Zone,
	})
	if err != nil {
		return cloud.Instance{}, fleet.Calling(err)
	}
	if err := r.machine.Await(ctx, p, op.Id); err != nil {
		if !runs.IsTemporary(err) && ctx.Err() == nil && n < operationTries {
			err = runs.Temporary(err) // another is made
		}
		return cloud.Instance{}, err
	}
	i, err := r.cloud.Instance(ctx, op.Instance)
	if err != nil {
		return i, fleet.Calling(err)
	}
	return i, r.permitHelper(ctx, i)
}

// permitHelper permits the agent of a helper, which is there for this alone.
func (r *restoring) permitHelper(ctx context.Context, i cloud.Instance) error {
	if err := r.cloud.PermitAgent(ctx, i.Id, true); err != nil {
		return fleet.Calling(err)
	}
	return r.awaitAgent(ctx, i.Id)
}

func (r *restoring) helper(ctx context.Context, p *runs.Progress) (string, error) {
	i, err := r.ensureHelper(ctx, p)
	return fmt.Sprintf("%s (%s) is up in %s, and its agent answers", i.Name, i.Image, i.Zone), err
}

func (r *restoring) dropHelper(ctx context.Context, p *runs.Progress) (string, error) {
	return "the helper and its own disk are gone", r.dropHelpers(ctx, p)
}

// dropHelpers ends all helpers. The disk that was brought to one must be off it.
func (r *restoring) dropHelpers(ctx context.Context, p *runs.Progress) error {
	for n := 1; n <= r.work.Helpers; n++ {
		if err := r.machine.EndLaunched(ctx, p, r.helperToken(n)); err != nil {
			return err
		}
	}
	return nil
}

// lentTo is where the disk is while a helper has it.
func lentTo(i cloud.Instance) cloud.Attachment {
	return cloud.Attachment{Instance: i.Id, Device: lentDevice}
}

func (r *restoring) lend(ctx context.Context, p *runs.Progress) (string, error) {
	i, err := r.ensureHelper(ctx, p)
	if err != nil {
		return "", err
	}
	to := lentTo(i)
	if err := r.attached(ctx, p, &to); err != nil {
		return "", err
	}
	device, err := r.deviceOn(ctx, i)
	return "attached as " + device, err
}

// deviceOn is where a helper finds the root's file system.
func (r *restoring) deviceOn(ctx context.Context, i cloud.Instance) (string, error) {
	d, there, err := r.cloud.Disk(ctx, r.work.Disk)
	if err != nil {
		return "", fleet.Calling(err)
	}
	at := slices.IndexFunc(d.Attachments, func(a cloud.Attachment) bool { return a.Instance == i.Id })
	if !there || at < 0 {
		return "", runs.Temporary(fmt.Errorf("the disk %s is not at the helper", r.work.Disk))
	}
	device := d.Attachments[at].Device
	if !deviceForm.MatchString(device) {
		return "", fmt.Errorf("the cloud tells %q as the helper's name of the disk", text.Line(device, 100))
	}
	return partitionOf(device, d.Partition), nil
}

// partitionOf is the path of a partition of a device; the device itself for none.
func partitionOf(device string, number *int) string {
	switch last := device[len(device)-1]; {
	case number == nil:
		return device
	case strings.HasPrefix(device, "/dev/disk/"):
		return fmt.Sprintf("%s-part%d", device, *number)
	case last >= '0' && last <= '9':
		return fmt.Sprintf("%sp%d", device, *number)
	}
	return fmt.Sprintf("%s%d", device, *number)
}

// fetchBack takes the disk off every helper.
func (r *restoring) fetchBack(ctx context.Context, p *runs.Progress) error {
	if r.work.Disk == "" {
		return nil
	}
	if err := r.unmountAgain(ctx, p); err != nil {
		return err
	}
	d, there, err := r.cloud.Disk(ctx, r.work.Disk)
	if err != nil || !there || len(d.Attachments) == 1 && isPlace(d.Attachments[0], r.ownPlace()) {
		return err
	}
	return r.attached(ctx, p, nil)
}

// mounted mounts the disk on the helper, if it is not. A filesystem of the kind that goes
// by its UUID is mounted although the helper's own, of the same image, has the same one.
func (r *restoring) mounted(ctx context.Context, i cloud.Instance) error {
	device, err := r.deviceOn(ctx, i)
	if err != nil {
		return err
	}
	for _, words := range [][]string{
		{"mkdir", "-p", mountPoint},
		{"mount", device, mountPoint},
		{"mount", "-o", "nouuid", device, mountPoint},
	} {
		said, err := r.cloud.AgentCommand(ctx, i.Id, words...)
		if err != nil {
			return fleet.Calling(err)
		}
		switch {
		case words[0] == "mkdir":
		case said.Status == 0,
			strings.Contains(said.Errors, "mounted at "+mountPoint+" already"),
			strings.Contains(said.Errors, "already mounted on "+mountPoint):
			return nil
		case strings.Contains(said.Errors, "does not exist"): // the helper has not seen it yet
			return runs.Temporary(fmt.Errorf("the helper does not see the disk: %s", text.Line(said.Errors, text.MaxLine)))
		case words[1] == "-o":
			return fmt.Errorf("the helper cannot mount the disk: %s", text.Line(said.Errors, text.MaxLine))
		}
	}
	return nil
}

func (r *restoring) mount(ctx context.Context, p *runs.Progress) (string, error) {
	i, err := r.ensureHelper(ctx, p)
	if err != nil {
		return "", err
	}
	to := lentTo(i) // another one, where the first vanished
	if err := r.attached(ctx, p, &to); err != nil {
		return "", err
	}
	return "mounted at " + mountPoint, r.mounted(ctx, i)
}

// onHelper is the means of the disk of the login on a helper, to which it is brought from wherever
// it is.
func (r *restoring) onHelper(ctx context.Context, p *runs.Progress, l record.LoginToSweep) (means.Means, error) {
	i, err := r.ensureHelper(ctx, p)
	if err != nil {
		return nil, err
	}
	d, _, err := r.cloud.Disk(ctx, r.work.Disk)
	if err != nil {
		return nil, fleet.Calling(err)
	}
	is := func(want cloud.Attachment) bool {
		return slices.ContainsFunc(d.Attachments, func(a cloud.Attachment) bool { return isPlace(a, want) })
	}
	if to := lentTo(i); !is(to) { // in an undo, or where a helper vanished
		if is(r.ownPlace()) {
			if _, err := r.stopIt(ctx, p); err != nil {
				return nil, err
			}
		}
		if err := r.attached(ctx, p, &to); err != nil {
			return nil, err
		}
	}
	if err := r.mounted(ctx, i); err != nil {
		return nil, err
	}
	return means.ByAgent(r.cloud, cloud.AgentPlace{Instance: i.Id, Below: mountPoint}, l.OSUser), nil
}

// unmountAgain unmounts the disk on every helper that is there.
func (r *restoring) unmountAgain(ctx context.Context, p *runs.Progress) error {
	there, err := r.helpers(ctx)
	if err != nil {
		return err
	}
	for _, i := range there {
		if i.State != cloud.Running {
			continue
		}
		if err := r.permitHelper(ctx, i); err != nil {
			return err
		}
		for _, words := range [][]string{{"sync"}, {"umount", mountPoint}} {
			said, err := r.cloud.AgentCommand(ctx, i.Id, words...)
			if err != nil {
				return fleet.Calling(err)
			}
			if said.Status != 0 && !strings.Contains(said.Errors, "not mounted") &&
				!strings.Contains(said.Errors, "no mount point") {
				return fmt.Errorf("the helper cannot unmount the disk: %s", text.Line(said.Errors, text.MaxLine))
			}
		}
	}
	return nil
}

func (r *restoring) unmount(ctx context.Context, p *runs.Progress) (string, error) {
	return "unmounted", r.unmountAgain(ctx, p)
}

func (r *restoring) fetch(ctx context.Context, p *runs.Progress) (string, error) {
	return "the disk is off the helper", r.fetchBack(ctx, p)
}

func (r *restoring) reattach(ctx context.Context, p *runs.Progress) (string, error) {
	return "attached as root at " + r.work.Device, r.attachAgain(ctx, p)
}

// helperSize is the smallest size that the cloud offers.
func (s *Service) helperSize(ctx context.Context, in *uuid.UUID) (string, error) {
	sizes, err := s.clouds.Of(in).Sizes(ctx)
	if err != nil {
		return "", problem.FromCloud(err)
	}
	if len(sizes) == 0 {
		return "", &problem.Problem{Kind: problem.Conflict, Code: "no-size", Detail: "the cloud offers no size for a helper"}
	}
	return slices.MinFunc(sizes, func(a, b cloud.Size) int {
		return cmp.Or(cmp.Compare(a.MemoryMib, b.MemoryMib), cmp.Compare(a.DiskGib, b.DiskGib))
	}).Name, nil
}
