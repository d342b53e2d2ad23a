package croft

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

// markSpace is the XML name space of croft's mark in a domain's metadata.
const markSpace = "urn:plumlatch:croft"

// prefix is what the names of all that croft makes in libvirt begin with.
const prefix = "croft-"

// mark is what croft keeps in the metadata of a domain that is its own.
type mark struct {
	Token      string            `json:"token"`
	Name       string            `json:"name"`
	Image      string            `json:"image"`
	Size       string            `json:"size"`
	KeyLabel   string            `json:"key_label,omitempty"`
	Firewall   string            `json:"firewall"`
	Labels     map[string]string `json:"labels,omitempty"`
	LaunchedAt time.Time         `json:"launched_at"`
	// Agent is whether there is a guest agent in the image, AgentAllowed whether it may be asked.
	Agent        bool `json:"agent,omitempty"`
	AgentAllowed bool `json:"agent_allowed,omitempty"`
	// Root is the volume that it starts from, and Copy that of which it was launched; "" for its image.
	Root string `json:"root"`
	Copy string `json:"copy,omitempty"`
	// FileSystem and FileSystemUUID are those of its root, and Partition is where that is, as its image tells.
	Partition      int    `json:"partition,omitempty"`
	FileSystem     string `json:"file_system,omitempty"`
	FileSystemUUID string `json:"file_system_uuid,omitempty"`
}

// machine is a domain with croft's mark.
type machine struct {
	host   *host
	domain libvirt.Domain
	id     string // the domain's name
	mark   mark
	state  libvirt.DomainState
	xml    libvirtxml.Domain
	// environment is that of what its agent runs; nil for the agent's own.
	environment []string
}

// idFor is the id of the instance that is launched by a request token: the same token leads to the same machine.
func idFor(token string) string {
	sum := sha256.Sum256([]byte(token))
	return prefix + hex.EncodeToString(sum[:8])
}

func (m mark) element() (string, error) {
	text, err := json.Marshal(m)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	b.WriteString(`<croft:instance xmlns:croft="` + markSpace + `">`)
	if err := xml.EscapeText(&b, text); err != nil {
		return "", err
	}
	b.WriteString("</croft:instance>")
	return b.String(), nil
}

// markOf reads croft's mark in a domain's metadata; ok is false where there is none.
func markOf(d libvirtxml.Domain) (m mark, ok bool) {
	if d.Metadata == nil {
		return m, false
	}
	dec := xml.NewDecoder(strings.NewReader("<m>" + d.Metadata.XML + "</m>"))
	for {
		t, err := dec.Token()
		if err != nil {
			return m, false
		}
		if s, is := t.(xml.StartElement); is && s.Name.Space == markSpace && s.Name.Local == "instance" {
			var text string
			if dec.DecodeElement(&text, &s) != nil || json.Unmarshal([]byte(text), &m) != nil {
				return m, false
			}
			return m, m.Token != ""
		}
	}
}

// rootTarget is the device name of the disk that a machine starts from, seedTarget that of the one with its user-data.
const (
	rootTarget = "vda"
	seedTarget = "vdz"
	agentPort  = "org.qemu.guest_agent.0"
	// spare is how many slots there are for disks that are attached to a running machine.
	spare = 6
)

// serialOf is the serial number by which a guest finds the disk of a volume, of which it shows 20 characters at most.
func serialOf(volume string) string {
	sum := sha256.Sum256([]byte(volume))
	return "croft" + hex.EncodeToString(sum[:7])
}

// diskOf is the disk of a volume in the host's pool.
func (h *host) diskOf(volume, target string) libvirtxml.DomainDisk {
	return libvirtxml.DomainDisk{
		Device: "disk",
		Driver: &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "qcow2", Cache: h.DiskCache, Discard: "unmap"},
		Source: &libvirtxml.DomainDiskSource{Volume: &libvirtxml.DomainDiskSourceVolume{Pool: h.Pool, Volume: volume}},
		Target: &libvirtxml.DomainDiskTarget{Dev: target, Bus: "virtio"}, Serial: serialOf(volume),
	}
}

func (h *host) rootOf(id string) string { return id + "." + h.format() }

// describe writes down the domain of a machine, by the host's driver.
func (h *host) describe(ctx context.Context, id string, m mark, z Size) (string, error) {
	if !h.contains() {
		return h.define(id, m, z)
	}
	p, err := h.pool(ctx, h.Pool)
	if err != nil {
		return "", err
	}
	folder, err := h.folder(ctx, p)
	if err != nil {
		return "", err
	}
	if err := fits(folder); err != nil {
		return "", err
	}
	return h.defineContainer(id, m, z, path.Join(folder, m.Root))
}

