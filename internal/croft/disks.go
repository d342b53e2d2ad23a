package croft

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

// lending is what an attach or a detach is about.
type lending struct {
	Disk   string `json:"disk"`
	Root   bool   `json:"root,omitempty"`
	Shared bool   `json:"shared,omitempty"`
}

// volumeOf is the volume in the host's pool that a disk of a machine is; "" for one that is none, or is its seed.
func (m *machine) volumeOf(d libvirtxml.DomainDisk) string {
	if d.Source == nil || d.Source.Volume == nil || d.Source.Volume.Pool != m.host.Pool ||
		d.Source.Volume.Volume == seedOf(m.id) {
		return ""
	}
	return d.Source.Volume.Volume
}

// disk is the disk of the machine that a volume is.
func (m *machine) disk(volume string) (libvirtxml.DomainDisk, bool) {
	for _, d := range m.xml.Devices.Disks {
		if m.volumeOf(d) == volume {
			return d, true
		}
	}
	return libvirtxml.DomainDisk{}, false
}

// deviceOf is the name under which the machine finds a disk. What libvirt calls one that is not the first is not what
// the machine calls it; its serial number is the same on both sides.
func deviceOf(d libvirtxml.DomainDisk) string {
	if d.Target != nil && d.Target.Dev == rootTarget {
		return "/dev/" + rootTarget
	}
	return "/dev/disk/by-id/virtio-" + d.Serial
}

// ListDisks lists the disks that machines start from, where they are.
func (a api) ListDisks(ctx context.Context, r adapter.ListDisksRequestObject) (adapter.ListDisksResponseObject, error) {
	out := adapter.ListDisks200JSONResponse{}
	for _, h := range a.hosts {
		list, err := h.disks(ctx)
		if err != nil {
			return nil, err
		}
		for _, d := range list {
			if r.Params.Disk != nil && d.Id != *r.Params.Disk || r.Params.Instance != nil &&
				!slices.ContainsFunc(d.Attachments, func(a adapter.Attachment) bool { return a.Instance == *r.Params.Instance }) {
				continue
			}
			out = append(out, d)
		}
	}
	slices.SortFunc(out, func(a, b adapter.Disk) int { return strings.Compare(a.Id, b.Id) })
	return out, nil
}

func (h *host) disks(ctx context.Context) (out []adapter.Disk, err error) {
	if h.contains() { // what they start from is mounted by the host, and is no disk that could be lent
		return nil, nil
	}
	list, err := h.machines(ctx, "")
	if err != nil || len(list) == 0 {
		return nil, err
	}
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return nil, err
	}
	for _, owner := range list {
		v, there, err := h.volume(ctx, p, owner.mark.Root)
		if err != nil {
			return nil, err
		}
		if !there { // its launch has not come so far
			continue
		}
		var capacity uint64
		err = h.call(ctx, func(l *libvirt.Libvirt) (err error) { _, capacity, _, err = l.StorageVolGetInfo(v); return err })
		if err != nil {
			return nil, err
		}
		d := adapter.Disk{
			Id: owner.mark.Root, Zone: h.Zone, SizeGib: int(capacity >> 30), Filesystem: owner.mark.FileSystem,
			FilesystemUuid: owner.mark.FileSystemUUID, Attachments: []adapter.Attachment{},
		}
		if owner.mark.Partition > 0 {
			d.Partition = &owner.mark.Partition
		}
		for _, m := range list {
			if at, there := m.disk(d.Id); there {
				d.Attachments = append(d.Attachments, adapter.Attachment{
					Instance: m.id, Device: deviceOf(at), Root: at.Target != nil && at.Target.Dev == rootTarget,
				})
			}
		}
		out = append(out, d)
	}
	return out, nil
}

// diskNamed returns a disk and the host that it is on.
func (c *Croft) diskNamed(ctx context.Context, id string) (adapter.Disk, *host, error) {
	for _, h := range c.hosts {
		list, err := h.disks(ctx)
		if err != nil {
			return adapter.Disk{}, nil, err
		}
		for _, d := range list {
			if d.Id == id {
				return d, h, nil
			}
		}
	}
	return adapter.Disk{}, nil, fmt.Errorf("disk %s: %w", id, adapter.ErrNotFound)
}

