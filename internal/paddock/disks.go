package paddock

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
)

// diskRecord is a disk as the cloud keeps it.
type diskRecord struct {
	adapter.Disk
	// Folder is the name of its folder tree.
	Folder string
	// Labelled is whether its system judges files by their security label; Labels are
	// those that are not what the place asks for.
	Labelled bool
	Labels   map[string]string
	// Busy is the operation that is under way on it.
	Busy string
}

func (s *state) disk(id string) (d diskRecord, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		d, err = get[diskRecord](tx, bucketDisks, id)
		return err
	})
	return d, err
}

// changeDisk applies f to a disk and keeps it.
func (s *state) changeDisk(id string, f func(*diskRecord) error) error {
	return s.db.Update(func(tx *bbolt.Tx) error {
		d, err := get[diskRecord](tx, bucketDisks, id)
		if err != nil {
			return fmt.Errorf("disk %s: %w", id, err)
		}
		if err := f(&d); err != nil {
			return err
		}
		return putDisk(tx, d)
	})
}

func attachedKey(instance, disk string) []byte { return []byte(instance + "/" + disk) }

// putDisk keeps a disk, and has it found by the instances that it is attached to.
func putDisk(tx *bbolt.Tx, d diskRecord) error {
	if err := unlinkDisk(tx, d.Id); err != nil {
		return err
	}
	for _, a := range d.Attachments {
		if err := tx.Bucket(bucketAttached).Put(attachedKey(a.Instance, d.Id), nil); err != nil {
			return err
		}
	}
	return put(tx, bucketDisks, d.Id, d)
}

// unlinkDisk has a disk no longer found by any instance.
func unlinkDisk(tx *bbolt.Tx, id string) error {
	before, err := get[diskRecord](tx, bucketDisks, id)
	if errors.Is(err, adapter.ErrNotFound) {
		return nil
	}
	for _, a := range before.Attachments {
		err = errors.Join(err, tx.Bucket(bucketAttached).Delete(attachedKey(a.Instance, id)))
	}
	return err
}

// linkDisks has the disks of a state from before they were found by their instances
// found by them.
func linkDisks(tx *bbolt.Tx) error {
	return tx.Bucket(bucketDisks).ForEach(func(id, _ []byte) error {
		d, err := get[diskRecord](tx, bucketDisks, string(id))
		for _, a := range d.Attachments {
			err = errors.Join(err, tx.Bucket(bucketAttached).Put(attachedKey(a.Instance, d.Id), nil))
		}
		return err
	})
}

func (c *Cloud) folder(d diskRecord) string { return filepath.Join(c.opts.Dir, "disks", d.Folder) }

func (c *Cloud) sizeOf(op operation) int {
	if op.Kind != adapter.OperationKindSnapshot {
		return 0
	}
	d, err := c.state.disk(op.Disk)
	if err != nil {
		return 0
	}
	return d.SizeGib
}

// adoptDisk gives an instance the record of its root disk where it has none yet. The
// filesystem of an image has the same UUID on every disk that was made of it.
func (c *Cloud) adoptDisk(i instance) (instance, error) {
	if i.RootDisk != "" {
		return i, nil
	}
	sum := sha256.Sum256([]byte(i.Image))
	l := layouts[i.Image]
	d := diskRecord{Folder: i.Id, Labelled: l.labelled, Disk: adapter.Disk{
		Id: newID("disk"), Zone: i.Zone, SizeGib: sizeNamed(i.Size).DiskGib, Filesystem: l.filesystem, Encrypted: i.Encrypted,
		FilesystemUuid: fmt.Sprintf("%x-%x-%x-%x-%x", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16]),
		Attachments:    []adapter.Attachment{{Instance: i.Id, Device: l.device, Root: true}},
	}}
	if err := os.MkdirAll(c.folder(d), 0o755); err != nil {
		return i, err
	}
	err := c.state.db.Update(func(tx *bbolt.Tx) (err error) {
		if i, err = get[instance](tx, bucketInstances, i.Id); err != nil {
			return err
		}
		i.RootDisk, i.Device = d.Id, l.device
		return errors.Join(putDisk(tx, d), put(tx, bucketInstances, i.Id, i))
	})
	return i, err
}

// removeDisks removes the disks of an instance that ends, other than those that were
// only brought to it.
func (c *Cloud) removeDisks(id string) error {
	i, err := c.state.instance(id)
	if err != nil {
		return err
	}
	list, err := c.state.attachedTo(id)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Id == i.RootDisk {
			continue
		}
		if err := c.state.changeDisk(d.Id, func(d *diskRecord) error { d.without(id); return nil }); err != nil {
			return err
		}
	}
	d, err := c.state.disk(i.RootDisk)
	if errors.Is(err, adapter.ErrNotFound) {
		return nil
	}
	if err == nil && slices.ContainsFunc(d.Attachments, func(a adapter.Attachment) bool { return a.Instance != id }) {
		return nil // it is somewhere else now
	}
	if err != nil {
		return err
	}
	return cmp.Or(os.RemoveAll(c.folder(d)), c.state.db.Update(func(tx *bbolt.Tx) error {
		return cmp.Or(unlinkDisk(tx, d.Id), tx.Bucket(bucketDisks).Delete([]byte(d.Id)))
	}))
}

