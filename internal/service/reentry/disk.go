package reentry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
)

// The route over a helper's disk. Each step brings about a state, whatever it finds, so
// that it can be repeated after a cut and undone from anywhere.

const (
	// lentDevice and mountPoint are where the disk is on the helper.
	lentDevice = "/dev/vdx"
	mountPoint = "/mnt/plumlatch"
	// maxHelpers is how many helpers are made for one restore, where they vanish.
	maxHelpers = 5
)

// ownPlace is where the root disk belongs.
func (r *restoring) ownPlace() cloud.Attachment {
	return cloud.Attachment{Instance: r.instance.CloudID, Device: r.work.Device, Root: true}
}

// bring brings an instance to a state, which it may be in or on the way to. Where the
// cloud has no call for that, somebody is told to.
func (r *restoring) bring(
	ctx context.Context,
	p *runs.Progress,
	id string,
	end cloud.InstanceState,
	ask func(*cloud.Cloud, context.Context, string) (cloud.Operation, error),
) error {
	can, _, err := r.fleet.Outline(ctx)
	if err != nil {
		return fleet.Calling(err)
	}
	for tries := 1; ; {
		i, err := r.cloud.Instance(ctx, id)
		if err != nil {
			return fleet.Calling(err)
		}
		switch {
		case i.State == end:
			return nil
		case i.State == "stopping" || i.State == "starting":
			return runs.Temporary(fmt.Errorf("%s is %s", i.Name, i.State))
		case !slices.Contains(can.Capabilities, cloud.CanStartStop):
			return runs.WaitFor(
				record.Waits{
					Who:    r.run.RequestedBy,
					What:   fmt.Sprintf("to have %s %s, since the cloud has no call for it", i.Name, end),
					ByHand: true,
				},
			)
		}
		op, err := ask(r.cloud, ctx, id)
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

func (r *restoring) noteState(ctx context.Context, state string) error {
	if _, err := r.machine.NoteAddresses(ctx); err != nil {
		return err
	}
	return r.machine.Set(ctx, map[string]any{"state": state})
}

func (r *restoring) stopIt(ctx context.Context, p *runs.Progress) (string, error) {
	if err := r.bring(ctx, p, r.instance.CloudID, "stopped", (*cloud.Cloud).Stop); err != nil {
		return "", err
	}
	return "it is stopped", r.noteState(ctx, "stopped")
}

// startAgain starts the instance, if it ran before.
func (r *restoring) startAgain(ctx context.Context, p *runs.Progress) error {
	if r.work.Before == nil || r.work.Before.State != "running" {
		return nil
	}
	if err := r.bring(ctx, p, r.instance.CloudID, "running", (*cloud.Cloud).Start); err != nil {
		return err
	}
	return r.noteState(ctx, "running")
}

// stopAgain stops the instance, if it was stopped before.
func (r *restoring) stopAgain(ctx context.Context, p *runs.Progress) error {
	if r.work.Before == nil || r.work.Before.State != "stopped" {
		return nil
	}
	_, err := r.stopIt(ctx, p)
	return err
}

func (r *restoring) startIt(ctx context.Context, p *runs.Progress) (string, error) {
	if err := r.bring(ctx, p, r.instance.CloudID, "running", (*cloud.Cloud).Start); err != nil {
		return "", err
	}
	if err := r.noteState(ctx, "running"); err != nil {
		return "", err
	}
	said, err := r.compareBoot(ctx)
	i, addressErr := r.store.InstanceByID(ctx, r.instance.ID)
	if before := r.work.Before; err == nil && addressErr == nil && before != nil && i.PublicAddress != before.Address &&
		before.Address != "" {
		said += fmt.Sprintf("; its address is %s now, and was %s", i.PublicAddress, before.Address)
	}
	return said, cmp.Or(err, addressErr)
}

// compareBoot compares the host keys of the boot output with the pinned ones, where the
// cloud shows one.
func (r *restoring) compareBoot(ctx context.Context) (string, error) {
	can, _, err := r.fleet.Outline(ctx)
	if err != nil {
		return "", fleet.Calling(err)
	}
	if !slices.Contains(can.Capabilities, cloud.CanBootOutput) {
		return "it runs", nil
	}
	return r.machine.PinBoot(ctx)
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
			return fmt.Errorf("the cloud does not know the disk %s any more", id)
		case want == nil && len(d.Attachments) == 0, want != nil && slices.Equal(d.Attachments, []cloud.Attachment{*want}):
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
		if there && i.State != "terminated" {
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
		if i.State == "running" {
			return i, r.permitHelper(ctx, i)
		}
	}
	n := r.work.Helpers
	launching := len(there) > 0 && there[len(there)-1].State == "launching"
	if !launching {
		if n++; n > maxHelpers {
			return cloud.Instance{}, fmt.Errorf("%d helpers were made, and none stays", maxHelpers)
		}
		r.work.Helpers = n
		if err := p.Save(ctx); err != nil {
			return cloud.Instance{}, err
		}
	}
	op, err := r.cloud.Launch(
		ctx,
		cloud.Launch{
			RequestToken: r.helperToken(n),
			Name:         "helper-of-" + r.instance.Name,
			Image:        r.work.HelperImage,
			Size:         r.work.HelperSize,
			Zone:         r.instance.Zone,
		},
	)
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
	return "attached as " + lentDevice, r.attached(ctx, p, &to)
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
	if err != nil || !there || slices.Equal(d.Attachments, []cloud.Attachment{r.ownPlace()}) {
		return err
	}
	return r.attached(ctx, p, nil)
}

// mounted mounts the disk on the helper, if it is not. A filesystem of the kind that goes
// by its UUID is mounted although the helper's own, of the same image, has the same one.
func (r *restoring) mounted(ctx context.Context, i cloud.Instance) error {
	for _, words := range [][]string{
		{"mkdir", "-p", mountPoint},
		{"mount", lentDevice, mountPoint},
		{"mount", "-o", "nouuid", lentDevice, mountPoint},
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
	if to := lentTo(i); !slices.Contains(d.Attachments, to) { // in an undo, or where a helper vanished
		if slices.Contains(d.Attachments, r.ownPlace()) {
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
		if i.State != "running" {
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
