package croft

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"golang.org/x/sys/unix"
	"libvirt.org/go/libvirtxml"
)

// A container has the host's kernel, so that it starts in seconds where nothing helps virtual machines; it is no
// boundary for who has root in it. libvirt has no service for three things that a virtual machine has, and croft sees
// to them: its console is followed, its firewall bound once it runs, and its guest agent reached by a folder.

const (
	// AgentFolder is where a container finds the folder by which croft reaches its guest agent, and AgentSocket the
	// socket in it.
	AgentFolder = "/srv/agent"
	AgentSocket = "socket"
	// seedPlace is where cloud-init looks for user-data by itself.
	seedPlace = "/var/lib/cloud/seed/nocloud"
	// mostAnswer is how much of an answer of a guest agent is read, in bytes.
	mostAnswer = 8 << 20
	// watchEvery is how often croft sees to the containers that run.
	watchEvery = time.Second
)

// contains reports whether the host's machines are containers.
func (h *host) contains() bool { return h.Driver == Containers }

func (h *host) consoleFile(id string) string { return filepath.Join(h.state, consoleOf(id)) }
func (h *host) agentFolder(id string) string { return filepath.Join(h.state, id+".agent") }
func (h *host) seedFolder(id string) string  { return filepath.Join(h.state, id+".seed") }

// portOf is the name of a container's network device on the host, of which Linux takes 15 characters. A libvirtd that
// is killed in a start may leave a device behind, which nobody but the host can remove; n tells the next one from it.
func portOf(id string, n int) string {
	return fmt.Sprintf("ct%s%d", strings.TrimPrefix(id, prefix)[:11], n%10)
}

// port is the name of its network device, as it was written down.
func (m *machine) port() string {
	if m.xml.Devices != nil {
		for _, i := range m.xml.Devices.Interfaces {
			if i.Target != nil && strings.HasPrefix(i.Target.Dev, "ct") {
				return i.Target.Dev
			}
		}
	}
	return portOf(m.id, 0)
}

// nextPort gives a container that does not run another network device.
func (m *machine) nextPort(ctx context.Context) error {
	now := m.port()
	for n := range m.xml.Devices.Interfaces {
		if i := &m.xml.Devices.Interfaces[n]; i.Target != nil && i.Target.Dev == now {
			i.Target.Dev = portOf(m.id, int(now[len(now)-1]-'0')+1)
		}
	}
	text, err := m.xml.Marshal()
	if err != nil {
		return err
	}
	return m.host.call(ctx, func(l *libvirt.Libvirt) error { _, err := l.DomainDefineXML(text); return err })
}

// mostPath is how long the path of a file may be that libvirt makes a loop device of (LO_NAME_SIZE of loop(4), less the
// byte that ends it).
const mostPath = 63

// fits reports whether the roots of containers in a folder can be mounted.
func fits(folder string) error {
	if most := mostPath - len("/") - len(idFor("")) - len(".raw"); len(folder) > most {
		return fmt.Errorf("the pool's folder %s is longer than %d characters, which Linux's loop devices take", folder, most)
	}
	return nil
}

// defineContainer writes down the domain of a container. root is the path of its root on the host.
func (h *host) defineContainer(id string, m mark, z Size, root string) (string, error) {
	element, err := m.element()
	if err != nil {
		return "", err
	}
	bound := func(folder, at string) libvirtxml.DomainFilesystem {
		return libvirtxml.DomainFilesystem{
			AccessMode: "passthrough",
			Source:     &libvirtxml.DomainFilesystemSource{Mount: &libvirtxml.DomainFilesystemSourceMount{Dir: folder}},
			Target:     &libvirtxml.DomainFilesystemTarget{Dir: at},
		}
	}
	own := libvirtxml.DomainFilesystem{
		AccessMode: "passthrough", Driver: &libvirtxml.DomainFilesystemDriver{Type: "loop", Format: "raw"},
		Source: &libvirtxml.DomainFilesystemSource{File: &libvirtxml.DomainFilesystemSourceFile{File: root}},
		Target: &libvirtxml.DomainFilesystemTarget{Dir: "/"},
	}
	seed := bound(h.seedFolder(id), seedPlace)
	seed.ReadOnly = &libvirtxml.DomainFilesystemReadOnly{}
	d := libvirtxml.Domain{
		Type: string(Containers), Name: id, Title: m.Name, Metadata: &libvirtxml.DomainMetadata{XML: element},
		Memory: &libvirtxml.DomainMemory{Value: uint(z.MemoryMiB), Unit: "MiB"},
		VCPU:   &libvirtxml.DomainVCPU{Value: uint(z.CPUs)},
		OS:     &libvirtxml.DomainOS{Type: &libvirtxml.DomainOSType{Arch: "x86_64", Type: "exe"}, Init: "/sbin/init"},
		Devices: &libvirtxml.DomainDeviceList{
			Filesystems: []libvirtxml.DomainFilesystem{own, seed},
			Interfaces: []libvirtxml.DomainInterface{{
				Source: &libvirtxml.DomainInterfaceSource{
					Network: &libvirtxml.DomainInterfaceSourceNetwork{Network: h.Network},
				},
				Target: &libvirtxml.DomainInterfaceTarget{Dev: portOf(id, 0)},
			}},
			Consoles: []libvirtxml.DomainConsole{{
				Source: &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}},
			}},
		},
	}
	if m.Agent {
		d.Devices.Filesystems = append(d.Devices.Filesystems, bound(h.agentFolder(id), AgentFolder))
	}
	return d.Marshal()
}

