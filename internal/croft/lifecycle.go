package croft

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
	"plumlatch/internal/core/text"
)

const (
	// stopsWithin is for how long a machine may take to stop by itself. Afterwards it is switched off, which may lose what
	// it has not written yet.
	stopsWithin = 90 * time.Second
	look        = 250 * time.Millisecond
)

func isAway(err error) bool { return errors.Is(err, errAway) }

// do does what is left to do of an operation.
func (c *Croft) do(ctx context.Context, o *operation) error {
	m, err := c.find(ctx, o.Instance)
	switch {
	case o.Kind == adapter.OperationKindDelete && errors.Is(err, adapter.ErrNotFound):
		return nil
	case err != nil:
		return err
	}
	switch o.Kind {
	case adapter.OperationKindLaunch:
		if err := c.launch(ctx, o, m); err != nil {
			if isAway(err) || ctx.Err() != nil {
				return err
			}
			return errors.Join(err, c.end(ctx, m)) // as if it had never been
		}
		return nil
	case adapter.OperationKindStart:
		if err := c.phase(o, "start", 10); err != nil {
			return err
		}
		if err := m.start(ctx); err != nil {
			return err
		}
		return c.awaitAddress(ctx, m)
	case adapter.OperationKindStop:
		if err := c.phase(o, "stop", 10); err != nil {
			return err
		}
		return m.stop(ctx)
	case adapter.OperationKindAttach:
		return m.attach(ctx, *o.Lending)
	case adapter.OperationKindDetach:
		return c.detach(ctx, m, *o.Lending)
	case adapter.OperationKindSnapshot:
		return c.copy(ctx, o, m)
	case adapter.OperationKindDelete:
		if err := c.phase(o, "delete", 10); err != nil {
			return err
		}
		return c.end(ctx, m)
	}
	return fmt.Errorf("there is no operation %q", o.Kind)
}

func (c *Croft) launch(ctx context.Context, o *operation, m machine) error {
	h := m.host
	if err := c.phase(o, "disk", 10); err != nil {
		return err
	}
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return err
	}
	size, err := c.size(m.mark.Size)
	if err != nil {
		return err
	}
	_, there, err := h.volume(ctx, p, m.mark.Root)
	switch {
	case err != nil || there && m.runs():
	case h.contains():
		if err = h.removeNamed(ctx, m.mark.Root); err == nil {
			err = h.clone(ctx, p, Image{Name: m.mark.Image, Container: true}.Volume(), m.mark.Root, 0)
		}
	case m.mark.Copy == "":
		err = h.diskOver(ctx, p, m.mark.Root, Image{Name: m.mark.Image}.Volume(), size.DiskGiB)
	default: // whole, so that the copy can be deleted; what a croftd that was killed has left of it is made anew
		if err = h.removeNamed(ctx, m.mark.Root); err == nil {
			err = h.clone(ctx, p, volumeOfCopy(m.mark.Copy), m.mark.Root, size.DiskGiB)
		}
	}
	if err != nil {
		return err
	}
	if err := c.phase(o, "disk", 60); err != nil {
		return err
	}
	if err := h.putSeed(ctx, p, m, o.UserData); err != nil {
		return err
	}
	if err := c.phase(o, "instance", 30); err != nil {
		return err
	}
	if err := c.ensureGroup(ctx, h, m.mark.Firewall); err != nil {
		return err
	}
	before, err := h.taken(ctx, m.id)
	if err != nil {
		return err
	}
	if err := m.start(ctx); err != nil {
		return err
	}
	if err := c.phase(o, "boot", 10); err != nil {
		return err
	}
	if err := c.awaitAddress(ctx, m); err != nil {
		return err
	}
	lent, err := h.addresses(ctx)
	if err != nil {
		return err
	}
	if now, err := c.find(ctx, m.id); err != nil {
		return err
	} else if of := before[now.address(lent)]; of != "" {
		return fmt.Errorf(
			"%s was lent the address of %s, since it tells the network that it is the same machine: its image has to identify "+
				"itself by its MAC address (for systemd-networkd, ClientIdentifier=mac or DUIDType=link-layer)", m.mark.Name, of,
		)
	}
	return nil
}

// putSeed puts the user-data where the machine finds it.
func (h *host) putSeed(ctx context.Context, p libvirt.StoragePool, m machine, userData string) error {
	if h.contains() {
		folder := h.seedFolder(m.id)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		return writeSeed(folder, m.id, m.mark.Name, userData)
	}
	if _, there, err := h.volume(ctx, p, seedOf(m.id)); err != nil || there && m.runs() {
		return err
	}
	seed, err := seedImage(m.id, m.mark.Name, userData)
	if err != nil {
		return err
	}
	return h.upload(ctx, p, seedOf(m.id), bytes.NewReader(seed), uint64(len(seed)))
}

// taken are the names of the other machines that run, by their addresses.
func (h *host) taken(ctx context.Context, but string) (map[string]string, error) {
	list, err := h.machines(ctx, "")
	if err != nil {
		return nil, err
	}
	lent, err := h.addresses(ctx)
	out := map[string]string{}
	for _, m := range list {
		if at := m.address(lent); at != "" && m.id != but && m.runs() {
			out[at] = m.mark.Name
		}
	}
	return out, err
}

func (m *machine) start(ctx context.Context) error {
	if m.host.contains() {
		return m.startContainer(ctx)
	}
	return m.host.call(ctx, func(l *libvirt.Libvirt) error {
		state, _, err := l.DomainGetState(m.domain, 0)
		if err != nil || running(state) {
			return err
		}
		err = l.DomainCreate(m.domain)
		if is(err, libvirt.ErrOperationInvalid) { // somebody else started it
			return nil
		}
		return err
	})
}

