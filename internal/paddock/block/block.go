// Package block keeps stand-in clouds that run on one machine apart: each has a block of loopback
// addresses for its instances, and holds it while it runs.
package block

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"syscall"
)

// Port is the port on which every instance answers SSH.
const Port = 2222

// TakenError is returned where another stand-in cloud on this machine has the block.
type TakenError struct{ Block netip.Prefix }

func (e *TakenError) Error() string {
	return fmt.Sprintf("the address block %s is another stand-in cloud's", e.Block)
}

// Claim holds a block against the other stand-ins of this machine until it is closed, by listening
// at its last address. Its error is a *TakenError where another has it.
func Claim(block netip.Prefix) (net.Listener, error) {
	last := block.Masked().Addr().As4()
	for bit := block.Bits(); bit < 32; bit++ {
		last[bit/8] |= 1 << (7 - bit%8)
	}
	l, err := net.Listen("tcp", netip.AddrPortFrom(netip.AddrFrom4(last), Port).String())
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, &TakenError{block}
	}
	if err != nil {
		return nil, fmt.Errorf("hold the address block %s: %w", block, err)
	}
	return l, nil
}

// IsFree reports whether no stand-in cloud of this machine has the block now.
func IsFree(block netip.Prefix) bool {
	claim, err := Claim(block)
	return err == nil && claim.Close() == nil
}
