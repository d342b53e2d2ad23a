package hall

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/child"
)

// The names in the hall's libvirtd, and the addresses of its network.
const (
	Pool    = "machines"
	Network = "hall"
	Range   = "10.77.0.0/24"
	Gateway = "10.77.0.1"
	socket  = "/run/libvirt/libvirt-sock"
)

// startsWithin is for how long libvirtd may take: the first time it looks at what QEMU can do.
const startsWithin = 60 * time.Second

// poolFolder is where the pool is, in the hall: a path that is short enough for libvirt's loop devices.
var poolFolder = filepath.Join(overlaid["state"], "pool")

// Hall is a libvirtd at work.
type Hall struct {
	folder string
	daemon *child.Process
}

// overlaid are the folders of libvirt that a hall has of its own.
var overlaid = map[string]string{
	"settings": "/etc/libvirt", "state": "/var/lib/libvirt", "run": "/run/libvirt", "cache": "/var/cache/libvirt",
	"log": "/var/log/libvirt",
}

// settings are libvirt's own, for a libvirtd without systemd, in a hall whose machines are of no danger to anybody
// else.
var settings = map[string]string{
	"qemu.conf": `user = "root"
group = "root"
security_driver = "none"
cgroup_controllers = [ ]
namespaces = [ ]
stdio_handler = "file"
remember_owner = 0
dynamic_ownership = 0
`,
	"libvirtd.conf": `unix_sock_ro_perms = "0700"
unix_sock_rw_perms = "0700"
auth_unix_rw = "none"
auth_unix_ro = "none"
log_outputs = "2:file:/var/log/libvirt/libvirtd.log"
log_filters = "3:util.object 3:rpc"
`,
}

// Open lays a hall out in a folder, where an earlier one may be, and starts its libvirtd. It needs to run inside.
func Open(folder string) (*Hall, error) {
	if !Inside() {
		return nil, errors.New("a hall is opened in namespaces of its own alone")
	}
	for name, over := range overlaid {
		own := filepath.Join(folder, name)
		for _, d := range []string{own, over} {
			if err := os.MkdirAll(d, 0o755); err != nil {
				return nil, err
			}
		}
		if name == "run" { // which a hall that was killed may have left behind
			if err := empty(own); err != nil {
				return nil, err
			}
		}
		if err := syscall.Mount(own, over, "", syscall.MS_BIND, ""); err != nil {
			return nil, fmt.Errorf("%s of its own: %w", over, err)
		}
	}
	for name, text := range settings {
		if err := os.WriteFile(filepath.Join(overlaid["settings"], name), []byte(text), 0o600); err != nil {
			return nil, err
		}
	}
	for _, path := range []string{poolFolder, filepath.Join(folder, "boot-output")} {
		if err := os.MkdirAll(path, 0o755); err != nil {
			return nil, err
		}
	}
	if err := controllers(); err != nil {
		return nil, err
	}
	if err := builtInUser(folder); err != nil {
		return nil, err
	}
	h := &Hall{folder: folder}
	if err := h.Start(); err != nil {
		return nil, err
	}
	if err := h.layOut(); err != nil {
		return nil, err
	}
	return h, h.resume()
}

// builtIn is the user that Debian's libvirt was built for. It asks for its number at the start, though qemu.conf names
// another, and ends where there is none, as on a machine without the package that makes the user.
const builtIn = "libvirt-qemu"

// builtInUser has the user in the namespace, where the machine has none.
func builtInUser(folder string) error {
	if _, err := user.Lookup(builtIn); err == nil {
		return nil
	}
	for name, line := range map[string]string{
		"passwd": builtIn + ":x:64055:64055::/nonexistent:/usr/sbin/nologin\n", "group": builtIn + ":x:64055:\n",
	} {
		over, own := filepath.Join("/etc", name), filepath.Join(folder, name)
		text, err := os.ReadFile(over)
		if err != nil {
			return err
		}
		if err := os.WriteFile(own, append(text, line...), 0o644); err != nil {
			return err
		}
		if err := syscall.Mount(own, over, "", syscall.MS_BIND, ""); err != nil {
			return fmt.Errorf("%s of its own: %w", over, err)
		}
	}
	return nil
}

