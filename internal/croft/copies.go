package croft

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

const (
	// copySuffix ends the name of a volume that tells of the copy beside it, which is there once the copy is whole.
	copySuffix = ".copy.json"
	// copiesWithin is for how long a copy may take.
	copiesWithin = time.Hour
)

// copied is what is kept of a copy of a disk.
type copied struct {
	adapter.Snapshot
	Token                      string
	FileSystem, FileSystemUUID string
}

// copying is what a snapshot operation is about.
type copying struct {
	ID    string               `json:"id"`
	Token string               `json:"token"`
	Name  string               `json:"name"`
	Kind  adapter.SnapshotKind `json:"kind"`
}

func copyFor(token string) string {
	sum := sha256.Sum256([]byte("copy " + token))
	return prefix + "copy-" + hex.EncodeToString(sum[:8])
}

func volumeOfCopy(id string) string { return id + ".qcow2" }

// copies are all of the host, the oldest first.
func (h *host) copies(ctx context.Context) (out []copied, err error) {
	if h.contains() {
		return nil, nil
	}
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return nil, err
	}
	var volumes []libvirt.StorageVol
	err = h.call(ctx, func(l *libvirt.Libvirt) (err error) {
		volumes, _, err = l.StoragePoolListAllVolumes(p, 1, 0)
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, v := range volumes {
		if !strings.HasPrefix(v.Name, prefix) || !strings.HasSuffix(v.Name, copySuffix) {
			continue
		}
		text, err := h.small(ctx, v)
		if is(err, libvirt.ErrNoStorageVol) {
			continue
		}
		if err != nil {
			return nil, err
		}
		var c copied
		if json.Unmarshal(bytes.TrimRight(text, "\x00"), &c) == nil && c.Id+copySuffix == v.Name {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b copied) int { return a.CreatedAt.Compare(b.CreatedAt) })
	return out, nil
}

// ListSnapshots lists the copies.
func (a api) ListSnapshots(
	ctx context.Context, r adapter.ListSnapshotsRequestObject,
) (adapter.ListSnapshotsResponseObject, error) {
	var all []copied
	for _, h := range a.hosts {
		list, err := h.copies(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	slices.SortFunc(all, func(a, b copied) int { return a.CreatedAt.Compare(b.CreatedAt) })
	out := adapter.ListSnapshots200JSONResponse{}
	for _, c := range all {
		if r.Params.Instance != nil && c.Instance != *r.Params.Instance ||
			r.Params.RequestToken != nil && c.Token != *r.Params.RequestToken {
			continue
		}
		out = append(out, c.Snapshot)
	}
	return out, nil
}

// MakeSnapshot begins to copy the disk that a machine starts from.
func (a api) MakeSnapshot(
	ctx context.Context, r adapter.MakeSnapshotRequestObject,
) (adapter.MakeSnapshotResponseObject, error) {
	b := r.Body
	id := copyFor(b.RequestToken)
	defer a.lock("copy " + id)()
	if before, there, err := get[operation](a.journal, bucketOperations, id); err != nil || there {
		return adapter.MakeSnapshot202JSONResponse(before.Operation), err
	}
	m, err := a.find(ctx, b.Instance)
	if err != nil {
		return nil, err
	}
	if !b.Kind.Valid() {
		return nil, adapter.BadRequest(fmt.Sprintf("there is no kind %q", b.Kind))
	}
	if m.host.contains() {
		return nil, adapter.Conflict(m.mark.Name + " is a container, of which croft makes no copies")
	}
	if _, there := m.disk(m.mark.Root); !there {
		return nil, adapter.Conflict(fmt.Sprintf("the disk of %s is not attached to it", m.mark.Name))
	}
	var o operation
	o.Id, o.Kind, o.Instance, o.Phase, o.Snapshot = id, adapter.OperationKindSnapshot, m.id, "copy", &id
	o.Copy = &copying{id, b.RequestToken, b.Name, b.Kind}
	begun, err := a.begin(o)
	return adapter.MakeSnapshot202JSONResponse(begun), err
}

// DeleteSnapshot removes a copy. A machine that was launched from it has a disk of its own.
func (a api) DeleteSnapshot(
	ctx context.Context, r adapter.DeleteSnapshotRequestObject,
) (adapter.DeleteSnapshotResponseObject, error) {
	for _, h := range a.hosts {
		list, err := h.copies(ctx)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(list, func(c copied) bool { return c.Id == r.Snapshot }) {
			continue
		}
		for _, volume := range []string{r.Snapshot + copySuffix, volumeOfCopy(r.Snapshot)} {
			if err := h.removeNamed(ctx, volume); err != nil {
				return nil, err
			}
		}
	}
	return adapter.DeleteSnapshot204Response{}, nil
}

// copy copies the machine's disk. Of a machine that runs, the file systems are frozen while the copy begins, if its
// guest agent can do that; what is written afterwards does not come into the copy.
func (c *Croft) copy(ctx context.Context, o *operation, m machine) error {
	h, w := m.host, o.Copy
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return err
	}
	if _, whole, err := h.volume(ctx, p, w.ID+copySuffix); err != nil || whole {
		return err
	}
	if m.mark.Agent && m.runs() { // a croftd that was killed may have left it frozen
		m.thaw(ctx)
	}
	if err := h.abandon(ctx, p, m, w.ID); err != nil {
		return err
	}
	if m.runs() {
		err = c.copyRunning(ctx, o, m, p)
	} else {
		err = h.clone(ctx, p, m.mark.Root, volumeOfCopy(w.ID), 0)
	}
	if err != nil {
		return err
	}
	told := copied{
		Snapshot: adapter.Snapshot{
			Id: w.ID, Name: w.Name, Instance: m.id, Kind: w.Kind, CreatedAt: o.Begun.UTC().Truncate(time.Second),
		},
		Token: w.Token, FileSystem: m.mark.FileSystem, FileSystemUUID: m.mark.FileSystemUUID,
	}
	text, err := json.Marshal(told)
	if err != nil {
		return err
	}
	return h.upload(ctx, p, w.ID+copySuffix, bytes.NewReader(text), uint64(len(text)))
}

// abandon ends a copy that a croftd before began, and removes what there is of it.
func (h *host) abandon(ctx context.Context, p libvirt.StoragePool, m machine, id string) error {
	if m.runs() {
		err := h.call(ctx, func(l *libvirt.Libvirt) error {
			kind, _, err := l.DomainGetJobStats(m.domain, 0)
			if err != nil || kind == 0 {
				return err
			}
			return l.DomainAbortJob(m.domain)
		})
		if err != nil && !is(err, libvirt.ErrOperationInvalid) {
			return err
		}
	}
	if err := h.call(ctx, func(l *libvirt.Libvirt) error { return l.StoragePoolRefresh(p, 0) }); err != nil {
		return err
	}
	return h.removeNamed(ctx, volumeOfCopy(id))
}

func (m *machine) thaw(ctx context.Context) {
	//nolint:errcheck // one that is not frozen says so
	m.host.call(ctx, func(l *libvirt.Libvirt) error { _, err := l.DomainFsthaw(m.domain, nil, 0); return err })
}

func (c *Croft) copyRunning(ctx context.Context, o *operation, m machine, p libvirt.StoragePool) error {
	h := m.host
	folder, err := h.folder(ctx, p)
	if err != nil {
		return err
	}
	backup := libvirtxml.DomainBackup{
		Push: &libvirtxml.DomainBackupPush{Disks: &libvirtxml.DomainBackupPushDisks{}},
	}
	for _, d := range m.xml.Devices.Disks {
		one := libvirtxml.DomainBackupPushDisk{Name: d.Target.Dev, Backup: "no"}
		if m.volumeOf(d) == m.mark.Root {
			one.Backup, one.Driver = "yes", &libvirtxml.DomainBackupDiskDriver{Type: "qcow2"}
			one.Target = &libvirtxml.DomainDiskSource{
				File: &libvirtxml.DomainDiskSourceFile{File: path.Join(folder, volumeOfCopy(o.Copy.ID))},
			}
		}
		backup.Push.Disks.Disks = append(backup.Push.Disks.Disks, one)
	}
	wanted, err := backup.Marshal()
	if err != nil {
		return err
	}
	frozen := m.mark.Agent && h.call(ctx, func(l *libvirt.Libvirt) error {
		_, err := l.DomainFsfreeze(m.domain, nil, 0)
		return err
	}) == nil
	err = h.call(ctx, func(l *libvirt.Libvirt) error {
		return l.DomainBackupBegin(m.domain, wanted, nil, 0)
	})
	if frozen {
		m.thaw(context.WithoutCancel(ctx))
	}
	if err != nil {
		return err
	}
	for until := time.Now().Add(copiesWithin); time.Now().Before(until); {
		done, total, over := uint64(0), uint64(0), false
		err := h.call(ctx, func(l *libvirt.Libvirt) error {
			kind, told, err := l.DomainGetJobStats(m.domain, 0)
			over = err == nil && kind == 0
			for _, t := range told {
				n, _ := t.Value.I.(uint64)
				switch t.Field {
				case "disk_processed":
					done = n
				case "disk_total":
					total = n
				}
			}
			return err
		})
		if err != nil {
			return err
		}
		if over {
			return h.copyIsWhole(ctx, p, m, o.Copy.ID)
		}
		if total > 0 {
			if err := c.phase(o, "copy", min(99, int(done*100/total))); err != nil {
				return err
			}
		}
		if err := pause(ctx, look); err != nil {
			return err
		}
	}
	return fmt.Errorf("the copy of %s is not whole after %s", m.mark.Name, copiesWithin)
}

// copyIsWhole sees that a copy that is over was not broken off.
func (h *host) copyIsWhole(ctx context.Context, p libvirt.StoragePool, m machine, id string) error {
	err := h.call(ctx, func(l *libvirt.Libvirt) error {
		kind, told, err := l.DomainGetJobStats(m.domain, libvirt.DomainJobStatsCompleted)
		if err != nil {
			return err
		}
		for _, t := range told {
			if t.Field == "errmsg" {
				return fmt.Errorf("the copy of %s was broken off: %v", m.mark.Name, t.Value.I)
			}
		}
		if libvirt.DomainJobType(kind) != libvirt.DomainJobCompleted {
			return fmt.Errorf("the copy of %s was broken off", m.mark.Name)
		}
		return l.StoragePoolRefresh(p, 0)
	})
	if err != nil {
		return err
	}
	_, there, err := h.volume(ctx, p, volumeOfCopy(id))
	if err == nil && !there {
		err = fmt.Errorf("the copy of %s is not in the pool", m.mark.Name)
	}
	return err
}

// format is the form of the volumes that machines start from.
func (h *host) format() string {
	if h.contains() {
		return "raw"
	}
	return "qcow2"
}

// clone copies a volume whole to another one of the pool, of so many GiB or as large as it is.
func (h *host) clone(ctx context.Context, p libvirt.StoragePool, from, to string, gib int) error {
	v, there, err := h.volume(ctx, p, from)
	if err != nil {
		return err
	}
	if !there {
		return fmt.Errorf("there is no volume %s in the pool %s of %s", from, h.Pool, h.Zone)
	}
	return h.callFor(ctx, copiesWithin, func(l *libvirt.Libvirt) error {
		_, capacity, _, err := l.StorageVolGetInfo(v)
		if err != nil {
			return err
		}
		about := libvirtxml.StorageVolume{
			Name: to, Capacity: &libvirtxml.StorageVolumeSize{Value: max(capacity, uint64(gib)<<30), Unit: "bytes"},
			Allocation: &libvirtxml.StorageVolumeSize{}, // what is not written takes no room
			Target:     &libvirtxml.StorageVolumeTarget{Format: &libvirtxml.StorageVolumeTargetFormat{Type: h.format()}},
		}
		text, err := about.Marshal()
		if err != nil {
			return err
		}
		_, err = l.StorageVolCreateXMLFrom(p, text, v, 0)
		return err
	})
}