// startContainer starts a container that does not run. Its firewall is bound before its SSH server is up; where that
// fails, the container ends again.
func (m *machine) startContainer(ctx context.Context) error {
	h := m.host
	if err := os.MkdirAll(h.agentFolder(m.id), 0o700); err != nil {
		return err
	}
	begun := false
	var err error
	for tries := 1; ; tries++ {
		if err = m.create(ctx, &begun); err == nil || isAway(err) || tries == mostStarts || ctx.Err() != nil {
			break
		}
		h.log.Warn("a container does not start", "instance", m.id, "try", tries, "error", err)
		if strings.Contains(err.Error(), "File exists") {
			if err = m.nextPort(ctx); err != nil {
				break
			}
		}
		if err = pause(ctx, again); err != nil {
			break
		}
	}
	if err != nil {
		return err
	}
	if err := h.guard(ctx, m.id, begun); err != nil {
		//nolint:errcheck // the first error is the one to tell
		h.call(ctx, func(l *libvirt.Libvirt) error { return l.DomainDestroy(m.domain) })
		return fmt.Errorf("the firewall of %s is not in effect, and it was stopped: %w", m.mark.Name, err)
	}
	h.follow(m.domain)
	return nil
}

// mostStarts is how often a container is started that does not: many at once were seen to fail in libvirt's control
// groups.
const mostStarts = 4

// create starts a container that does not run; begun is set where this call did it.
func (m *machine) create(ctx context.Context, begun *bool) error {
	h := m.host
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		state, _, err := l.DomainGetState(m.domain, 0)
		if err != nil || running(state) {
			return err
		}
		if err := os.Remove(h.consoleFile(m.id)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		*begun = true
		if err = l.DomainCreate(m.domain); is(err, libvirt.ErrOperationInvalid) { // somebody else started it
			return nil
		}
		return err
	})
}

// guard binds the firewall of a container that runs to its network device; anew after it was started.
func (h *host) guard(ctx context.Context, id string, anew bool) error {
	h.guarding.Lock() // a start and watch each look first
	defer h.guarding.Unlock()
	list, err := h.machines(ctx, id)
	if err != nil || len(list) == 0 || !list[0].runs() {
		return err
	}
	m := list[0]
	port := m.port()
	var address string
	for _, i := range m.xml.Devices.Interfaces {
		if i.MAC != nil && i.Target != nil && i.Target.Dev == port {
			address = i.MAC.Address
		}
	}
	if address == "" {
		return fmt.Errorf("%s has no network device called %s", m.mark.Name, port)
	}
	binding := libvirtxml.NWFilterBinding{
		Owner:     &libvirtxml.NWFilterBindingOwner{Name: id, UUID: m.xml.UUID},
		PortDev:   &libvirtxml.NWFilterBindingPortDev{Name: port},
		MAC:       &libvirtxml.NWFilterBindingMAC{Address: address},
		FilterRef: &libvirtxml.NWFilterBindingFilterRef{Filter: filterOf(m.mark.Firewall)},
	}
	text, err := binding.Marshal()
	if err != nil {
		return err
	}
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		now, err := l.NwfilterBindingLookupByPortDev(port)
		switch {
		case err == nil && !anew:
			return nil
		case err == nil:
			err = l.NwfilterBindingDelete(now)
		case is(err, libvirt.ErrNoNwfilterBinding):
			err = nil
		}
		if err != nil {
			return err
		}
		_, err = l.NwfilterBindingCreateXML(text, 0)
		return err
	})
}

// unbind takes away what guard bound.
func (h *host) unbind(ctx context.Context, port string) error {
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		now, err := l.NwfilterBindingLookupByPortDev(port)
		if err == nil {
			err = l.NwfilterBindingDelete(now)
		}
		if is(err, libvirt.ErrNoNwfilterBinding) {
			return nil
		}
		return err
	})
}

// watch sees to the containers that run: also to those that started by themselves, and after libvirtd was away.
func (c *Croft) watch(h *host) {
	defer c.work.Done()
	for pause(c.ctx, watchEvery) == nil {
		list, err := h.machines(c.ctx, "")
		for _, m := range list {
			if !m.runs() {
				continue
			}
			h.follow(m.domain)
			if err = h.guard(c.ctx, m.id, false); err != nil && c.ctx.Err() == nil {
				c.log.Error("the firewall of a container is not in effect", "instance", m.id, "error", err)
			}
		}
		if err != nil && c.ctx.Err() == nil {
			c.log.Warn("the containers cannot be looked at", "zone", h.Zone, "error", err)
		}
	}
}