// AttachDisk begins to attach a disk to a machine on the same host.
func (a api) AttachDisk(
	ctx context.Context, r adapter.AttachDiskRequestObject,
) (adapter.AttachDiskResponseObject, error) {
	d, h, err := a.diskNamed(ctx, r.Disk)
	if err != nil {
		return nil, err
	}
	m, err := a.find(ctx, r.Body.Instance)
	if err != nil {
		return nil, err
	}
	shared := r.Body.Shared != nil && *r.Body.Shared
	for _, at := range d.Attachments {
		if at.Instance != m.id && !shared {
			return nil, adapter.Conflict(fmt.Sprintf("the disk %s is attached to %s", d.Id, at.Instance))
		}
	}
	switch {
	case m.host != h:
		return nil, adapter.Conflict(
			fmt.Sprintf("the disk %s is in %s, and %s in %s", d.Id, h.Zone, m.mark.Name, m.host.Zone),
		)
	case r.Body.Root && m.runs():
		return nil, adapter.Conflict(m.mark.Name + " runs: a disk to start from is attached while it is stopped")
	}
	o, err := a.change(ctx, m.id, adapter.OperationKindAttach, lending{d.Id, r.Body.Root, shared})
	return adapter.AttachDisk202JSONResponse(o), err
}

// DetachDisk begins to detach a disk. One that is mounted, as far as the machine's guest agent tells, is refused.
func (a api) DetachDisk(
	ctx context.Context, r adapter.DetachDiskRequestObject,
) (adapter.DetachDiskResponseObject, error) {
	m, err := a.find(ctx, r.Body.Instance)
	if err != nil {
		return nil, err
	}
	if d, there := m.disk(r.Disk); there && m.runs() {
		if d.Target.Dev == rootTarget {
			return nil, adapter.Conflict(m.mark.Name + " runs from it: stop it first")
		}
		mounted, err := m.mounts(ctx, d)
		switch {
		case err != nil:
			return nil, adapter.Conflict(fmt.Sprintf("it is not known whether %s has mounted it: %v", m.mark.Name, err))
		case mounted:
			return nil, adapter.Conflict(fmt.Sprintf("%s has it mounted", m.mark.Name))
		}
	}
	o, err := a.change(ctx, m.id, adapter.OperationKindDetach, lending{Disk: r.Disk})
	return adapter.DetachDisk202JSONResponse(o), err
}

// mounts reports whether a machine has a file system of the disk mounted, by what its guest agent tells.
func (m *machine) mounts(ctx context.Context, d libvirtxml.DomainDisk) (bool, error) {
	var told []struct {
		Disk []struct {
			Serial string `json:"serial"`
			Dev    string `json:"dev"`
		} `json:"disk"`
	}
	if err := m.ask(ctx, "guest-get-fsinfo", nil, &told); err != nil {
		return false, err
	}
	for _, fs := range told {
		for _, on := range fs.Disk {
			if on.Serial == d.Serial {
				return true, nil
			}
		}
	}
	return false, nil
}

// attach attaches a disk, and waits for nothing: the guest finds it by itself.
func (m *machine) attach(ctx context.Context, w lending) error {
	if _, there := m.disk(w.Disk); there {
		return nil
	}
	target := rootTarget
	if !w.Root {
		var err error
		if target, err = m.free(); err != nil {
			return err
		}
	}
	d := m.host.diskOf(w.Disk, target)
	if w.Shared {
		d.Shareable = &libvirtxml.DomainDiskShareable{}
	}
	return m.changeDisk(ctx, d, func(l *libvirt.Libvirt, text string, flags libvirt.DomainDeviceModifyFlags) error {
		return l.DomainAttachDeviceFlags(m.domain, text, uint32(flags))
	})
}

// free is a target that no disk of the machine has.
func (m *machine) free() (string, error) {
	for n := 'b'; n < 'z'; n++ {
		target := "vd" + string(n)
		if !slices.ContainsFunc(m.xml.Devices.Disks, func(d libvirtxml.DomainDisk) bool {
			return d.Target != nil && d.Target.Dev == target
		}) {
			return target, nil
		}
	}
	return "", errors.New("it has no slot left for a disk")
}

func (m *machine) changeDisk(
	ctx context.Context, d libvirtxml.DomainDisk, do func(*libvirt.Libvirt, string, libvirt.DomainDeviceModifyFlags) error,
) error {
	text, err := d.Marshal()
	if err != nil {
		return err
	}
	return m.host.call(ctx, func(l *libvirt.Libvirt) error {
		flags := libvirt.DomainDeviceModifyConfig
		if m.runs() {
			flags |= libvirt.DomainDeviceModifyLive
		}
		return do(l, text, flags)
	})
}

// detach detaches a disk and waits until the machine has let go of it.
func (c *Croft) detach(ctx context.Context, m machine, w lending) error {
	for asked := false; ; asked = true {
		d, there := m.disk(w.Disk)
		if !there {
			return nil
		}
		if !asked {
			err := m.changeDisk(ctx, d, func(l *libvirt.Libvirt, text string, flags libvirt.DomainDeviceModifyFlags) error {
				return l.DomainDetachDeviceFlags(m.domain, text, uint32(flags))
			})
			if err != nil {
				return err
			}
		}
		if err := pause(ctx, look); err != nil {
			return err
		}
		var err error
		if m, err = c.find(ctx, m.id); err != nil {
			return err
		}
	}
}
