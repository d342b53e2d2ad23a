package paddock

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"go.etcd.io/bbolt"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/adapter"
	"plumlatch/internal/paddock/guest"
)

// shellRange is where the browser shell comes from.
var shellRange = netip.MustParsePrefix("127.255.16.0/28")

// RunAgentCommand runs one of the few commands that a helper needs, as root.
func (a api) RunAgentCommand(
	_ context.Context, r adapter.RunAgentCommandRequestObject,
) (adapter.RunAgentCommandResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, adapter.Conflict("the guest agent of " + i.Name + " is " + string(s))
	}
	out, err := a.asRoot(i, r.Body.Command)
	answer := adapter.RunAgentCommand200JSONResponse{Output: []byte(out)}
	if err != nil {
		answer.Status, answer.Errors = 1, r.Body.Command[0]+": "+err.Error()+"\n"
	}
	return answer, nil
}

func (c *Cloud) asRoot(i instance, args []string) (string, error) {
	switch name := args[0]; {
	case name == "sync" && len(args) <= 2:
		return "", nil
	case name == "mkdir" && len(args) >= 2:
		d, rest, err := c.locate(i, args[len(args)-1])
		if err != nil {
			return "", err
		}
		defer d.Close()
		return "", d.Root.MkdirAll(guest.Relative(rest), 0o755)
	case name == "ls" && len(args) == 3 && args[1] == "--":
		d, rest, err := c.locate(i, args[2])
		if err != nil {
			return "", err
		}
		defer d.Close()
		entries, err := fs.ReadDir(d.Root.FS(), guest.Relative(rest))
		var out strings.Builder
		for _, e := range entries {
			if !strings.HasPrefix(e.Name(), ".") {
				fmt.Fprintln(&out, e.Name())
			}
		}
		return out.String(), err
	case name == "id" && len(args) == 3 && args[1] == "-Gn":
		return args[2] + "\n", nil // each user of the stand-in has a group of its own
	case name == "chcon" && len(args) == 5 && args[1] == "-h" && args[2] == "-t":
		d, rest, err := c.locate(i, args[4])
		if err != nil {
			return "", err
		}
		defer d.Close()
		if _, err := d.Root.Lstat(guest.Relative(rest)); err != nil {
			return "", err
		}
		return "", d.label(rest, args[3])
	case name == "mount" && len(args) == 3:
		return "", c.mount(i, args[1], args[2], false)
	case name == "mount" && len(args) == 5 && args[1] == "-o":
		return "", c.mount(i, args[3], args[4], args[2] == "nouuid")
	case name == "umount" && len(args) == 2:
		return "", c.unmount(i, args[1])
	}
	return "", errors.New("this is a stand-in: it knows sync, mkdir, ls --, id -Gn, chcon -h -t, mount and umount")
}

// mount refuses a filesystem with the UUID of one that is mounted, as XFS does,
// unless told otherwise.
func (c *Cloud) mount(i instance, device, point string, twin bool) error {
	list, err := c.state.attachedTo(i.Id)
	if err != nil {
		return err
	}
	own, err := c.state.disk(i.RootDisk)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(list, func(d diskRecord) bool {
		return slices.ContainsFunc(
			d.Attachments,
			func(a adapter.Attachment) bool { return a.Instance == i.Id && a.Device == device },
		)
	})
	switch {
	case at < 0:
		return fmt.Errorf("%s: no such device", device)
	case i.Mounts[point] == list[at].Id:
		return fmt.Errorf("%s is mounted at %s already", device, point)
	case i.Mounts[point] != "":
		return fmt.Errorf("something is mounted at %s", point)
	case list[at].Encrypted:
		return fmt.Errorf("%s: unknown filesystem", device)
	case list[at].Filesystem == "xfs" && list[at].FilesystemUuid == own.FilesystemUuid && !twin:
		return fmt.Errorf("%s has the duplicate UUID %s; cannot mount", device, own.FilesystemUuid)
	}
	return c.changeInstance(i.Id, func(i *instance) {
		if i.Mounts == nil {
			i.Mounts = map[string]string{}
		}
		i.Mounts[point] = list[at].Id
	})
}

func (c *Cloud) unmount(i instance, point string) error {
	if i.Mounts[point] == "" {
		return fmt.Errorf("%s: not mounted", point)
	}
	return c.changeInstance(i.Id, func(i *instance) { delete(i.Mounts, point) })
}

func (c *Cloud) changeInstance(id string, f func(*instance)) error {
	return c.state.db.Update(func(tx *bbolt.Tx) error {
		i, err := get[instance](tx, bucketInstances, id)
		if err != nil {
			return fmt.Errorf("instance %s: %w", id, err)
		}
		f(&i)
		return put(tx, bucketInstances, id, i)
	})
}

