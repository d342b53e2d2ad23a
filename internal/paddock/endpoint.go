package paddock

import (
	"net"
	"net/netip"
	"strconv"

	"plumlatch/internal/paddock/guest"
)

// listen starts the instance's endpoint; if it is listening already, nothing changes.
func (c *Cloud) listen(i instance) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.endpoints[i.Id] != nil {
		return nil
	}
	d, err := c.openDisk(i.Id)
	if err != nil {
		return err
	}
	port := strconv.Itoa(SSHPort)
	e, err := guest.Listen(
		d.Disk, i.Name, func(from net.Addr) bool { return c.admits(i.Firewall, from, SSHPort) }, c.opts.Away,
		net.JoinHostPort(i.PrivateAddress, port), net.JoinHostPort(i.PublicAddress, port),
	)
	if err != nil {
		return err
	}
	c.endpoints[i.Id] = e
	return nil
}

func (c *Cloud) unlisten(id string) {
	c.mu.Lock()
	e := c.endpoints[id]
	delete(c.endpoints, id)
	c.mu.Unlock()
	if e != nil {
		e.Close()
	}
}

// admits reports whether a rule of the firewall group lets the address in.
func (c *Cloud) admits(group string, remote net.Addr, port int) bool {
	ap, err := netip.ParseAddrPort(remote.String())
	if err != nil {
		return false
	}
	rules, err := c.state.rules()
	if err != nil {
		c.log.Error("read firewall rules", "err", err)
		return false
	}
	for _, r := range rules {
		p, err := netip.ParsePrefix(r.Source)
		if err == nil && r.Group == group && r.Port == port && p.Contains(ap.Addr().Unmap()) {
			return true
		}
	}
	return false
}