// controllers mounts those of the kernel for control groups, each by itself, as libvirt wants them for containers.
func controllers() error {
	const at = "/sys/fs/cgroup"
	text, err := os.ReadFile("/proc/cgroups")
	if err != nil {
		return err
	}
	for syscall.Unmount(at, syscall.MNT_DETACH) == nil { // what is there, with all below it; libvirt would look for that
	}
	if err := syscall.Mount("cgroup", at, "tmpfs", 0, ""); err != nil {
		return fmt.Errorf("control groups of its own: %w", err)
	}
	for line := range strings.Lines(string(text)) {
		about := strings.Fields(line) // name, hierarchy, how many, enabled
		if len(about) != 4 || about[3] != "1" || !slices.Contains(wantedControllers, about[0]) {
			continue
		}
		folder := filepath.Join(at, about[0])
		if err := os.Mkdir(folder, 0o755); err != nil {
			return err
		}
		if err := syscall.Mount("cgroup", folder, "cgroup", 0, about[0]); err != nil {
			return fmt.Errorf("the controller %s: %w", about[0], err)
		}
		forget(folder)
	}
	return nil
}

// forget removes the groups that containers of a hall that was killed have left behind. The container of somebody else
// has a process somewhere in its groups, and one that only starts has them since a moment: these stay.
func forget(folder string) {
	left, err := filepath.Glob(filepath.Join(folder, "machine", "lxc-*-croft-*"))
	if err != nil {
		return
	}
	for _, group := range left {
		about, err := os.Stat(group)
		if err != nil || time.Since(about.ModTime()) < time.Minute {
			continue
		}
		var below []string
		err = filepath.WalkDir(group, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return err
			}
			below = append(below, path)
			processes, err := os.ReadFile(filepath.Join(path, "cgroup.procs"))
			if err == nil && len(processes) > 0 {
				err = errors.New("somebody is at work in it")
			}
			return err
		})
		if err != nil {
			continue
		}
		for _, path := range slices.Backward(below) {
			syscall.Rmdir(path) //nolint:errcheck // it stays then
		}
	}
}

// wantedControllers are those that libvirt uses.
var wantedControllers = []string{"memory", "cpu", "cpuacct", "cpuset", "devices", "freezer", "blkio"}

func empty(folder string) error {
	list, err := os.ReadDir(folder)
	for _, e := range list {
		err = errors.Join(err, os.RemoveAll(filepath.Join(folder, e.Name())))
	}
	return err
}

// Start starts libvirtd, after Kill.
func (h *Hall) Start() error {
	log, err := os.Create(filepath.Join(h.folder, "libvirtd.output"))
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(
		"libvirtd", "--config", filepath.Join(overlaid["settings"], "libvirtd.conf"), "--pid-file",
		filepath.Join(overlaid["run"], "libvirtd.pid"),
	)
	cmd.Stdout, cmd.Stderr = log, log
	if h.daemon, err = child.Start(cmd); err != nil {
		return err
	}
	for until := time.Now().Add(startsWithin); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		if h.do(func(*libvirt.Libvirt) error { return nil }) == nil {
			return nil
		}
	}
	last := h.do(func(*libvirt.Libvirt) error { return nil })
	return fmt.Errorf("libvirtd does not answer after %s: %w; it says: %s", startsWithin, last, h.said())
}

// said is the end of what libvirtd wrote.
func (h *Hall) said() string {
	var all []byte
	for _, name := range []string{"libvirtd.output", "log/libvirtd.log"} {
		text, _ := os.ReadFile(filepath.Join(h.folder, name))
		all = append(all, text[max(0, len(text)-2000):]...)
	}
	return strings.TrimSpace(string(all))
}

// Kill ends libvirtd at once. Its machines run on.
func (h *Hall) Kill() error {
	if err := syscall.Kill(h.daemon.PID(), syscall.SIGKILL); err != nil {
		return err
	}
	<-h.daemon.Done()
	return nil
}

// runningFile has the names of the machines that ran when a hall was closed.
const runningFile = "were-running"

// closesWithin is for how long machines may take to stop when the hall is closed.
const closesWithin = 45 * time.Second

