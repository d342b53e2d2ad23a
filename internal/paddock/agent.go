package paddock

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/paddock/adapter"
)

// maxAgentFile is the greatest file that the guest agent gives out, in bytes.
const maxAgentFile = 8 << 20

// agentState is how the guest agent of the instance stands now.
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

func (a api) PermitAgent(_ context.Context, r adapter.PermitAgentRequestObject) (adapter.PermitAgentResponseObject, error) {
	var i instance
	err := a.state.db.Update(func(tx *bbolt.Tx) (err error) {
		if i, err = get[instance](tx, bucketInstances, r.Instance); err != nil {
			return fmt.Errorf("instance %s: %w", r.Instance, err)
		}
		switch {
		case !r.Body.Permitted:
			i.AgentPermittedAt = time.Time{}
		case a.agentState(i) == adapter.AgentStateAbsent:
			return &conflict{"the image " + i.Image + " has no guest agent"}
		case i.AgentPermittedAt.IsZero():
			i.AgentPermittedAt = time.Now()
		}
		return put(tx, bucketInstances, i.Id, i)
	})
	return adapter.PermitAgent200JSONResponse{State: a.agentState(i)}, err
}

// ReadAgentFile reads as root. The path is looked up on the instance's disk, so
// that no symbolic link leads out of it.
func (a api) ReadAgentFile(_ context.Context, r adapter.ReadAgentFileRequestObject) (adapter.ReadAgentFileResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, &conflict{"the guest agent of " + i.Name + " is " + string(s)}
	}
	name := r.Params.Path
	if !path.IsAbs(name) {
		return nil, &badRequest{fmt.Sprintf("the path %q is not absolute", name)}
	}
	d, err := a.openDisk(i.Id)
	if err != nil {
		return nil, err
	}
	defer d.close()
	info, err := d.root.Stat(relative(name))
	if errors.Is(err, fs.ErrNotExist) {
		return adapter.ReadAgentFile200JSONResponse{Kind: adapter.AgentFileKindNone}, nil
	}
	if err != nil {
		return nil, &conflict{err.Error()}
	}
	out := adapter.ReadAgentFile200JSONResponse{Kind: adapter.AgentFileKindOther, Mode: int(info.Mode().Perm()), Owner: ownerOf(name)}
	switch {
	case info.IsDir():
		out.Kind = adapter.AgentFileKindFolder
	case info.Mode().IsRegular():
		out.Kind = adapter.AgentFileKindFile
		if info.Size() > maxAgentFile {
			return nil, &conflict{fmt.Sprintf("%s has %d bytes; %d is the limit", name, info.Size(), maxAgentFile)}
		}
		content, err := d.root.ReadFile(relative(name))
		if err != nil {
			return nil, err
		}
		out.Content = &content
	}
	return out, nil
}
