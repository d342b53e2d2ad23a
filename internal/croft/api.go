package croft

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"

	"plumlatch/internal/adapter"
)

// api answers the calls of the contract. Those that croft has none for are embedded, and never reached.
type api struct {
	*Croft
	adapter.StrictServerInterface
}

func (a api) GetCapabilities(
	context.Context, adapter.GetCapabilitiesRequestObject,
) (adapter.GetCapabilitiesResponseObject, error) {
	return adapter.GetCapabilities200JSONResponse{Name: a.settings.Name, Capabilities: a.can()}, nil
}

// ListImages lists those that are in the pool of some host.
func (a api) ListImages(
	ctx context.Context, _ adapter.ListImagesRequestObject,
) (adapter.ListImagesResponseObject, error) {
	out := adapter.ListImages200JSONResponse{}
	for _, h := range a.hosts {
		list, err := h.images(ctx)
		if err != nil {
			return nil, err
		}
		for _, i := range list {
			at := slices.IndexFunc(out, func(o adapter.Image) bool { return o.Name == i.Name })
			if at < 0 {
				at = len(out)
				out = append(out, adapter.Image{
					Name: i.Name, Title: i.Title, Family: adapter.ImageFamilyLinux, LoginUser: i.LoginUser,
					GuestAgent: i.Agent, KeyTypes: i.KeyTypes, Zones: &[]string{},
				})
			}
			*out[at].Zones = append(*out[at].Zones, h.Zone)
		}
	}
	return out, nil
}

func (a api) ListSizes(context.Context, adapter.ListSizesRequestObject) (adapter.ListSizesResponseObject, error) {
	out := adapter.ListSizes200JSONResponse{}
	for _, z := range a.settings.Sizes {
		out = append(out, adapter.Size{Name: z.Name, Cpus: z.CPUs, MemoryMib: z.MemoryMiB, DiskGib: z.DiskGiB})
	}
	return out, nil
}

func (a api) ListZones(context.Context, adapter.ListZonesRequestObject) (adapter.ListZonesResponseObject, error) {
	out := adapter.ListZones200JSONResponse{}
	for _, h := range a.hosts {
		out = append(out, adapter.Zone{Name: h.Zone, Region: h.Region})
	}
	return out, nil
}

// atWork are the kinds of the operations that have not ended, by the instances that they are on.
func (c *Croft) atWork() (map[string]string, error) {
	list, err := c.journal.running()
	out := make(map[string]string, len(list))
	for _, o := range list {
		out[o.Instance] = string(o.Kind)
	}
	return out, err
}

