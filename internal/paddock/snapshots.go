package paddock

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
)

// snapshot is a copy of a disk. It is listed once it is done.
type snapshot struct {
	adapter.Snapshot
	Image string
	Done  bool
}

func (s *state) snapshot(id string) (out snapshot, err error) {
	err = s.db.View(func(tx *bbolt.Tx) error {
		out, err = get[snapshot](tx, bucketSnapshots, id)
		return err
	})
	return out, err
}

func (a api) ListSnapshots(
	_ context.Context, r adapter.ListSnapshotsRequestObject,
) (adapter.ListSnapshotsResponseObject, error) {
	only := ""
	if r.Params.RequestToken != nil {
		err := a.state.db.View(func(tx *bbolt.Tx) error {
			op, err := get[operation](tx, bucketTokens, "copy "+*r.Params.RequestToken)
			only = op.Copy.Id
			return err
		})
		if errors.Is(err, adapter.ErrNotFound) {
			return adapter.ListSnapshots200JSONResponse{}, nil
		}
		if err != nil {
			return nil, err
		}
	}
	list, err := all(a.state, bucketSnapshots, "", noLimit, func(s snapshot) bool {
		return s.Done && (r.Params.Instance == nil || s.Instance == *r.Params.Instance) && (only == "" || s.Id == only)
	})
	slices.SortFunc(list, func(x, y snapshot) int { return x.CreatedAt.Compare(y.CreatedAt) })
	out := adapter.ListSnapshots200JSONResponse{}
	for _, s := range list {
		out = append(out, s.Snapshot)
	}
	return out, err
}

// MakeSnapshot copies the folder tree that is the disk of the instance.
func (a api) MakeSnapshot(
	ctx context.Context, r adapter.MakeSnapshotRequestObject,
) (adapter.MakeSnapshotResponseObject, error) {
	i, err := a.state.instance(r.Body.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Body.Instance, err)
	}
	if r.Body.Name == "" || r.Body.RequestToken == "" {
		return nil, adapter.BadRequest("a snapshot needs a name and a request_token")
	}
	op := a.newOperation(ctx, i.Id, adapter.OperationKindSnapshot)
	op.Disk, op.Copy = i.RootDisk, adapter.Snapshot{
		Id:        newID("snap"),
		Name:      r.Body.Name,
		Instance:  i.Id,
		Kind:      r.Body.Kind,
		CreatedAt: time.Now().UTC(),
	}
	op.Snapshot = &op.Copy.Id
	fresh := true
	err = a.state.db.Update(func(tx *bbolt.Tx) error {
		token := "copy " + r.Body.RequestToken
		if before, err := get[operation](tx, bucketTokens, token); err == nil {
			fresh = false
			op, err = get[operation](tx, bucketOperations, before.Id)
			return err
		}
		return errors.Join(put(tx, bucketTokens, token, op), put(tx, bucketOperations, op.Id, op),
			put(tx, bucketSnapshots, op.Copy.Id, snapshot{Snapshot: op.Copy, Image: i.Image}))
	})
	if err != nil {
		return nil, err
	}
	if fresh {
		a.run(op)
	}
	return adapter.MakeSnapshot202JSONResponse(a.progress(op)), nil
}

func (c *Cloud) copyFolder(id string) string { return filepath.Join(c.opts.Dir, "snapshots", id) }

// copyDisk lays the copy out; what is left of one that was interrupted is removed
// first.
func (c *Cloud) copyDisk(op operation) error {
	record, err := c.state.disk(op.Disk)
	if err != nil {
		return err
	}
	dir := c.copyFolder(op.Copy.Id)
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := copyTree(dir, c.folder(record)); err != nil {
		return fmt.Errorf("copy the disk %s: %w", op.Disk, err)
	}
	return c.state.db.Update(func(tx *bbolt.Tx) error {
		s, err := get[snapshot](tx, bucketSnapshots, op.Copy.Id)
		if err != nil {
			return err
		}
		s.Done = true
		return put(tx, bucketSnapshots, s.Id, s)
	})
}

// copyTree is os.CopyFS with the modes as they are, whatever the umask.
func copyTree(to, from string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	if err := os.CopyFS(to, os.DirFS(from)); err != nil {
		return err
	}
	return filepath.WalkDir(from, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.Type()&fs.ModeSymlink != 0 {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rest, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		return os.Chmod(filepath.Join(to, rest), info.Mode().Perm())
	})
}

// layCopy makes the disk of a new instance out of a copy.
func (c *Cloud) layCopy(i instance) error {
	record, err := c.state.disk(i.RootDisk)
	if err != nil {
		return err
	}
	if err := os.RemoveAll(c.folder(record)); err != nil {
		return err
	}
	if err := copyTree(c.folder(record), c.copyFolder(i.Copied)); err != nil {
		return err
	}
	d, err := c.openDisk(i.Id)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Write("etc/hostname", []byte(i.Name+"\n"), 0o644)
}

func (a api) DeleteSnapshot(
	_ context.Context, r adapter.DeleteSnapshotRequestObject,
) (adapter.DeleteSnapshotResponseObject, error) {
	err := a.state.db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketSnapshots).Delete([]byte(r.Snapshot)) })
	if err == nil && filepath.IsLocal(r.Snapshot) {
		err = os.RemoveAll(a.copyFolder(r.Snapshot))
	}
	return adapter.DeleteSnapshot204Response{}, err
}
