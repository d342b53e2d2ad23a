// Package outbound decides where a process may connect to; the service refuses what is local
// unless it is set up otherwise, and a client, which is a person's own, refuses nothing. Addresses for SSH,
// receivers and adapters come from people and from clouds; one that leads back to this
// machine, or to the link-local addresses where clouds answer for an instance's
// credentials, would let them reach what only the service can.
package outbound

import (
	"fmt"
	"net"
	"net/netip"
	"sync/atomic"
	"syscall"
	"time"
)

// RefusedError is returned for an address that the service does not connect to.
type RefusedError struct{ Address string }

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s is on this machine or link-local, and the service does not connect there (-allow-local-targets lets it)", e.Address)
}

var refuse atomic.Bool

// RefuseLocal has this process refuse to connect to loopback and link-local addresses, or
// not any more. It is one setting of the whole process.
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
		if ip := to.Addr().Unmap().WithZone(""); ip.IsLoopback() || ip.IsUnspecified() || ip.IsLinkLocalUnicast() || ip.IsMulticast() {
			return &RefusedError{address}
		}
		return nil
	}}
}
