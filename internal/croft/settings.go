// Package croft is an adapter, in the sense of api/adapter.yaml, over hosts that run virtual machines with libvirt
// (https://libvirt.org): it speaks libvirt's public RPC with them, and starts none of its programs. What there is is
// kept in libvirt itself: an instance is a domain that carries croft's mark, and domains without it are never touched.
package croft

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"
)

// Driver is by what a zone runs its machines.
type Driver string

// The drivers. KVM needs the processor's help, and a /dev/kvm that is there is no proof that it helps. Emulated does
// without. Containers share the host's kernel, and are no boundary for who has root in one.
const (
	KVM        Driver = "kvm"
	Emulated   Driver = "qemu"
	Containers Driver = "lxc"
)

// Drivers are all of them.
var Drivers = []Driver{KVM, Emulated, Containers}

// Settings say which hosts there are, and what is launched on them.
type Settings struct {
	// Name is what people call this cloud.
	Name string `yaml:"name"`
	// TokenFile has what callers present; State is the folder of the journal.
	TokenFile string `yaml:"token-file"`
	State     string `yaml:"state"`
	Hosts     []Host `yaml:"hosts"`
	Sizes     []Size `yaml:"sizes"`
	// TakeOver is whether hosts are taken from another croftd.
	TakeOver bool `yaml:"-"`
	// Open are the address ranges from which the group default lets SSH in until somebody changes that.
	Open []string `yaml:"open"`
}

// Host is one libvirt host, which is a zone.
type Host struct {
	Zone   string `yaml:"zone"`
	Region string `yaml:"region"`
	// Socket is that of libvirtd on this machine; TLS is how one elsewhere is reached, in its place.
	Socket string `yaml:"socket"`
	TLS    *TLS   `yaml:"tls"`
	Driver Driver `yaml:"driver"`
	// Pool has the images and the disks, Network gives the addresses.
	Pool    string `yaml:"pool"`
	Network string `yaml:"network"`
	// BootOutput is a folder on the host into which the consoles of virtual machines are written.
	BootOutput string `yaml:"boot-output"`
	SSHPort    int    `yaml:"ssh-port"`
	// BootsWithin is for how long a machine may take until it has an address.
	BootsWithin time.Duration `yaml:"boots-within"`
	// Processor is the model that machines see; DiskCache how writes to disks are kept (libvirt's words for both).
	Processor string `yaml:"processor"`
	DiskCache string `yaml:"disk-cache"`
}

// TLS is how a libvirtd elsewhere is reached: HOST:PORT, and files in PEM.
type TLS struct {
	Address     string `yaml:"address"`
	Authorities string `yaml:"authorities"`
	Certificate string `yaml:"certificate"`
	Key         string `yaml:"key"`
}

// Size is one that is launched.
type Size struct {
	Name      string `yaml:"name"`
	CPUs      int    `yaml:"cpus"`
	MemoryMiB int    `yaml:"memory-mib"`
	DiskGiB   int    `yaml:"disk-gib"`
}

var nameForm = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// ReadSettings reads a file of settings. Paths in it count from its folder.
func ReadSettings(path string) (s Settings, err error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return s, err
	}
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&s); err != nil && !errors.Is(err, io.EOF) {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	folder := filepath.Dir(path)
	for _, p := range []*string{&s.TokenFile, &s.State} {
		if *p != "" && !filepath.IsAbs(*p) {
			*p = filepath.Join(folder, *p)
		}
	}
	if err := s.check(); err != nil {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	return s, nil
}

func (s *Settings) check() error {
	switch {
	case s.Name == "":
		return errors.New("name is missing: what people call this cloud")
	case s.TokenFile == "":
		return errors.New("token-file is missing: a file with what callers must present")
	case s.State == "":
		return errors.New("state is missing: a folder for the journal")
	case len(s.Hosts) == 0:
		return errors.New("hosts is empty: at least one with zone, socket, driver, pool and network is needed")
	case len(s.Sizes) == 0:
		return errors.New("sizes is empty: at least one with name, cpus, memory-mib and disk-gib is needed")
	}
	seen := map[string]bool{}
	for n := range s.Hosts {
		h := &s.Hosts[n]
		if err := h.check(); err != nil {
			return fmt.Errorf("host %d: %w", n+1, err)
		}
		if seen[h.Zone] {
			return fmt.Errorf("host %d: there are two of the zone %s", n+1, h.Zone)
		}
		seen[h.Zone] = true
		for _, other := range s.Hosts[:n] {
			if other.where() == h.where() && other.Driver == h.Driver {
				return fmt.Errorf("host %d: it is that of the zone %s, with the same driver", n+1, other.Zone)
			}
		}
	}
	for n, z := range s.Sizes {
		if !nameForm.MatchString(z.Name) || z.CPUs < 1 || z.MemoryMiB < 64 || z.DiskGiB < 1 {
			return fmt.Errorf("size %d: it needs a name, cpus, memory-mib (64 at least) and disk-gib", n+1)
		}
	}
	for _, from := range s.Open {
		if p, err := netip.ParsePrefix(from); err != nil || !p.Addr().Is4() || p.Masked() != p {
			return fmt.Errorf("open: %q is no range of IPv4 addresses, such as 192.0.2.0/24", from)
		}
	}
	return nil
}

// where tells hosts apart.
func (h *Host) where() string {
	if h.TLS != nil {
		return h.TLS.Address
	}
	return h.Socket
}

func (h *Host) check() error {
	if h.SSHPort == 0 {
		h.SSHPort = 22
	}
	if h.BootsWithin == 0 {
		h.BootsWithin = 5 * time.Minute
	}
	if h.Region == "" {
		h.Region = h.Zone
	}
	if h.DiskCache == "" {
		h.DiskCache = "none"
	}
	switch {
	case !nameForm.MatchString(h.Zone):
		return fmt.Errorf("%q is no name for a zone", h.Zone)
	case !slices.Contains(Drivers, h.Driver):
		return fmt.Errorf("driver is %q; it is one of %v", h.Driver, Drivers)
	case (h.Socket == "") == (h.TLS == nil):
		return errors.New("give one of socket (libvirtd on this machine) and tls (elsewhere)")
	case h.TLS != nil && (h.TLS.Address == "" || h.TLS.Authorities == "" || h.TLS.Certificate == "" || h.TLS.Key == ""):
		return errors.New("tls needs address, authorities, certificate and key")
	case h.Pool == "" || h.Network == "":
		return errors.New("pool and network are needed: names that libvirt knows")
	case h.Driver == Containers && h.BootOutput != "":
		return errors.New("boot-output is for virtual machines; the consoles of containers are kept in the state folder")
	case h.Driver == Containers && h.TLS != nil:
		return errors.New("containers are run by a croftd on their own host, by its socket")
	case h.Driver != Containers && !filepath.IsAbs(h.BootOutput):
		return errors.New("boot-output is needed: an absolute path of a folder on the host")
	case h.BootsWithin < time.Second || h.BootsWithin > time.Hour:
		return fmt.Errorf("boots-within is %s; it is from 1s to 1h", h.BootsWithin)
	case h.SSHPort < 1 || h.SSHPort > 65535:
		return fmt.Errorf("ssh-port is %d", h.SSHPort)
	}
	return nil
}
