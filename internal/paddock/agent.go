package paddock

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
	"plumlatch/internal/paddock/guest"
)

// agentState is the state of the guest agent of the instance now.
func (c *Cloud) agentState(i instance) adapter.AgentState {
	image, _ := imageNamed(i.Image)
	switch {
	case !image.GuestAgent:
		return adapter.AgentStateAbsent
	case i.AgentPermittedAt.IsZero():
		return adapter.AgentStateNotPermitted
	case i.State != adapter.InstanceStateRunning || time.Since(i.AgentPermittedAt) < c.opts.Latency.Agent:
		return adapter.AgentStateRegistering
	}
	return adapter.AgentStateReady
}

func (a api) GetAgent(_ context.Context, r adapter.GetAgentRequestObject) (adapter.GetAgentResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	return adapter.GetAgent200JSONResponse{State: a.agentState(i)}, nil
}

func (a api) PermitAgent(
	_ context.Context, r adapter.PermitAgentRequestObject,
) (adapter.PermitAgentResponseObject, error) {
	var i instance
	err := a.state.db.Update(func(tx *bbolt.Tx) (err error) {
		if i, err = get[instance](tx, bucketInstances, r.Instance); err != nil {
			return fmt.Errorf("instance %s: %w", r.Instance, err)
		}
		switch {
		case !r.Body.Permitted:
			i.AgentPermittedAt = time.Time{}
		case a.agentState(i) == adapter.AgentStateAbsent:
			return adapter.Conflict("the image " + i.Image + " has no guest agent")
		case i.AgentPermittedAt.IsZero():
			i.AgentPermittedAt = time.Now()
		}
		return put(tx, bucketInstances, i.Id, i)
	})
	return adapter.PermitAgent200JSONResponse{State: a.agentState(i)}, err
}

// below is where an agent is to work: "/" for its own system.
func below(p *string) string {
	if p == nil {
		return "/"
	}
	return *p
}

// place returns the disk that is mounted at below, or the instance's own for "/", and the
// path on it, which ".." does not lead out of.
func (c *Cloud) place(i instance, below, name string) (*disk, string, error) {
	if !path.IsAbs(name) || !path.IsAbs(below) {
		return nil, "", adapter.BadRequest(fmt.Sprintf("the path %q below %q is not absolute", name, below))
	}
	name = path.Clean(name)
	if below = path.Clean(below); below == "/" {
		d, err := c.openDisk(i.Id)
		return d, name, err
	}
	id := i.Mounts[below]
	if id == "" {
		return nil, "", adapter.Conflict("nothing is mounted at " + below)
	}
	d, err := c.openDiskNamed(id)
	return d, name, err
}

// ReadAgentFile reads with the rights of the user that is named, or as root. The path is
// looked up on one disk, so that no symbolic link leads out of it.
func (a api) ReadAgentFile(
	_ context.Context, r adapter.ReadAgentFileRequestObject,
) (adapter.ReadAgentFileResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, adapter.Conflict("the guest agent of " + i.Name + " is " + string(s))
	}
	d, name, err := a.place(i, below(r.Params.Below), r.Params.Path)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	v := &guest.View{Disk: d.Disk, User: "root"}
	user := ""
	if r.Params.User != nil {
		user, v.User = *r.Params.User, *r.Params.User
	}
	link, err := d.LinkIn(name, user)
	if err != nil {
		return nil, adapter.Conflict(err.Error())
	}
	if link != "" {
		return adapter.ReadAgentFile200JSONResponse{Kind: adapter.AgentFileKindLink, Owner: guest.OwnerOf(link)}, nil
	}
	info, err := d.Root.Lstat(guest.Relative(name))
	if errors.Is(err, fs.ErrNotExist) {
		return adapter.ReadAgentFile200JSONResponse{Kind: adapter.AgentFileKindNone}, nil
	}
	if err != nil {
		return nil, adapter.Conflict(err.Error())
	}
	owner := guest.OwnerOf(name)
	out := adapter.ReadAgentFile200JSONResponse{
		Kind:  adapter.AgentFileKindOther,
		Mode:  int(info.Mode().Perm()),
		Owner: owner,
	}
	switch {
	case info.IsDir():
		out.Kind = adapter.AgentFileKindFolder
	case info.Mode().IsRegular():
		out.Kind = adapter.AgentFileKindFile
		if owner != v.User && owner != "root" {
			return nil, adapter.Conflict(fmt.Sprintf("%s belongs to %s", name, owner))
		}
		if info.Size() > guest.MaxFile {
			return nil, adapter.Conflict(fmt.Sprintf("%s has %d bytes; %d is the limit", name, info.Size(), guest.MaxFile))
		}
		content, err := v.Read(name)
		if err != nil {
			return nil, adapter.Conflict(fmt.Sprintf("%s cannot be read as %s: %v", name, v.User, err))
		}
		out.Content = &content
	}
	return out, nil
}

// WriteAgentFile writes with the rights of the owner: a temporary file beside the old one,
// flushed and renamed over it.
func (a api) WriteAgentFile(
	_ context.Context, r adapter.WriteAgentFileRequestObject,
) (adapter.WriteAgentFileResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, adapter.Conflict("the guest agent of " + i.Name + " is " + string(s))
	}
	if r.Body.Mode&^0o777 != 0 {
		return nil, adapter.BadRequest(fmt.Sprintf("%o are no permission bits", r.Body.Mode))
	}
	if len(r.Body.Content) > guest.MaxFile {
		return nil, adapter.BadRequest(
			fmt.Sprintf("%d bytes are too many; %d is the limit", len(r.Body.Content), guest.MaxFile),
		)
	}
	d, name, err := a.place(i, below(r.Params.Below), r.Params.Path)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	a.agentWrites.Lock() // two compare and rename one after the other
	defer a.agentWrites.Unlock()
	if err := d.MayReplace(name, r.Body.Owner); err != nil {
		return nil, adapter.Conflict(r.Params.Path + ": " + err.Error())
	}
	if err := d.Replace(guest.Relative(name), r.Body.Was, r.Body.Content, fs.FileMode(r.Body.Mode)); err != nil {
		return nil, adapter.Conflict(r.Params.Path + ": " + err.Error())
	}
	if d.id != i.RootDisk { // a new file from outside has no label of the other system's
		if err := d.label(name, "unlabeled_t"); err != nil {
			return nil, err
		}
	}
	return adapter.WriteAgentFile204Response{}, nil
}
