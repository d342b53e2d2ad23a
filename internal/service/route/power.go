package route

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
)

// bring brings an instance to a state, which it may be in or on the way to. Where the
// cloud has no call for that, somebody is told to.
func (r *restoring) bring(
	ctx context.Context, p *runs.Progress, id string, end cloud.InstanceState,
	ask func(*cloud.Cloud, context.Context, string) (cloud.Operation, error),
) error {
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
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
		case i.State == cloud.Stopping || i.State == cloud.Starting:
			return runs.Temporary(fmt.Errorf("%s is %s", i.Name, i.State))
		case !slices.Contains(can.Capabilities, cloud.CanStartStop):
			return runs.WaitFor(record.Waits{
				Who:    r.run.RequestedBy,
				What:   fmt.Sprintf("to have %s %s, since the cloud has no call for it", i.Name, end),
				ByHand: true,
			})
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

func (r *restoring) noteState(ctx context.Context, state machines.State) error {
	if _, err := r.machine.NoteAddresses(ctx); err != nil {
		return err
	}
	return r.machine.Set(ctx, record.InstanceChange{State: state})
}

func (r *restoring) stopIt(ctx context.Context, p *runs.Progress) (string, error) {
	if err := r.bring(ctx, p, r.instance.CloudID, cloud.Stopped, (*cloud.Cloud).Stop); err != nil {
		return "", err
	}
	return "it is stopped", r.noteState(ctx, machines.Stopped)
}

// startAgain starts the instance, if it ran before.
func (r *restoring) startAgain(ctx context.Context, p *runs.Progress) error {
	if r.work.Before == nil || r.work.Before.State != machines.Running {
		return nil
	}
	if err := r.bring(ctx, p, r.instance.CloudID, cloud.Running, (*cloud.Cloud).Start); err != nil {
		return err
	}
	return r.noteState(ctx, machines.Running)
}

// stopAgain stops the instance, if it was stopped before.
func (r *restoring) stopAgain(ctx context.Context, p *runs.Progress) error {
	if r.work.Before == nil || r.work.Before.State != machines.Stopped {
		return nil
	}
	_, err := r.stopIt(ctx, p)
	return err
}

func (r *restoring) startIt(ctx context.Context, p *runs.Progress) (string, error) {
	if err := r.bring(ctx, p, r.instance.CloudID, cloud.Running, (*cloud.Cloud).Start); err != nil {
		return "", err
	}
	if err := r.noteState(ctx, machines.Running); err != nil {
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
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil {
		return "", fleet.Calling(err)
	}
	if !slices.Contains(can.Capabilities, cloud.CanBootOutput) {
		return "it runs", nil
	}
	return r.machine.PinBoot(ctx)
}
