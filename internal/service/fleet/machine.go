package fleet

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// Machine is one instance as its cloud has it, for the steps of runs.
type Machine struct {
	Instance record.Instance
	// Cloud is the one that it runs in.
	Cloud *cloud.Cloud
	fleet *Service
}

// Machine returns the instance for the steps of a run.
func (s *Service) Machine(i record.Instance) *Machine {
	return &Machine{Instance: i, Cloud: s.clouds.Of(i.InCloud), fleet: s}
}

func (m *Machine) Set(ctx context.Context, c record.InstanceChange) error {
	return m.fleet.store.ChangeInstance(ctx, m.Instance.ID, c)
}

// EndLaunched ends the instance that was asked for with the request token, if there is one.
func (m *Machine) EndLaunched(ctx context.Context, p *runs.Progress, token string) error {
	i, there, err := m.Cloud.Launched(ctx, token)
	if err != nil || !there || i.State == cloud.Deleted {
		return Calling(err)
	}
	if i.State == cloud.Deleting {
		return runs.Temporary(fmt.Errorf("%s is ending", i.Name))
	}
	op, err := m.Cloud.Delete(ctx, i.Id)
	if err != nil {
		if cloud.NotThere(err) {
			return nil
		}
		return Calling(err)
	}
	return m.Await(ctx, p, op.Id)
}

// Await watches an operation until it has ended.
func (m *Machine) Await(ctx context.Context, p *runs.Progress, id string) error {
	return m.awaitUntil(ctx, p, id, func(cloud.Operation) bool { return false })
}

// awaitUntil watches an operation until it has ended or reached holds.
func (m *Machine) awaitUntil(
	ctx context.Context, p *runs.Progress, id string, reached func(cloud.Operation) bool,
) error {
	if id == noOperation {
		return nil
	}
	for until, pause := m.fleet.now().Add(operationPatience), firstPoll; ; pause = min(2*pause, pollEvery) {
		op, err := m.Cloud.Operation(ctx, id)
		switch {
		case err != nil:
			return Calling(err)
		case op.State == "failed":
			why := "without saying why"
			if op.Error != nil {
				why = *op.Error
			}
			return fmt.Errorf("the cloud could not %s: %s", op.Kind, why)
		case op.State == "done" || reached(op):
			return nil
		case m.fleet.now().After(until):
			return fmt.Errorf("the cloud has not ended its %s after %s", op.Kind, operationPatience)
		}
		if err := p.Tell(ctx, op.Percent, ""); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// NoteAddresses takes over what the cloud says of the instance's addresses.
func (m *Machine) NoteAddresses(ctx context.Context) (cloud.Instance, error) {
	fresh, err := m.fleet.store.InstanceByID(ctx, m.Instance.ID)
	if err != nil {
		return cloud.Instance{}, err
	}
	i, err := m.Cloud.Instance(ctx, fresh.CloudID)
	if err != nil {
		return i, Calling(err)
	}
	change := record.InstanceChange{
		PrivateAddress: &i.PrivateAddress, PublicAddress: &i.PublicAddress, SSHPort: i.SshPort,
	}
	if fresh.PublicAddress != i.PublicAddress {
		change.AddressChangedAt = new(m.fleet.now())
		if fresh.PublicAddress != "" { // a stop gives it back, and the next start brings another
			change.AddressBefore = fresh.PublicAddress
		}
	}
	return i, m.Set(ctx, change)
}

// bootPatience is for how long after its launch an instance may not have written its host keys to its console yet:
// cloud-init does so at its end, a while after the SSH server lets people in.
const bootPatience = 10 * time.Minute

// lookAgain is how soon its console is looked at again.
const lookAgain = 2 * time.Second

// PinBoot pins the host keys of the boot output, or compares them with the pinned ones.
func (m *Machine) PinBoot(ctx context.Context) (string, error) {
	i, err := m.fleet.store.InstanceByID(ctx, m.Instance.ID)
	if err != nil {
		return "", err
	}
	var seen []keypair.Public
	for {
		output, err := m.Cloud.BootOutput(ctx, i.CloudID)
		if err != nil {
			return "", Calling(err)
		}
		seen = cloud.HostKeys(output)
		if len(seen) > 0 || len(i.HostKeys) > 0 || m.fleet.now().Sub(i.CreatedAt) > bootPatience {
			break
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-time.After(lookAgain):
		}
	}
	if len(i.HostKeys) > 0 && len(seen) == 0 { // after a start that was not the first
		return "its console shows no host keys; those of its SSH server are compared at each login", nil
	}
	if len(i.HostKeys) > 0 {
		for _, k := range seen {
			if !pinned(i.HostKeys, k) {
				return "", fmt.Errorf("%w: the boot output shows %s", sshio.ErrHostKey, keypair.FormatSHA256(k.SHA256()))
			}
		}
		return "the host keys are the pinned ones", nil
	}
	if len(seen) == 0 {
		return "", errors.New("the boot output shows no host key, so the instance cannot be told from another")
	}
	pins := make([]record.HostKey, len(seen))
	for n, k := range seen {
		pins[n] = record.HostKey{
			ID:         store.NewID(),
			InstanceID: i.ID,
			Algorithm:  k.Algorithm,
			Blob:       k.Blob,
			SHA256:     k.SHA256(),
			Learnt:     bootLearnt,
			PinnedAt:   m.fleet.now(),
		}
	}
	return "host key " + keypair.FormatSHA256(
			seen[0].SHA256(),
		) + " (" + seen[0].Type + ")", m.fleet.store.PinHostKeys(
			ctx, pins,
		)
}
