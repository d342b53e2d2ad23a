package paddock

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
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
	d, name, err := a.locate(i, name)
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

// errChanged is returned where a file is not what a writer took it for.
var errChanged = errors.New("the file is not as it was read")

// WriteAgentFile writes as root: a temporary file beside the old one, flushed and
// renamed over it.
func (a api) WriteAgentFile(_ context.Context, r adapter.WriteAgentFileRequestObject) (adapter.WriteAgentFileResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, &conflict{"the guest agent of " + i.Name + " is " + string(s)}
	}
	if !path.IsAbs(r.Params.Path) || r.Body.Mode&^0o777 != 0 {
		return nil, &badRequest{fmt.Sprintf("the path %q is not absolute, or %o are no permission bits", r.Params.Path, r.Body.Mode)}
	}
	if len(r.Body.Content) > maxAgentFile {
		return nil, &badRequest{fmt.Sprintf("%d bytes are too many; %d is the limit", len(r.Body.Content), maxAgentFile)}
	}
	d, name, err := a.locate(i, r.Params.Path)
	if err != nil {
		return nil, err
	}
	defer d.close()
	a.agentWrites.Lock() // two compare and rename one after the other
	defer a.agentWrites.Unlock()
	if err := d.replace(relative(name), r.Body.Was, r.Body.Content, fs.FileMode(r.Body.Mode)); err != nil {
		return nil, &conflict{r.Params.Path + ": " + err.Error()}
	}
	if d.id != i.RootDisk { // a new file from outside has no label of the other system's
		if err := d.label(name, "unlabeled_t"); err != nil {
			return nil, err
		}
	}
	return adapter.WriteAgentFile204Response{}, nil
}

func (d *disk) replace(name string, was, content []byte, mode fs.FileMode) error {
	info, err := d.root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if len(was) > 0 {
			return errChanged
		}
		if err := d.root.MkdirAll(path.Dir(name), 0o700); err != nil {
			return err
		}
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return errors.New("it is not a regular file")
	default:
		mode = info.Mode().Perm()
		now, err := d.root.ReadFile(name)
		if err != nil {
			return err
		}
		if !bytes.Equal(now, was) {
			return errChanged
		}
	}
	beside := name + ".plumlatch-edit" // there, somebody edits it from outside
	f, err := d.root.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil {
		err = d.root.Rename(beside, name)
	}
	if err != nil {
		return errors.Join(err, d.root.Remove(beside))
	}
	return nil
}