// define writes down the domain of a virtual machine.
func (h *host) define(id string, m mark, z Size) (string, error) {
	element, err := m.element()
	if err != nil {
		return "", err
	}
	console := uint(0)
	controllers := []libvirtxml.DomainController{{Type: "pci", Model: "pcie-root"}}
	for range spare + 8 { // as many as its own devices need, and some
		controllers = append(controllers, libvirtxml.DomainController{Type: "pci", Model: "pcie-root-port"})
	}
	seed := libvirtxml.DomainDisk{
		Device: "disk", Driver: &libvirtxml.DomainDiskDriver{Name: "qemu", Type: "raw"},
		ReadOnly: &libvirtxml.DomainDiskReadOnly{},
		Source: &libvirtxml.DomainDiskSource{
			Volume: &libvirtxml.DomainDiskSourceVolume{Pool: h.Pool, Volume: seedOf(id)},
		},
		Target: &libvirtxml.DomainDiskTarget{Dev: seedTarget, Bus: "virtio"},
	}
	d := libvirtxml.Domain{
		Type: string(h.Driver), Name: id, Title: m.Name, Metadata: &libvirtxml.DomainMetadata{XML: element},
		Memory: &libvirtxml.DomainMemory{Value: uint(z.MemoryMiB), Unit: "MiB"},
		VCPU:   &libvirtxml.DomainVCPU{Value: uint(z.CPUs)},
		OS: &libvirtxml.DomainOS{
			Type:        &libvirtxml.DomainOSType{Arch: "x86_64", Machine: "q35", Type: "hvm"},
			BootDevices: []libvirtxml.DomainBootDevice{{Dev: "hd"}},
		},
		Features: &libvirtxml.DomainFeatureList{
			ACPI: &libvirtxml.DomainFeature{}, APIC: &libvirtxml.DomainFeatureAPIC{},
		},
		CPU: h.processor(), OnPoweroff: "destroy", OnReboot: "restart", OnCrash: "destroy",
		Devices: &libvirtxml.DomainDeviceList{
			Controllers: controllers, Disks: []libvirtxml.DomainDisk{h.diskOf(m.Root, rootTarget), seed},
			Interfaces: []libvirtxml.DomainInterface{{
				Source: &libvirtxml.DomainInterfaceSource{
					Network: &libvirtxml.DomainInterfaceSourceNetwork{Network: h.Network},
				},
				Model: &libvirtxml.DomainInterfaceModel{Type: "virtio"}, ROM: &libvirtxml.DomainROM{Enabled: "no"},
				FilterRef: &libvirtxml.DomainInterfaceFilterRef{Filter: filterOf(m.Firewall)},
			}},
			Serials: []libvirtxml.DomainSerial{{
				Source: &libvirtxml.DomainChardevSource{Pty: &libvirtxml.DomainChardevSourcePty{}},
				Log:    &libvirtxml.DomainChardevLog{File: path.Join(h.BootOutput, consoleOf(id)), Append: "off"},
				Target: &libvirtxml.DomainSerialTarget{Port: &console},
			}},
			Channels: []libvirtxml.DomainChannel{{
				Source: &libvirtxml.DomainChardevSource{UNIX: &libvirtxml.DomainChardevSourceUNIX{}},
				Target: &libvirtxml.DomainChannelTarget{VirtIO: &libvirtxml.DomainChannelTargetVirtIO{Name: agentPort}},
			}},
			RNGs: []libvirtxml.DomainRNG{{
				Model: "virtio",
				Backend: &libvirtxml.DomainRNGBackend{
					Random: &libvirtxml.DomainRNGBackendRandom{Device: "/dev/urandom"},
				},
			}},
			MemBalloon: &libvirtxml.DomainMemBalloon{Model: "virtio"},
		},
	}
	return d.Marshal()
}

func (h *host) processor() *libvirtxml.DomainCPU {
	model := h.Processor
	switch {
	case model == "" && h.Driver == KVM:
		return &libvirtxml.DomainCPU{Mode: "host-passthrough", Check: "none"}
	case model == "":
		model = "Nehalem" // the fastest to emulate of those that Debian's kernel wants nothing more of
	}
	return &libvirtxml.DomainCPU{
		Mode: "custom", Match: "exact", Check: "none",
		Model: &libvirtxml.DomainCPUModel{Fallback: "allow", Value: model},
	}
}

func seedOf(id string) string    { return id + "-seed.iso" }
func consoleOf(id string) string { return id + ".console" }

