package croft

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"
)

// Finding is what a look at a host has found.
type Finding struct {
	Zone string
	// What was looked at; Wrong is what is wrong with it, "" for nothing, and Remedy what to do.
	What, Wrong, Remedy string
}

// checkWithin is for how long the look at one host may take.
const checkWithin = 2 * time.Minute

// Check looks at all hosts and changes nothing. It says of each thing that machines need whether it is there.
func Check(ctx context.Context, s Settings) (out []Finding) {
	if text, err := os.ReadFile(s.TokenFile); err != nil || strings.TrimSpace(string(text)) == "" {
		out = append(out, Finding{
			What: "the token", Wrong: "there is none in " + s.TokenFile, Remedy: "openssl rand -hex 32 > " + s.TokenFile,
		})
	}
	for n := range s.Hosts {
		h := newHost(s.Hosts[n])
		ctx, cancel := context.WithTimeout(ctx, checkWithin)
		out = append(out, h.check(ctx)...)
		cancel()
		h.close()
	}
	return out
}

func (h *host) check(ctx context.Context) (out []Finding) {
	say := func(what string, err error, remedy string) bool {
		f := Finding{Zone: h.Zone, What: what}
		if err != nil {
			f.Wrong, f.Remedy = err.Error(), remedy
		}
		out = append(out, f)
		return err == nil
	}
	var capabilities string
	err := h.call(ctx, func(l *libvirt.Libvirt) (err error) { capabilities, err = l.ConnectGetCapabilities(); return err })
	if !say(
		"libvirtd",
		err,
		"Install and start it: apt-get install libvirt-daemon-system libvirt-daemon-driver-qemu qemu-system-x86; "+
			"the user of croftd is in the group libvirt",
	) {
		return out
	}
	say("driver "+string(h.Driver)+h.doubt(), h.drives(capabilities), h.driverRemedy())
	p, err := h.pool(ctx, h.Pool)
	if err == nil {
		err = h.call(ctx, func(l *libvirt.Libvirt) error {
			state, _, _, free, err := l.StoragePoolGetInfo(p)
			switch {
			case err != nil:
				return err
			case libvirt.StoragePoolState(state) != libvirt.StoragePoolRunning:
				return fmt.Errorf("it is not started")
			case free < 2<<30:
				return fmt.Errorf("%d MiB are free in it", free>>20)
			}
			return nil
		})
	}
	if err == nil && h.contains() {
		var folder string
		if folder, err = h.folder(ctx, p); err == nil {
			err = fits(folder)
		}
	}
	fine := say("pool "+h.Pool, err, fmt.Sprintf(
		"Define one of the type dir and start it: virsh pool-define-as %s dir --target FOLDER; virsh pool-start %s; "+
			"virsh pool-autostart %s", h.Pool, h.Pool, h.Pool,
	))
	err = h.call(ctx, func(l *libvirt.Libvirt) error {
		n, err := l.NetworkLookupByName(h.Network)
		if err != nil {
			return err
		}
		if active, err := l.NetworkIsActive(n); err != nil || active != 1 {
			return fmt.Errorf("it is not started: %v", err)
		}
		text, err := l.NetworkGetXMLDesc(n, 0)
		if err != nil {
			return err
		}
		var about libvirtxml.Network
		if err := about.Unmarshal(text); err != nil {
			return err
		}
		for _, ip := range about.IPs {
			if ip.DHCP != nil {
				return nil
			}
		}
		return fmt.Errorf("libvirt lends no addresses in it, so that nobody knows which a machine has")
	})
	say("network "+h.Network, err, fmt.Sprintf(
		"Start one with DHCP: virsh net-start %s; virsh net-autostart %s", h.Network, h.Network,
	))
	if !h.contains() {
		_, err = h.console(ctx, "none")
		say("boot output in "+h.BootOutput, err, "Make the folder on the host: install -d -m 755 "+h.BootOutput)
	}
	_, err = h.groups(ctx)
	say(
		"firewall",
		err,
		"Install libvirt's driver for network filters and ebtables: apt-get install libvirt-daemon-system iptables",
	)
	if !fine {
		return out
	}
	list, err := h.images(ctx)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("there is no image in the pool")
	}
	image := "debian-12"
	if h.contains() {
		image = "debian-12-container"
	}
	say("images", err, "Make one: croftd image build "+image+" -settings FILE")
	return out
}

// drives reports whether the host knows the driver.
func (h *host) drives(capabilities string) error {
	var c libvirtxml.Caps
	if err := c.Unmarshal(capabilities); err != nil {
		return err
	}
	for _, g := range c.Guests {
		if g.OSType != "hvm" && g.OSType != "exe" || g.Arch.Name != "x86_64" {
			continue
		}
		for _, d := range g.Arch.Domains {
			if d.Type == string(h.Driver) {
				return nil
			}
		}
	}
	return fmt.Errorf("libvirt has no %s for x86_64 here", h.Driver)
}

func (h *host) driverRemedy() string {
	if h.Driver == KVM {
		return "Switch virtualization on in the firmware and load kvm_intel or kvm_amd; or say driver: qemu, which is ten " +
			"times slower"
	}
	if h.contains() {
		return "Install it: apt-get install libvirt-daemon-driver-lxc"
	}
	return "Install it: apt-get install qemu-system-x86"
}

// doubt is what is to be known of a driver that is offered.
func (h *host) doubt() string {
	switch {
	case h.Driver == KVM:
		return ", as libvirt offers it: whether it helps shows a machine that boots"
	case h.contains():
		return ", for machines that may trust each other: root in a container may get out of it"
	}
	return ""
}
