package paddock

import (
	"context"
	"errors"
	"fmt"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
	"plumlatch/internal/paddock/guest"
)

// phase is one part of an operation: it takes a while, then do takes effect. A
// phase that was interrupted is done again from its beginning, so do must be
// repeatable.
type phase struct {
	name string
	took time.Duration
	do   func(c *Cloud, op operation) error
}

// phases gives those of a kind of operation; size is that of the disk that is copied, in GiB.
func (c *Cloud) phases(kind adapter.OperationKind, size int) []phase {
	l := c.opts.Latency
	switch kind {
	case adapter.OperationKindLaunch:
		return []phase{
			{"disk", l.Disk, (*Cloud).launchDisk},
			{"instance", l.Instance, (*Cloud).takeAddresses},
			{"boot", l.Boot, (*Cloud).boot},
		}
	case adapter.OperationKindStart:
		return []phase{{"instance", l.Start, (*Cloud).takeAddresses}, {"boot", l.Boot, (*Cloud).boot}}
	case adapter.OperationKindAttach:
		return []phase{{"attach", l.Attach, (*Cloud).attach}}
	case adapter.OperationKindDetach:
		return []phase{{"detach", l.Detach, (*Cloud).detach}}
	case adapter.OperationKindSnapshot:
		return []phase{{"copy", l.SnapshotGiB * time.Duration(size), (*Cloud).copyDisk}}
	case adapter.OperationKindStop:
		return []phase{{"stop", l.Stop, (*Cloud).halt}}
	default:
		return []phase{{"delete", l.Delete, (*Cloud).delete}}
	}
}

// run does what is left of an operation in the background.
func (c *Cloud) run(op operation) {
	c.work.Add(1)
	go func() {
		defer c.work.Done()
		reached := false
		for _, p := range c.phases(op.Kind, c.sizeOf(op)) {
			reached = reached || p.name == op.Phase
			if !reached {
				continue
			}
			var err error
			if op.Phase != p.name {
				if _, op, err = c.state.change(
					op,
					func(_ *instance, o *operation) { o.Phase, o.PhaseSince = p.name, time.Now() },
				); err != nil {
					c.fail(op, err)
					return
				}
			}
			select {
			case <-c.ctx.Done():
				return
			case <-time.After(time.Until(op.PhaseSince.Add(p.took))):
			}
			if err := c.takeEffect(op, p); err != nil {
				c.fail(op, err)
				return
			}
		}
		if _, _, err := c.state.change(op, func(_ *instance, o *operation) {
			o.State, o.Percent = adapter.OperationStateDone, 100
		}); err != nil {
			c.log.Error("end an operation", "operation", op.Id, "err", err)
		}
	}()
}

var errSuperseded = errors.New("another operation was begun on the instance")

func (c *Cloud) takeEffect(op operation, p phase) error {
	defer c.lock(op.Instance)()
	i, err := c.state.instance(op.Instance)
	if err != nil {
		return err
	}
	if i.Operation != op.Id && op.Disk == "" {
		return errSuperseded
	}
	if op.Broken {
		return errors.New("the cloud broke it off")
	}
	return p.do(c, op)
}

func (c *Cloud) fail(op operation, cause error) {
	c.log.Error("operation failed", "kind", op.Kind, "instance", op.Instance, "err", cause)
	_, _, err := c.state.change(op, func(i *instance, o *operation) {
		o.State, o.Error = adapter.OperationStateFailed, new(cause.Error())
		if i.Operation != o.Id {
			return
		}
		switch o.Kind {
		case adapter.OperationKindStart: // what does not start stays stopped
			i.State = adapter.InstanceStateStopped
		case adapter.OperationKindStop:
			i.State = adapter.InstanceStateRunning
		default:
			i.State = adapter.InstanceStateFailed
		}
	})
	if err != nil {
		c.log.Error("record a failure", "operation", op.Id, "err", err)
	}
}

// leadsTo is the state that the kinds of operation end in.
var leadsTo = map[adapter.OperationKind]adapter.InstanceState{
	adapter.OperationKindStart: adapter.InstanceStateRunning, adapter.OperationKindStop: adapter.InstanceStateStopped,
}

// begin records a new operation on an instance in one of the given states and
// starts it. It answers with the operation of that kind that is under way, or that led
// to where the instance is.
func (c *Cloud) begin(
	ctx context.Context, id string, kind adapter.OperationKind, during adapter.InstanceState,
	from ...adapter.InstanceState,
) (operation, error) {
	defer c.lock(id)()
	var op operation
	fresh := true
	err := c.state.db.Update(func(tx *bbolt.Tx) error {
		i, err := get[instance](tx, bucketInstances, id)
		if err != nil {
			return fmt.Errorf("instance %s: %w", id, err)
		}
		if i.State == during || i.State == leadsTo[kind] {
			op, err = get[operation](tx, bucketOperations, i.Operation)
			if err != nil || op.Kind == kind && op.State != adapter.OperationStateFailed {
				fresh = false
				return err
			}
		}
		ok := false
		for _, s := range from {
			ok = ok || i.State == s
		}
		if !ok {
			return adapter.Conflict(fmt.Sprintf("instance %s is %s, so it cannot %s", i.Name, i.State, kind))
		}
		op = c.newOperation(ctx, id, kind)
		i.State, i.Operation = during, op.Id
		return errors.Join(put(tx, bucketInstances, id, i), put(tx, bucketOperations, op.Id, op))
	})
	if err == nil && fresh {
		c.run(op)
	}
	return op, err
}