// machines returns all machines of the host, or the one with that id. Domains without croft's mark are left out.
func (h *host) machines(ctx context.Context, only string) (out []machine, err error) {
	err = h.call(ctx, func(l *libvirt.Libvirt) error {
		var list []libvirt.Domain
		if only != "" {
			d, err := l.DomainLookupByName(only)
			if is(err, libvirt.ErrNoDomain) {
				return nil
			}
			if err != nil {
				return err
			}
			list = []libvirt.Domain{d}
		} else if list, _, err = l.ConnectListAllDomains(1, 0); err != nil {
			return err
		}
		for _, d := range list {
			if !strings.HasPrefix(d.Name, prefix) {
				continue
			}
			m, ours, err := h.machine(l, d)
			if is(err, libvirt.ErrNoDomain) { // gone meanwhile
				continue
			}
			if err != nil {
				return err
			}
			if ours {
				out = append(out, m)
			}
		}
		return nil
	})
	return out, err
}

// machine reads a domain; ours is whether it has croft's mark.
func (h *host) machine(l *libvirt.Libvirt, d libvirt.Domain) (m machine, ours bool, err error) {
	text, err := l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return m, false, err
	}
	m = machine{host: h, domain: d, id: d.Name}
	if err := m.xml.Unmarshal(text); err != nil {
		return m, false, fmt.Errorf("the domain %s of %s: %w", d.Name, h.Zone, err)
	}
	if m.mark, ours = markOf(m.xml); !ours {
		return m, false, nil
	}
	state, _, err := l.DomainGetState(d, 0)
	m.state = libvirt.DomainState(state)
	return m, true, err
}

// runs reports whether the machine is running, as far as libvirt says.
func (m *machine) runs() bool {
	switch m.state {
	case libvirt.DomainRunning, libvirt.DomainBlocked, libvirt.DomainPaused, libvirt.DomainShutdown:
		return true
	}
	return false
}

// keepMark writes the mark down anew.
func (m *machine) keepMark(ctx context.Context) error {
	element, err := m.mark.element()
	if err != nil {
		return err
	}
	// The element alone; libvirt puts the name space in by the key.
	inner := strings.Replace(element, "croft:instance xmlns:croft=\""+markSpace+"\"", "instance", 1)
	inner = strings.Replace(inner, "</croft:instance>", "</instance>", 1)
	return m.host.call(ctx, func(l *libvirt.Libvirt) error {
		flags := libvirt.DomainAffectConfig
		if m.runs() {
			flags |= libvirt.DomainAffectLive
		}
		return l.DomainSetMetadata(
			m.domain, int32(libvirt.DomainMetadataElement), libvirt.OptString{inner}, libvirt.OptString{"croft"},
			libvirt.OptString{markSpace}, flags,
		)
	})
}

// addresses are those that the network of the host has lent to machines, by their MAC addresses.
func (h *host) addresses(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	err := h.call(ctx, func(l *libvirt.Libvirt) error {
		n, err := l.NetworkLookupByName(h.Network)
		if err != nil {
			return err
		}
		leases, _, err := l.NetworkGetDhcpLeases(n, nil, 1, 0)
		if err != nil {
			return err
		}
		latest := map[string]int64{}
		for _, lease := range leases {
			for _, mac := range lease.Mac {
				if lease.Expirytime >= latest[mac] {
					out[mac], latest[mac] = lease.Ipaddr, lease.Expirytime
				}
			}
		}
		return nil
	})
	return out, err
}

// address is the one of the machine among those; "" for none.
func (m *machine) address(lent map[string]string) string {
	if m.xml.Devices == nil {
		return ""
	}
	for _, i := range m.xml.Devices.Interfaces {
		if i.MAC != nil && lent[i.MAC.Address] != "" {
			return lent[i.MAC.Address]
		}
	}
	return ""
}

// instance is the machine as the contract tells it; at work on it is an operation of that kind, "" for none.
func (m *machine) instance(atWork string, lent map[string]string) adapter.Instance {
	i := adapter.Instance{
		Id: m.id, Name: m.mark.Name, Image: m.mark.Image, Size: m.mark.Size, Zone: m.host.Zone, Region: m.host.Region,
		SshPort: m.host.SSHPort, KeyLabel: m.mark.KeyLabel, Firewall: m.mark.Firewall, LaunchedAt: &m.mark.LaunchedAt,
	}
	if len(m.mark.Labels) > 0 {
		i.Labels = &m.mark.Labels
	}
	switch {
	case atWork == "launch":
		i.State = adapter.InstanceStateLaunching
	case atWork == "start":
		i.State = adapter.InstanceStateStarting
	case atWork == "stop":
		i.State = adapter.InstanceStateStopping
	case atWork == "delete":
		i.State = adapter.InstanceStateDeleting
	case m.runs():
		i.State = adapter.InstanceStateRunning
	default:
		i.State = adapter.InstanceStateStopped
	}
	if m.runs() {
		i.PrivateAddress = m.address(lent)
		i.PublicAddress = i.PrivateAddress
	}
	return i
}