// Close has the machines stop by themselves, since what is switched off loses what it has not written yet.
func (h *Hall) Close() error {
	var names []string
	stop := func(l *libvirt.Libvirt) error {
		list, _, err := l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive)
		if err != nil {
			return err
		}
		for _, d := range list {
			names = append(names, d.Name)
			for _, by := range []libvirt.DomainShutdownFlagValues{
				libvirt.DomainShutdownGuestAgent, libvirt.DomainShutdownAcpiPowerBtn, libvirt.DomainShutdownInitctl,
			} {
				if l.DomainShutdownFlags(d, by) == nil {
					break
				}
			}
		}
		for until := time.Now().Add(closesWithin); len(list) > 0 && time.Now().Before(until); {
			time.Sleep(200 * time.Millisecond)
			if list, _, err = l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive); err != nil {
				return err
			}
		}
		return nil
	}
	err := errors.Join(h.by(machines, stop), h.by(containers, stop))
	kept := os.WriteFile(filepath.Join(h.folder, runningFile), []byte(strings.Join(names, "\n")), 0o600)
	return errors.Join(err, kept, h.daemon.Stop(10*time.Second))
}

// resume starts the machines that ran when the hall was closed.
func (h *Hall) resume() error {
	text, err := os.ReadFile(filepath.Join(h.folder, runningFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	start := func(l *libvirt.Libvirt) error {
		for name := range strings.FieldsSeq(string(text)) {
			if d, err := l.DomainLookupByName(name); err == nil {
				l.DomainCreate(d) //nolint:errcheck // people start it then
			}
		}
		return nil
	}
	return errors.Join(
		h.by(machines, start), h.by(containers, start), os.Remove(filepath.Join(h.folder, runningFile)),
	)
}

// Dial connects to libvirtd; it makes a hall a dialer of go-libvirt's.
func (h *Hall) Dial() (net.Conn, error) { return net.DialTimeout("unix", socket, time.Second) }

// machines and containers are the drivers of libvirt.
const (
	machines   = libvirt.QEMUSystem
	containers = libvirt.ConnectURI("lxc:///system")
)

func (h *Hall) do(what func(l *libvirt.Libvirt) error) error { return h.by(machines, what) }

// by does something over a connection to one of the drivers.
func (h *Hall) by(driver libvirt.ConnectURI, what func(l *libvirt.Libvirt) error) error {
	l := libvirt.NewWithDialer(h)
	if err := l.ConnectToURI(driver); err != nil {
		return err
	}
	defer l.Disconnect() //nolint:errcheck // it was of use already
	return what(l)
}

// layOut makes the pool and the network.
func (h *Hall) layOut() error {
	return h.do(func(l *libvirt.Libvirt) error {
		if _, err := l.StoragePoolLookupByName(Pool); err != nil {
			about := libvirtxml.StoragePool{
				Type: "dir", Name: Pool, Target: &libvirtxml.StoragePoolTarget{Path: poolFolder},
			}
			text, err := about.Marshal()
			if err != nil {
				return err
			}
			if _, err := l.StoragePoolDefineXML(text, 0); err != nil {
				return err
			}
		}
		pool, err := l.StoragePoolLookupByName(Pool)
		if err != nil {
			return err
		}
		if state, _, _, _, err := l.StoragePoolGetInfo(pool); err != nil {
			return err
		} else if libvirt.StoragePoolState(state) != libvirt.StoragePoolRunning {
			if err := l.StoragePoolCreate(pool, 0); err != nil {
				return err
			}
		}
		return network(l)
	})
}

// Define writes down a machine that does nothing, as somebody else's own.
func (h *Hall) Define(name string) error {
	about := libvirtxml.Domain{
		Type: "qemu", Name: name, Memory: &libvirtxml.DomainMemory{Value: 64, Unit: "MiB"},
		OS: &libvirtxml.DomainOS{Type: &libvirtxml.DomainOSType{Arch: "x86_64", Machine: "q35", Type: "hvm"}},
	}
	text, err := about.Marshal()
	if err != nil {
		return err
	}
	return h.do(func(l *libvirt.Libvirt) error { _, err := l.DomainDefineXML(text); return err })
}

// Undefine takes away what Define wrote down.
func (h *Hall) Undefine(name string) error {
	return h.do(func(l *libvirt.Libvirt) error {
		d, err := l.DomainLookupByName(name)
		if err != nil {
			return err
		}
		return l.DomainUndefineFlags(d, 0)
	})
}

// Destroy ends a machine or a container behind everybody's back, and forgets it.
func (h *Hall) Destroy(name string) error {
	for _, driver := range []libvirt.ConnectURI{machines, containers} {
		err := h.by(driver, func(l *libvirt.Libvirt) error {
			d, err := l.DomainLookupByName(name)
			if err != nil {
				return nil //nolint:nilerr // it is one of the other driver
			}
			return errors.Join(l.DomainDestroy(d), l.DomainUndefineFlags(d, 0))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Machines are the names of all machines in the hall.
func (h *Hall) Machines() (names []string, err error) {
	list := func(l *libvirt.Libvirt) error {
		list, _, err := l.ConnectListAllDomains(1, 0)
		for _, d := range list {
			names = append(names, d.Name)
		}
		return err
	}
	return names, errors.Join(h.by(machines, list), h.by(containers, list))
}

// TakeImages copies the images of a folder into the pool, except those that are there.
func (h *Hall) TakeImages(from string) error {
	list, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	found := false
	for _, e := range list {
		if !slices.Contains([]string{".qcow2", ".raw", ".yaml"}, filepath.Ext(e.Name())) {
			continue
		}
		found = true
		into := filepath.Join(poolFolder, e.Name())
		if _, err := os.Stat(into); err == nil {
			continue
		}
		if err := copyFile(filepath.Join(from, e.Name()), into); err != nil {
			return err
		}
	}
	if !found {
		return fmt.Errorf("there is no image in %s; make one: croftd image build debian-12 -quick", from)
	}
	return h.do(func(l *libvirt.Libvirt) error {
		pool, err := l.StoragePoolLookupByName(Pool)
		if err != nil {
			return err
		}
		return l.StoragePoolRefresh(pool, 0)
	})
}

func copyFile(from, into string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(into + ".part")
	if err != nil {
		return err
	}
	err = copySparse(out, in)
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	return os.Rename(into+".part", into)
}

// copySparse copies a file and leaves out what is all zeros, which then takes no room.
func copySparse(out, in *os.File) error {
	part := make([]byte, 1<<20)
	for at := int64(0); ; {
		n, err := io.ReadFull(in, part)
		if n > 0 && len(bytes.TrimRight(part[:n], "\x00")) > 0 {
			if _, err := out.WriteAt(part[:n], at); err != nil {
				return err
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return out.Truncate(at)
		}
		if err != nil {
			return err
		}
	}
}

func network(l *libvirt.Libvirt) error {
	n, err := l.NetworkLookupByName(Network)
	if err != nil {
		about := libvirtxml.Network{
			Name: Network, Bridge: &libvirtxml.NetworkBridge{Name: "hall0", STP: "off", Delay: "0"},
			Forward: &libvirtxml.NetworkForward{Mode: "open"},
			IPs: []libvirtxml.NetworkIP{{
				Address: Gateway, Netmask: "255.255.255.0", DHCP: &libvirtxml.NetworkDHCP{
					Ranges: []libvirtxml.NetworkDHCPRange{{Start: "10.77.0.10", End: "10.77.0.250"}},
				},
			}},
		}
		text, err := about.Marshal()
		if err != nil {
			return err
		}
		if n, err = l.NetworkDefineXML(text); err != nil {
			return err
		}
	}
	if active, err := l.NetworkIsActive(n); err != nil || active == 1 {
		return err
	}
	return l.NetworkCreate(n)
}

// Settings are those of a croftd over the hall, with a zone for each driver.
func (h *Hall) Settings(tokenFile, state string, drivers ...string) string {
	text := fmt.Sprintf("name: the machine hall\ntoken-file: %s\nstate: %s\nopen: [0.0.0.0/0]\nhosts:\n", tokenFile, state)
	for _, d := range drivers {
		boot := ", disk-cache: unsafe, boot-output: " + filepath.Join(h.folder, "boot-output")
		if d == "lxc" {
			boot = ""
		}
		text += fmt.Sprintf(
			"  - {zone: hall-%s, region: wrackline, socket: %s, driver: %s, pool: %s, network: %s%s}\n", d, socket, d, Pool,
			Network, boot,
		)
	}
	return text + "sizes:\n  - {name: small, cpus: 1, memory-mib: 384, disk-gib: 3}\n"
}