func (d *diskRecord) without(instance string) {
	d.Attachments = slices.DeleteFunc(d.Attachments, func(a adapter.Attachment) bool { return a.Instance == instance })
}

// attachedTo returns the disks that are attached to an instance, in the order of their ids.
func (s *state) attachedTo(id string) (list []diskRecord, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		prefix := attachedKey(id, "")
		c := tx.Bucket(bucketAttached).Cursor()
		for k, _ := c.Seek(prefix); bytes.HasPrefix(k, prefix); k, _ = c.Next() {
			d, err := get[diskRecord](tx, bucketDisks, string(k[len(prefix):]))
			if err != nil {
				return err
			}
			list = append(list, d)
		}
		return nil
	})
	return list, err
}

// checkRoot returns an error unless the disk that the system starts from is there
// under its own name.
func (c *Cloud) checkRoot(i instance) error {
	list, err := c.state.attachedTo(i.Id)
	if err != nil {
		return err
	}
	for _, d := range list {
		for _, a := range d.Attachments {
			if a.Instance != i.Id || !a.Root {
				continue
			}
			if a.Device != i.Device || d.Id != i.RootDisk {
				return fmt.Errorf(
					"the system looks for its root at %s and finds none: the disk %s is attached as %s", i.Device, d.Id,
					a.Device,
				)
			}
			return nil
		}
	}
	return errors.New("there is no root disk to start from")
}

func (a api) ListDisks(_ context.Context, r adapter.ListDisksRequestObject) (adapter.ListDisksResponseObject, error) {
	out := adapter.ListDisks200JSONResponse{}
	if r.Params.Disk != nil {
		d, err := a.state.disk(*r.Params.Disk)
		if errors.Is(err, adapter.ErrNotFound) {
			return out, nil
		}
		return append(out, d.Disk), err
	}
	list, err := a.disksOf(r.Params.Instance)
	for _, d := range list {
		out = append(out, d.Disk)
	}
	return out, err
}

// disksOf returns the disks of an instance, or all.
func (a api) disksOf(instance *string) ([]diskRecord, error) {
	if instance != nil {
		return a.state.attachedTo(*instance)
	}
	return all[diskRecord](a.state, bucketDisks, "", noLimit, nil)
}

func (a api) AttachDisk(
	ctx context.Context, r adapter.AttachDiskRequestObject,
) (adapter.AttachDiskResponseObject, error) {
	want := adapter.Attachment{Instance: r.Body.Instance, Device: r.Body.Device, Root: r.Body.Root}
	if !strings.HasPrefix(want.Device, "/dev/") {
		return nil, adapter.BadRequest(fmt.Sprintf("%q is no device name such as /dev/vdb", want.Device))
	}
	op, err := a.beginOn(ctx, r.Disk, adapter.OperationKindAttach, want, func(d diskRecord) (bool, error) {
		if slices.Contains(d.Attachments, want) {
			return true, nil
		}
		i, err := a.state.instance(want.Instance)
		switch {
		case err != nil:
			return false, fmt.Errorf("instance %s: %w", want.Instance, err)
		case i.State == adapter.InstanceStateDeleted || i.State == adapter.InstanceStateDeleting:
			return false, adapter.Conflict(i.Name + " is " + string(i.State))
		case i.Zone != d.Zone:
			return false, adapter.Conflict(fmt.Sprintf("the disk is in the zone %s, and %s in %s", d.Zone, i.Name, i.Zone))
		case want.Root && i.State != adapter.InstanceStateStopped:
			return false, adapter.Conflict(fmt.Sprintf("%s is %s; a root disk is attached while it is stopped", i.Name, i.State))
		case len(d.Attachments) > 0 && (r.Body.Shared == nil || !*r.Body.Shared):
			return false, adapter.Conflict("the disk is attached to " + d.Attachments[0].Instance)
		}
		return false, nil
	})
	return adapter.AttachDisk202JSONResponse(a.progress(op)), err
}

func (a api) DetachDisk(
	ctx context.Context, r adapter.DetachDiskRequestObject,
) (adapter.DetachDiskResponseObject, error) {
	op, err := a.beginOn(
		ctx,
		r.Disk,
		adapter.OperationKindDetach,
		adapter.Attachment{Instance: r.Body.Instance},
		func(d diskRecord) (bool, error) {
			at := slices.IndexFunc(d.Attachments, func(at adapter.Attachment) bool { return at.Instance == r.Body.Instance })
			if at < 0 {
				return true, nil
			}
			i, err := a.state.instance(r.Body.Instance)
			if err != nil {
				return false, fmt.Errorf("instance %s: %w", r.Body.Instance, err)
			}
			if d.Attachments[at].Root && i.State != adapter.InstanceStateStopped {
				return false, adapter.Conflict(
					fmt.Sprintf("%s is %s; its root disk is detached while it is stopped", i.Name, i.State),
				)
			}
			for point, id := range i.Mounts {
				if id == d.Id {
					return false, adapter.Conflict("the disk is mounted at " + point)
				}
			}
			return false, nil
		},
	)
	return adapter.DetachDisk202JSONResponse(a.progress(op)), err
}