func (c *Cloud) newOperation(ctx context.Context, id string, kind adapter.OperationKind) operation {
	return operation{
		Operation: adapter.Operation{
			Id:       newID("op"),
			Kind:     kind,
			Instance: id,
			State:    adapter.OperationStateRunning,
			Phase:    c.phases(kind, 0)[0].name,
		},
		PhaseSince: time.Now(),
		Broken:     isBroken(ctx),
	}
}

// progress returns the operation with its percentage as of now.
func (c *Cloud) progress(op operation) adapter.Operation {
	if op.State == adapter.OperationStateRunning {
		for _, p := range c.phases(op.Kind, c.sizeOf(op)) {
			if p.name == op.Phase && p.took > 0 {
				op.Percent = min(99, int(100*time.Since(op.PhaseSince)/p.took))
			}
		}
	}
	return op.Operation
}

func (c *Cloud) launchDisk(op operation) error {
	i, err := c.state.instance(op.Instance)
	if err != nil {
		return err
	}
	image, _ := imageNamed(i.Image)
	if i, err = c.adoptDisk(i); err != nil {
		return err
	}
	if i.Copied != "" {
		return c.layCopy(i)
	}
	return c.makeDisk(i, image)
}

func (c *Cloud) takeAddresses(op operation) error {
	return c.state.db.Update(func(tx *bbolt.Tx) error {
		i, err := get[instance](tx, bucketInstances, op.Instance)
		if err != nil {
			return err
		}
		if i.PrivateAddress == "" {
			if i.PrivateAddress, err = takeAddress(tx, c.opts.Block, i.Id, false); err != nil {
				return err
			}
		}
		if i.PublicAddress == "" {
			if i.PublicAddress, err = takeAddress(tx, c.opts.Block, i.Id, true); err != nil {
				return err
			}
		}
		return put(tx, bucketInstances, i.Id, i)
	})
}

func (c *Cloud) boot(op operation) error {
	i, err := c.state.instance(op.Instance)
	if err != nil {
		return err
	}
	image, _ := imageNamed(i.Image)
	if err := c.checkRoot(i); err != nil {
		return err
	}
	d, err := c.openDisk(i.Id)
	if err != nil {
		return err
	}
	defer d.Close()
	if i.Copied != "" && !i.Booted {
		if err := d.RemoveHostKeys(); err != nil {
			return err
		}
	}
	if err := d.MakeHostKeys(); err != nil {
		return err
	}
	output := fmt.Sprintf("%s on %s\n", image.Title, i.Name)
	if !i.Booted {
		said, err := d.FirstBoot(image, i.UserData, i.Copied != "")
		if err != nil {
			return err
		}
		output += said
	}
	keys, err := d.HostKeys()
	if err != nil {
		return err
	}
	output += guest.Fingerprints(i.Name, keys) + i.Name + " login: \n"
	password := i.Password
	if image.Family == adapter.ImageFamilyWindows && password == nil {
		if password, err = d.NewPassword(image.LoginUser, guest.FirstKeyIn(i.UserData)); err != nil {
			return err
		}
	}
	if err := c.listen(i); err != nil {
		return err
	}
	_, _, err = c.state.change(op, func(i *instance, _ *operation) {
		i.Password = password
		i.Booted, i.BootOutput, i.State = true, output, adapter.InstanceStateRunning
	})
	if err == nil {
		c.copyMetadataKeys(i.Id)
	}
	return err
}

func (c *Cloud) halt(op operation) error {
	c.unlisten(op.Instance)
	if d, err := c.openDisk(op.Instance); err == nil { // the temporary disk is wiped
		err = d.Root.RemoveAll(scratch)
		d.Close()
		if err != nil {
			return err
		}
	}
	return c.state.db.Update(func(tx *bbolt.Tx) error {
		i, err := get[instance](tx, bucketInstances, op.Instance)
		if err != nil {
			return err
		}
		if !i.StaticAddress {
			if err := giveAddress(tx, i.PublicAddress); err != nil {
				return err
			}
			i.PublicAddress = ""
		}
		i.State, i.BootOutput, i.Mounts = adapter.InstanceStateStopped, "", nil
		return put(tx, bucketInstances, i.Id, i)
	})
}

func (c *Cloud) delete(op operation) error {
	c.unlisten(op.Instance)
	if err := c.removeDisks(op.Instance); err != nil {
		return err
	}
	return c.state.db.Update(func(tx *bbolt.Tx) error {
		i, err := get[instance](tx, bucketInstances, op.Instance)
		if err != nil {
			return err
		}
		if err := errors.Join(giveAddress(tx, i.PublicAddress), giveAddress(tx, i.PrivateAddress)); err != nil {
			return err
		}
		i.PublicAddress, i.PrivateAddress, i.State, i.UserData, i.BootOutput = "", "", adapter.InstanceStateDeleted, "", ""
		return put(tx, bucketInstances, i.Id, i)
	})
}