// follow writes what a container says to its console into a file, unless that is done already.
func (h *host) follow(d libvirt.Domain) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.followed[d.Name] || h.ctx.Err() != nil {
		return
	}
	h.followed[d.Name] = true
	h.following.Add(1)
	go func() {
		defer h.following.Done()
		err := h.stream(h.ctx, 0, nil, func(l *libvirt.Libvirt) error {
			return l.DomainOpenConsole(d, nil, &consoleWriter{path: h.consoleFile(d.Name)}, 0)
		})
		if err != nil && h.ctx.Err() == nil { // watch follows it again
			h.log.Warn("a console is not followed", "instance", d.Name, "error", err)
		}
		pause(h.ctx, watchEvery) //nolint:errcheck // so that one whose console cannot be opened is not asked all the time
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.followed, d.Name)
	}()
}

// consoleWriter appends to a file until that is as long as what is read of it.
type consoleWriter struct{ path string }

func (w *consoleWriter) Write(p []byte) (int, error) {
	f, err := os.OpenFile(w.path, os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o600)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	if left := mostConsole - info.Size(); left > 0 {
		if _, err := f.Write(p[:min(int64(len(p)), left)]); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// consoleFollowed is what a container has written to its console since it was last started.
func (h *host) consoleFollowed(id string) ([]byte, error) {
	f, err := os.Open(h.consoleFile(id))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostConsole))
}

// removeContainer removes what croft keeps of a container on its own machine.
func (h *host) removeContainer(ctx context.Context, m machine) error {
	if err := h.unbind(ctx, m.port()); err != nil {
		return err
	}
	id := m.id
	return errors.Join(os.RemoveAll(h.consoleFile(id)), os.RemoveAll(h.agentFolder(id)), os.RemoveAll(h.seedFolder(id)))
}

// askByFolder has the guest agent of a container do something. What is in the folder is the container's: a link there
// is not followed, and an answer is read within bounds.
func (h *host) askByFolder(ctx context.Context, id, request string, within time.Duration) (string, error) {
	h.mu.Lock()
	turn := h.turns[id]
	if turn == nil {
		turn = make(chan struct{}, 1) // the agent serves one connection after the other
		h.turns[id] = turn
	}
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	select {
	case turn <- struct{}{}:
		defer func() { <-turn }()
	case <-ctx.Done():
		return "", errors.New("the guest agent is busy")
	}
	conn, err := dialBelow(ctx, h.agentFolder(id), AgentSocket)
	if err != nil {
		return "", fmt.Errorf("the guest agent does not listen: %w", err)
	}
	defer conn.Close()
	defer context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })() //nolint:errcheck // it is closed then
	// What an earlier connection left half said ends with the byte 0xff, as the agent's protocol has it.
	number := rand.Int32()
	sync := fmt.Sprintf("\xff{\"execute\": \"guest-sync-delimited\", \"arguments\": {\"id\": %d}}\n", number)
	if _, err := io.WriteString(conn, sync+request+"\n"); err != nil {
		return "", silent(ctx, err)
	}
	in := bufio.NewReader(io.LimitReader(conn, mostAnswer))
	for {
		if _, err := in.ReadBytes(0xff); err != nil {
			return "", silent(ctx, err)
		}
		line, err := in.ReadBytes('\n')
		if err != nil {
			return "", silent(ctx, err)
		}
		var said struct {
			Return int32 `json:"return"`
		}
		if json.Unmarshal(line, &said) == nil && said.Return == number {
			break
		}
	}
	line, err := in.ReadBytes('\n')
	if err != nil {
		return "", silent(ctx, err)
	}
	var failed struct {
		Error *struct {
			Desc string `json:"desc"`
		} `json:"error"`
	}
	if json.Unmarshal(line, &failed) == nil && failed.Error != nil {
		return "", fmt.Errorf("the guest agent: %s", failed.Error.Desc)
	}
	return string(bytes.TrimSpace(line)), nil
}

func silent(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return errors.New("the guest agent does not answer")
	}
	return fmt.Errorf("the guest agent: %w", err)
}

// dialBelow connects to a socket in a folder whose content is not to be trusted.
func dialBelow(ctx context.Context, folder, name string) (net.Conn, error) {
	at, err := unix.Open(folder, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(at)
	socket, err := unix.Openat2(at, name, &unix.OpenHow{
		Flags: unix.O_PATH | unix.O_NOFOLLOW | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS,
	})
	if err != nil {
		return nil, err
	}
	defer unix.Close(socket)
	var about unix.Stat_t
	if err := unix.Fstat(socket, &about); err != nil {
		return nil, err
	}
	if about.Mode&unix.S_IFMT != unix.S_IFSOCK {
		return nil, errors.New("what is there is no socket")
	}
	return new(net.Dialer).DialContext(ctx, "unix", fmt.Sprintf("/proc/self/fd/%d", socket))
}