// beginOn starts an operation on a disk, or answers with the same one that is under
// way; where judge finds that its end is reached, with one that is done.
func (c *Cloud) beginOn(
	ctx context.Context, id string, kind adapter.OperationKind, want adapter.Attachment,
	judge func(diskRecord) (bool, error),
) (operation, error) {
	defer c.lock(id)()
	d, err := c.state.disk(id)
	if err != nil {
		return operation{}, fmt.Errorf("disk %s: %w", id, err)
	}
	if d.Busy != "" {
		op, err := c.state.operation(d.Busy)
		switch {
		case err == nil && op.State == adapter.OperationStateRunning && op.Kind == kind && op.Attachment == want:
			return op, nil
		case err == nil && op.State == adapter.OperationStateRunning:
			return op, adapter.Conflict(fmt.Sprintf("an %s is under way on the disk", op.Kind))
		}
	}
	done, err := judge(d)
	if err != nil {
		return operation{}, err
	}
	op := c.newOperation(ctx, want.Instance, kind)
	op.Disk, op.Attachment = id, want
	if done {
		op.State, op.Percent = adapter.OperationStateDone, 100
	}
	err = c.state.db.Update(func(tx *bbolt.Tx) error {
		d.Busy = op.Id
		return errors.Join(put(tx, bucketOperations, op.Id, op), putDisk(tx, d))
	})
	if err == nil && !done {
		c.run(op)
	}
	return op, err
}

func (c *Cloud) attach(op operation) error {
	return c.state.changeDisk(op.Disk, func(d *diskRecord) error {
		if !slices.Contains(d.Attachments, op.Attachment) {
			d.Attachments = append(d.Attachments, op.Attachment)
		}
		return nil
	})
}

func (c *Cloud) detach(op operation) error {
	return c.state.changeDisk(op.Disk, func(d *diskRecord) error { d.without(op.Attachment.Instance); return nil })
}

// locate returns the disk that holds a path of an instance, and the path on it.
func (c *Cloud) locate(i instance, name string) (*disk, string, error) {
	for point, id := range i.Mounts {
		if rest, under := strings.CutPrefix(name, point+"/"); under {
			d, err := c.openDiskNamed(id)
			return d, "/" + rest, err
		}
	}
	d, err := c.openDisk(i.Id)
	return d, name, err
}

// label notes the security label of a file, where the disk's system judges by it.
func (d *disk) label(name, label string) error {
	return d.state.changeDisk(d.id, func(r *diskRecord) error {
		if !r.Labelled {
			return nil
		}
		if r.Labels == nil {
			r.Labels = map[string]string{}
		}
		r.Labels[name] = label
		return nil
	})
}

// labelOf returns the label of a file, "" for the one that its place asks for.
func (d *disk) labelOf(name string) string {
	r, err := d.state.disk(d.id)
	if err != nil {
		return ""
	}
	return r.Labels[name]
}

// MoveAddress gives the static address of one instance to another.
func (a api) MoveAddress(
	_ context.Context, r adapter.MoveAddressRequestObject,
) (adapter.MoveAddressResponseObject, error) {
	if r.Instance == r.Body.To {
		return nil, adapter.BadRequest("an address is moved from one instance to another")
	}
	first, second := min(r.Instance, r.Body.To), max(r.Instance, r.Body.To)
	defer a.lock(first)()
	defer a.lock(second)()
	var from, to instance
	moved := false
	err := a.state.db.Update(func(tx *bbolt.Tx) (err error) {
		if from, err = get[instance](tx, bucketInstances, r.Instance); err != nil {
			return fmt.Errorf("instance %s: %w", r.Instance, err)
		}
		if to, err = get[instance](tx, bucketInstances, r.Body.To); err != nil {
			return fmt.Errorf("instance %s: %w", r.Body.To, err)
		}
		switch {
		case to.StaticAddress && !from.StaticAddress:
			return nil
		case to.StaticAddress:
			return adapter.Conflict(to.Name + " has a static address of its own")
		case !from.StaticAddress:
			return adapter.Conflict(from.Name + " has no static address")
		case from.Region != to.Region:
			return adapter.Conflict("an address stays in its region")
		}
		moved = true
		from.PublicAddress, to.PublicAddress = to.PublicAddress, from.PublicAddress
		from.StaticAddress, to.StaticAddress = false, true
		if from.State == adapter.InstanceStateStopped {
			if err := giveAddress(tx, from.PublicAddress); err != nil {
				return err
			}
			from.PublicAddress = ""
		}
		return errors.Join(put(tx, bucketInstances, from.Id, from), put(tx, bucketInstances, to.Id, to))
	})
	if err != nil || !moved {
		return adapter.MoveAddress204Response{}, err
	}
	for _, i := range []instance{from, to} {
		a.unlisten(i.Id)
	}
	for _, i := range []instance{from, to} {
		if i.State == adapter.InstanceStateRunning {
			err = errors.Join(err, a.listen(i))
		}
	}
	return adapter.MoveAddress204Response{}, err
}