// RunInShell runs a command as the login user, where the firewall lets the cloud's own
// range in.
func (a api) RunInShell(
	_ context.Context, r adapter.RunInShellRequestObject,
) (adapter.RunInShellResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	image, _ := imageNamed(i.Image)
	a.mu.Lock()
	e := a.endpoints[i.Id]
	a.mu.Unlock()
	from := &net.TCPAddr{IP: net.IP(shellRange.Addr().Next().AsSlice()), Port: 1024}
	switch {
	case image.BrowserShell == nil || !*image.BrowserShell:
		return nil, adapter.Conflict("the image " + i.Image + " lets no browser shell in")
	case e == nil:
		return nil, adapter.Conflict(i.Name + " is " + string(i.State))
	case !a.admits(i.Firewall, from, SSHPort):
		return nil, adapter.Conflict(
			fmt.Sprintf("the SSH port of %s is closed to %s, where the browser shell comes from", i.Name, shellRange),
		)
	}
	var input []byte
	if r.Body.Input != nil {
		input = *r.Body.Input
	}
	var out, errs bytes.Buffer
	status := e.Run(image.LoginUser, r.Body.Command, bytes.NewReader(input), &out, &errs)
	return adapter.RunInShell200JSONResponse{Status: status, Output: out.Bytes(), Errors: errs.String()}, nil
}

func (a api) GetMetadataKeys(
	_ context.Context, r adapter.GetMetadataKeysRequestObject,
) (adapter.GetMetadataKeysResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	return adapter.GetMetadataKeys200JSONResponse(append([]adapter.MetadataKey{}, i.MetadataKeys...)), nil
}

func (a api) SetMetadataKeys(
	_ context.Context, r adapter.SetMetadataKeysRequestObject,
) (adapter.SetMetadataKeysResponseObject, error) {
	if err := checkEntries(*r.Body); err != nil {
		return nil, err
	}
	defer a.lock("metadata " + r.Instance)()
	if err := a.changeInstance(
		r.Instance,
		func(i *instance) { i.MetadataKeys, i.MetadataSince = *r.Body, time.Now() },
	); err != nil {
		return nil, err
	}
	a.work.Add(1)
	go func() {
		defer a.work.Done()
		select {
		case <-a.ctx.Done():
		case <-time.After(a.opts.Latency.Metadata):
			a.copyMetadataKeys(r.Instance)
		}
	}()
	return adapter.SetMetadataKeys204Response{}, nil
}

func checkEntries(entries []adapter.MetadataKey) error {
	if len(entries) > 64 {
		return adapter.BadRequest("64 entries are the limit")
	}
	for _, k := range entries {
		if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(k.Line)); err != nil || k.User == "" ||
			strings.ContainsAny(k.Line+k.User, "\r\n/:") && strings.ContainsAny(k.User, "/:") {
			return adapter.BadRequest("an entry has no user or no public key in one line")
		}
	}
	return nil
}

// copyMetadataKeys is the process in the guest: it places the lines of new entries and
// takes out those that it placed and whose entries are gone.
func (c *Cloud) copyMetadataKeys(id string) {
	defer c.lock("metadata " + id)()
	i, err := c.state.instance(id)
	if err != nil {
		return
	}
	image, _ := imageNamed(i.Image)
	if image.MetadataKeys == nil || !*image.MetadataKeys || i.State != adapter.InstanceStateRunning ||
		time.Since(i.MetadataSince) < c.opts.Latency.Metadata {
		return
	}
	wanted, err := c.keysFor(i)
	if err != nil || slices.Equal(wanted, i.PlacedKeys) {
		return
	}
	d, err := c.openDisk(id)
	if err != nil {
		return
	}
	defer d.Close()
	c.agentWrites.Lock()
	defer c.agentWrites.Unlock()
	for _, k := range wanted {
		err = errors.Join(err, d.ChangeLines(k.User, k.Line, true))
	}
	for _, k := range i.PlacedKeys {
		if !slices.Contains(wanted, k) {
			err = errors.Join(err, d.ChangeLines(k.User, k.Line, false))
		}
	}
	if err == nil {
		err = c.changeInstance(id, func(now *instance) { now.PlacedKeys = wanted })
	}
	if err != nil {
		c.log.Error("copy metadata keys", "instance", i.Name, "err", err)
	}
}

func (a api) GetPassword(
	_ context.Context, r adapter.GetPasswordRequestObject,
) (adapter.GetPasswordResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if i.Password == nil {
		return nil, adapter.Conflict(i.Name + " has no administrator's password to give")
	}
	return adapter.GetPassword200JSONResponse(*i.Password), nil
}

func (a api) ResetPassword(
	_ context.Context, r adapter.ResetPasswordRequestObject,
) (adapter.ResetPasswordResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	image, _ := imageNamed(i.Image)
	if image.Family != adapter.ImageFamilyWindows {
		return nil, adapter.Conflict(i.Name + " is no Windows instance")
	}
	if s := a.agentState(i); s != adapter.AgentStateReady {
		return nil, adapter.Conflict("the guest agent of " + i.Name + " is " + string(s))
	}
	if _, err := guest.RSAIn(r.Body.PublicKey); err != nil {
		return nil, adapter.BadRequest("public_key: " + err.Error())
	}
	defer a.lock(i.Id)()
	if i, err = a.state.instance(i.Id); err != nil {
		return nil, err
	}
	if i.Password != nil && i.Password.PublicKey == r.Body.PublicKey {
		return adapter.ResetPassword200JSONResponse(*i.Password), nil
	}
	d, err := a.openDisk(i.Id)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	password, err := d.NewPassword(image.LoginUser, r.Body.PublicKey)
	if err != nil {
		return nil, err
	}
	return adapter.ResetPassword200JSONResponse(
			*password,
		), a.changeInstance(
			i.Id,
			func(i *instance) { i.Password = password },
		)
}