func running(state int32) bool {
	m := machine{state: libvirt.DomainState(state)}
	return m.runs()
}

// awaitAddress waits until the network has lent the machine an address. Where it never does, the error has the end of
// what the machine wrote to its console.
func (c *Croft) awaitAddress(ctx context.Context, m machine) error {
	for until := time.Now().Add(m.host.BootsWithin); time.Now().Before(until); {
		now, err := m.host.machines(ctx, m.id)
		if err != nil {
			return err
		}
		if len(now) == 0 || !now[0].runs() {
			return fmt.Errorf("%s has stopped by itself%s", m.mark.Name, m.lastSaid(ctx))
		}
		lent, err := m.host.addresses(ctx)
		if err != nil {
			return err
		}
		if now[0].address(lent) != "" {
			return nil
		}
		if err := pause(ctx, look); err != nil {
			return err
		}
	}
	return fmt.Errorf("%s has got no address after %s%s", m.mark.Name, m.host.BootsWithin, m.lastSaid(ctx))
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// lastSaid is the last line that the machine wrote to its console, to be put behind an error.
func (m *machine) lastSaid(ctx context.Context) string {
	output, err := m.host.console(ctx, m.id)
	if err != nil {
		return ""
	}
	lines := strings.FieldsFunc(strings.TrimSpace(string(output)), func(r rune) bool { return r == '\n' || r == '\r' })
	if len(lines) == 0 {
		return "; its console has nothing"
	}
	return "; the last on its console: " + text.Line(lines[len(lines)-1], 200)
}

// stop asks the guest agent, and then the machine itself, to stop; only one that does not is switched off.
func (m *machine) stop(ctx context.Context) error {
	asked := time.Time{}
	byAgent, how := m.mark.Agent, libvirt.DomainShutdownAcpiPowerBtn
	if m.host.contains() {
		byAgent, how = false, libvirt.DomainShutdownInitctl
	}
	begun := time.Now()
	for {
		over := false
		err := m.host.call(ctx, func(l *libvirt.Libvirt) error {
			state, _, err := l.DomainGetState(m.domain, 0)
			if err != nil {
				return err
			}
			switch {
			case !running(state):
				over = true
				return nil
			case time.Since(begun) > stopsWithin:
				return l.DomainDestroy(m.domain)
			case time.Since(asked) < 10*time.Second:
				return nil
			}
			asked = time.Now()
			if byAgent {
				byAgent = false
				if l.DomainShutdownFlags(m.domain, libvirt.DomainShutdownGuestAgent) == nil {
					return nil
				}
			}
			if err := l.DomainShutdownFlags(m.domain, how); !is(err, libvirt.ErrOperationInvalid) {
				return err
			}
			return nil
		})
		if err != nil || over {
			return err
		}
		if err := pause(ctx, look); err != nil {
			return err
		}
	}
}

// end ends a machine with its disks for good.
func (c *Croft) end(ctx context.Context, m machine) error {
	h := m.host
	gone := m.instance("", nil)
	gone.State, gone.PublicAddress, gone.PrivateAddress = adapter.InstanceStateDeleted, "", ""
	if err := put(c.journal, bucketGone, m.id, gone); err != nil {
		return err
	}
	err := h.call(ctx, func(l *libvirt.Libvirt) error {
		if err := l.DomainDestroy(m.domain); err != nil &&
			!is(err, libvirt.ErrOperationInvalid, libvirt.ErrNoDomain) {
			return err
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, volume := range []string{seedOf(m.id), m.mark.Root} {
		if err := h.removeNamed(ctx, volume); err != nil {
			return err
		}
	}
	if h.contains() {
		if err := h.removeContainer(ctx, m); err != nil {
			return err
		}
	}
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		if err := l.DomainUndefineFlags(m.domain, 0); err != nil && !is(err, libvirt.ErrNoDomain) {
			return err
		}
		return nil
	})
}

// mostConsole is how much of a console is read, in bytes.
const mostConsole = 4 << 20

// console is what a machine has written to its console since it was last started. The folder is read as a storage pool,
// so that a host elsewhere needs no other way in.
func (h *host) console(ctx context.Context, id string) ([]byte, error) {
	if h.contains() {
		return h.consoleFollowed(id)
	}
	const called = prefix + "boot-output"
	p, err := h.pool(ctx, called)
	if isAway(err) {
		return nil, err
	}
	if err != nil {
		about := libvirtxml.StoragePool{
			Type: "dir", Name: called, Target: &libvirtxml.StoragePoolTarget{Path: h.BootOutput},
		}
		text, failed := about.Marshal()
		if failed != nil {
			return nil, failed
		}
		err = h.call(ctx, func(l *libvirt.Libvirt) (err error) { p, err = l.StoragePoolCreateXML(text, 0); return err })
		if err != nil {
			return nil, err
		}
	}
	if err := h.call(ctx, func(l *libvirt.Libvirt) error { return l.StoragePoolRefresh(p, 0) }); err != nil {
		return nil, err
	}
	v, there, err := h.volume(ctx, p, consoleOf(id))
	if err != nil || !there {
		return nil, err
	}
	return h.download(ctx, v, mostConsole)
}

func (c *Croft) size(name string) (Size, error) {
	for _, z := range c.settings.Sizes {
		if z.Name == name {
			return z, nil
		}
	}
	return Size{}, adapter.BadRequest(fmt.Sprintf("there is no size %q", name))
}