// instances are all that there are, by id.
func (c *Croft) instances(ctx context.Context) (out []adapter.Instance, tokens map[string]string, err error) {
	work, err := c.atWork()
	if err != nil {
		return nil, nil, err
	}
	tokens = map[string]string{}
	for _, h := range c.hosts {
		list, err := h.machines(ctx, "")
		if err != nil {
			return nil, nil, err
		}
		lent, err := h.addresses(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, m := range list {
			out = append(out, m.instance(work[m.id], lent))
			tokens[m.id] = m.mark.Token
		}
	}
	slices.SortFunc(out, func(a, b adapter.Instance) int { return strings.Compare(a.Id, b.Id) })
	return out, tokens, nil
}

func (a api) ListInstances(
	ctx context.Context, r adapter.ListInstancesRequestObject,
) (adapter.ListInstancesResponseObject, error) {
	limit := 200
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	if limit < 1 || limit > 1000 {
		return nil, adapter.BadRequest(fmt.Sprintf("the limit is %d; it is from 1 to 1000", limit))
	}
	list, tokens, err := a.instances(ctx)
	if err != nil {
		return nil, err
	}
	out := adapter.ListInstances200JSONResponse{}
	for _, i := range list {
		if r.Params.After != nil && i.Id <= *r.Params.After ||
			r.Params.RequestToken != nil && tokens[i.Id] != *r.Params.RequestToken {
			continue
		}
		if len(out) == limit {
			break
		}
		out = append(out, i)
	}
	return out, nil
}

func (a api) GetInstance(
	ctx context.Context, r adapter.GetInstanceRequestObject,
) (adapter.GetInstanceResponseObject, error) {
	m, err := a.find(ctx, r.Instance)
	if errors.Is(err, adapter.ErrNotFound) {
		gone, known, failed := get[adapter.Instance](a.journal, bucketGone, r.Instance)
		if failed != nil || !known {
			return nil, errors.Join(err, failed)
		}
		return adapter.GetInstance200JSONResponse(gone), nil
	}
	if err != nil {
		return nil, err
	}
	work, err := a.atWork()
	if err != nil {
		return nil, err
	}
	lent, err := m.host.addresses(ctx)
	if err != nil {
		return nil, err
	}
	return adapter.GetInstance200JSONResponse(m.instance(work[m.id], lent)), nil
}

// mostUserData is the limit of the contract, in bytes.
const mostUserData = 16 << 10

// LaunchInstance writes the machine down in libvirt, by a name that its request token leads to, and begins the launch.
func (a api) LaunchInstance(
	ctx context.Context, r adapter.LaunchInstanceRequestObject,
) (adapter.LaunchInstanceResponseObject, error) {
	b := r.Body
	id := idFor(b.RequestToken)
	defer a.lock("launch " + id)()
	if before, there, err := get[operation](a.journal, bucketOperations, id); err != nil || there {
		return adapter.LaunchInstance202JSONResponse(before.Operation), err
	}
	m, z, h, err := a.wanted(ctx, *b)
	if err != nil {
		return nil, err
	}
	m.Root = h.rootOf(id)
	text, err := h.describe(ctx, id, m, z)
	if err != nil {
		return nil, err
	}
	o := operation{UserData: given(b.UserData)}
	o.Id, o.Kind, o.Instance, o.Phase = id, adapter.OperationKindLaunch, id, "disk"
	err = h.call(ctx, func(l *libvirt.Libvirt) error {
		d, err := l.DomainLookupByName(id)
		if err == nil {
			_, ours, err := h.machine(l, d)
			if err == nil && !ours {
				err = adapter.Conflict(fmt.Sprintf("%s has a machine called %s that is somebody's own", h.Zone, id))
			}
			return err
		}
		if !is(err, libvirt.ErrNoDomain) {
			return err
		}
		_, err = l.DomainDefineXML(text)
		return err
	})
	if err != nil {
		return nil, err
	}
	begun, err := a.begin(o)
	return adapter.LaunchInstance202JSONResponse(begun), err
}

// wanted judges a launch.
func (c *Croft) wanted(ctx context.Context, b adapter.Launch) (m mark, z Size, h *host, err error) {
	bad := func(format string, args ...any) (mark, Size, *host, error) {
		return m, z, h, adapter.BadRequest(fmt.Sprintf(format, args...))
	}
	if h, err = c.hostOf(b.Zone); err != nil {
		return m, z, h, err
	}
	if z, err = c.size(b.Size); err != nil {
		return m, z, h, err
	}
	group := "default"
	if b.Firewall != nil && *b.Firewall != "" {
		group = *b.Firewall
	}
	switch {
	case !nameForm.MatchString(b.Name):
		return bad("%q is no name for a machine", b.Name)
	case !groupForm.MatchString(group):
		return bad("%q is no name for a group", group)
	case len(given(b.UserData)) > mostUserData:
		return bad("the user-data has %d bytes; %d is the limit", len(given(b.UserData)), mostUserData)
	case b.StaticAddress != nil && *b.StaticAddress:
		return bad("this cloud has no static addresses")
	case h.contains() && given(b.Snapshot) != "":
		return bad("%s has containers, which are launched from images alone", b.Zone)
	case b.EncryptedDisk != nil && *b.EncryptedDisk:
		return bad("this cloud encrypts no disks")
	}
	image, err := h.image(ctx, b.Image)
	if err != nil {
		return m, z, h, err
	}
	m = mark{
		Token: b.RequestToken, Name: b.Name, Image: b.Image, Size: b.Size, KeyLabel: given(b.KeyLabel), Firewall: group,
		LaunchedAt: time.Now().UTC().Truncate(time.Second), Agent: image.Agent,
		FileSystem: image.FileSystem, FileSystemUUID: image.FileSystemUUID,
		Partition: image.Partition,
	}
	if given(b.Snapshot) != "" {
		list, err := h.copies(ctx)
		if err != nil {
			return m, z, h, err
		}
		if !slices.ContainsFunc(
			list,
			func(c copied) bool { return c.Id == *b.Snapshot && c.Kind == adapter.SnapshotKindImage },
		) {
			return bad("there is no copy %s in %s to launch from", *b.Snapshot, b.Zone)
		}
		m.Copy = *b.Snapshot
	}
	if b.Labels != nil {
		m.Labels = *b.Labels
	}
	return m, z, h, nil
}

func given[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

// change begins an operation on a machine that is there. Where the same is on its way, that is the answer.
func (c *Croft) change(
	ctx context.Context, id string, kind adapter.OperationKind, lent ...lending,
) (adapter.Operation, error) {
	if _, err := c.find(ctx, id); err != nil {
		return adapter.Operation{}, err
	}
	defer c.lock("change " + id)()
	list, err := c.journal.running()
	if err != nil {
		return adapter.Operation{}, err
	}
	for _, o := range list {
		if o.Instance == id && o.Kind == kind && (len(lent) == 0 || o.Lending != nil && *o.Lending == lent[0]) {
			return o.Operation, nil
		}
	}
	var o operation
	if len(lent) > 0 {
		o.Lending = &lent[0]
	}
	o.Kind, o.Instance, o.Phase = kind, id, string(kind)
	return c.begin(o)
}

func (a api) StartInstance(
	ctx context.Context, r adapter.StartInstanceRequestObject,
) (adapter.StartInstanceResponseObject, error) {
	o, err := a.change(ctx, r.Instance, adapter.OperationKindStart)
	return adapter.StartInstance202JSONResponse(o), err
}

func (a api) StopInstance(
	ctx context.Context, r adapter.StopInstanceRequestObject,
) (adapter.StopInstanceResponseObject, error) {
	o, err := a.change(ctx, r.Instance, adapter.OperationKindStop)
	return adapter.StopInstance202JSONResponse(o), err
}

// lentOut refuses to end a machine whose disk is attached to another one.
func (c *Croft) lentOut(ctx context.Context, id string) error {
	for _, h := range c.hosts {
		list, err := h.disks(ctx)
		if err != nil {
			return err
		}
		for _, d := range list {
			for _, at := range d.Attachments {
				if d.Id == h.rootOf(id) && at.Instance != id {
					return adapter.Conflict(fmt.Sprintf("its disk is attached to %s: detach it there first", at.Instance))
				}
			}
		}
	}
	return nil
}

// DeleteInstance ends a machine. One that is gone already is an operation that is done.
func (a api) DeleteInstance(
	ctx context.Context, r adapter.DeleteInstanceRequestObject,
) (adapter.DeleteInstanceResponseObject, error) {
	if err := a.lentOut(ctx, r.Instance); err != nil {
		return nil, err
	}
	o, err := a.change(ctx, r.Instance, adapter.OperationKindDelete)
	if !errors.Is(err, adapter.ErrNotFound) {
		return adapter.DeleteInstance202JSONResponse(o), err
	}
	if _, known, failed := get[adapter.Instance](a.journal, bucketGone, r.Instance); failed != nil || !known {
		return nil, errors.Join(err, failed)
	}
	var ended operation
	ended.Kind, ended.Instance, ended.Phase = adapter.OperationKindDelete, r.Instance, "delete"
	o, err = a.begin(ended)
	return adapter.DeleteInstance202JSONResponse(o), err
}

func (a api) GetOperation(
	_ context.Context, r adapter.GetOperationRequestObject,
) (adapter.GetOperationResponseObject, error) {
	o, there, err := get[operation](a.journal, bucketOperations, r.Operation)
	if err == nil && !there {
		err = fmt.Errorf("operation %s: %w", r.Operation, adapter.ErrNotFound)
	}
	return adapter.GetOperation200JSONResponse(o.Operation), err
}

func (a api) GetBootOutput(
	ctx context.Context, r adapter.GetBootOutputRequestObject,
) (adapter.GetBootOutputResponseObject, error) {
	m, err := a.find(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	output, err := m.host.console(ctx, m.id)
	return adapter.GetBootOutput200TextResponse(output), err
}
