// Package outbound decides where a process may connect to; the service refuses what is local
// unless it is set up otherwise, and a client, which is a person's own, refuses nothing. Addresses for SSH,
// subscribers and adapters come from people and from clouds; one that leads back to this
// machine, or to the link-local addresses where clouds answer for an instance's
// credentials, would let them reach what only the service can.
package outbound

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// RefusedError is returned for an address that the service does not connect to.
type RefusedError struct{ Address string }

func (e *RefusedError) Error() string {
	return fmt.Sprintf(
		"%s is on this machine, link-local, or where a cloud answers for credentials, and the service does not connect "+
			"there (-allow-local-targets lets it)",
		e.Address,
	)
}

// metadata are the addresses where clouds answer for an instance's credentials and that are not
// link-local.
var metadata = []netip.Addr{
	netip.MustParseAddr("fd00:ec2::254"), netip.MustParseAddr("fd20:ce::254"), netip.MustParseAddr("100.100.100.200"),
	netip.MustParseAddr("168.63.129.16"), netip.MustParseAddr("192.0.0.192"),
}

// translated are the networks whose addresses a translator takes to the IPv4 address in their last four
// bytes (RFC 6052, RFC 8215, RFC 4291 section 2.5.5.1).
var translated = []netip.Prefix{
	netip.MustParsePrefix("64:ff9b::/96"),
	netip.MustParsePrefix("64:ff9b:1::/48"),
	netip.MustParsePrefix("::/96"),
}

// plain returns the address that one leads to in the end.
func plain(ip netip.Addr) netip.Addr {
	ip = ip.Unmap().WithZone("")
	if slices.ContainsFunc(translated, func(p netip.Prefix) bool { return p.Contains(ip) }) && !ip.IsLoopback() &&
		!ip.IsUnspecified() {
		b := ip.As16()
		return netip.AddrFrom4([4]byte(b[12:]))
	}
	return ip
}

var refuse atomic.Bool

// RefuseLocal has this process refuse to connect to loopback and link-local addresses, or
// not now. It is one setting of the whole process.
func RefuseLocal(on bool) { refuse.Store(on) }

// Dialer returns a dialer that refuses what is not allowed, after names were resolved, so
// that a name cannot lead there either. The error is a *RefusedError.
func Dialer(timeout time.Duration) *net.Dialer {
	return &net.Dialer{Timeout: timeout, Control: func(_, address string, _ syscall.RawConn) error {
		if !refuse.Load() {
			return nil
		}
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return &RefusedError{address}
		}
		if local(to.Addr()) {
			return &RefusedError{address}
		}
		return nil
	}}
}

// local reports whether an address leads to the machine that connects, or to where clouds answer for its credentials.
func local(ip netip.Addr) bool {
	ip = plain(ip)
	return slices.Contains(metadata, ip) || ip.IsLoopback() || ip.IsUnspecified() || ip.IsLinkLocalUnicast() ||
		ip.IsMulticast()
}

// Beyond refuses hosts that another machine would connect with on behalf of this one, and that lead back to that
// machine or to where a cloud answers for its credentials. A name that it resolves itself is not known here, but for
// localhost.
func Beyond(host string) error {
	if !refuse.Load() {
		return nil
	}
	name := strings.ToLower(strings.TrimSuffix(host, "."))
	ip, err := netip.ParseAddr(name)
	if err == nil && local(ip) || name == "localhost" || strings.HasSuffix(name, ".localhost") {
		return &RefusedError{host}
	}
	return nil
}
