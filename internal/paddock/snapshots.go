package paddock

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/paddock/adapter"
)

func (a api) ListSnapshots(_ context.Context, r adapter.ListSnapshotsRequestObject) (adapter.ListSnapshotsResponseObject, error) {
	list, err := all(a.state, bucketSnapshots, "", noLimit, func(s adapter.Snapshot) bool { return r.Params.Instance == nil || s.Instance == *r.Params.Instance })
	slices.SortFunc(list, func(x, y adapter.Snapshot) int { return x.CreatedAt.Compare(y.CreatedAt) })
	return adapter.ListSnapshots200JSONResponse(list), err
}

// MakeSnapshot copies the folder tree that is the disk of the instance.
func (a api) MakeSnapshot(_ context.Context, r adapter.MakeSnapshotRequestObject) (adapter.MakeSnapshotResponseObject, error) {
	i, err := a.state.instance(r.Body.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Body.Instance, err)
	}
	if r.Body.Name == "" {
		return nil, &badRequest{"a snapshot needs a name"}
	}
	s := adapter.Snapshot{Id: newID("snap"), Name: r.Body.Name, Instance: i.Id, Kind: r.Body.Kind, CreatedAt: time.Now().UTC()}
	dir := filepath.Join(a.opts.Dir, "snapshots", s.Id)
	if err := os.CopyFS(dir, os.DirFS(a.diskDir(i.Id))); err != nil {
		return nil, fmt.Errorf("copy the disk of %s: %w", i.Name, err)
	}
	err = a.state.db.Update(func(tx *bbolt.Tx) error { return put(tx, bucketSnapshots, s.Id, s) })
	return adapter.MakeSnapshot201JSONResponse(s), err
}
