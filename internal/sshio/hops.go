package sshio

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/text"
	"plumlatch/internal/outbound"
)

// MaxHops is how many jump hosts there may be on the way to a machine.
const MaxHops = 4

// Hop is a jump host: a login from which the next host is reached, by a forwarded connection (RFC 4254 section 7.2).
type Hop struct {
	// Name is what people call it.
	Name string
	// Target is its login; what is said there of a road does not count.
	Target Target
	// Signers are the private keys, one of which opens it.
	Signers []ssh.Signer
}

// HopError is returned where a jump host on the way keeps from reaching a machine. It wraps nothing: what a jump host
// refuses, or shows, is not what the machine does.
type HopError struct {
	// Hop is the name of the jump host.
	Hop string
	// Changed is whether it shows a host key that is not pinned, Refused whether it lets none of the keys in.
	Changed, Refused bool
	what             string
}

func (e *HopError) Error() string { return "on the way, at the jump host " + e.Hop + ": " + e.what }

// Final is whether asking again later gives the same answer, as far as is known.
func (e *HopError) Final() bool { return e.Changed || e.Refused }

func atHop(name string, err error) *HopError {
	if inner, ok := errors.AsType[*HopError](err); ok {
		return inner
	}
	return &HopError{
		Hop: name, Changed: errors.Is(err, ErrHostKey), Refused: errors.Is(err, ErrRefused), what: err.Error(),
	}
}

// Road connects with a machine some other way than straight from here, and tells the address that it went to.
type Road func(ctx context.Context) (conn net.Conn, address string, err error)

// Pool holds connections with jump hosts, each of which serves all that goes by way of it. The zero value is ready.
type Pool struct {
	mu   sync.Mutex
	open map[string]*shared
}

// shared is one connection with a jump host.
type shared struct {
	ready  chan struct{} // closed once client or err is set
	client *ssh.Client
	err    error
	users  int
}

// idle is how long a connection with a jump host stays once nothing goes by way of it.
const idle = 15 * time.Second

// Connect reaches an address by way of the jump hosts, the first of which is reached from here. With none it connects
// straight. The error is a *HopError where one of them does not answer, shows another host key or lets nobody in.
func (p *Pool) Connect(ctx context.Context, hops []Hop, host string, port int) (net.Conn, error) {
	address := net.JoinHostPort(host, strconv.Itoa(port))
	switch {
	case len(hops) == 0:
		conn, err := outbound.Dialer(handshakeTimeout).DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, fmt.Errorf("reach %s: %w", address, err)
		}
		return conn, nil
	case len(hops) > MaxHops:
		return nil, &HopError{Hop: hops[0].Name, what: fmt.Sprintf("over %d jump hosts are on the way", MaxHops)}
	}
	if err := outbound.Beyond(host); err != nil {
		return nil, fmt.Errorf("reach %s: %w", address, err)
	}
	last := hops[len(hops)-1]
	for again := false; ; again = true {
		s, old, err := p.take(ctx, hops)
		if err != nil {
			return nil, atHop(last.Name, err)
		}
		within, cancel := context.WithTimeout(ctx, handshakeTimeout)
		conn, err := s.client.DialContext(within, "tcp", address)
		late := within.Err() != nil
		cancel()
		if err == nil {
			return &forwarded{Conn: conn, end: func() { p.leave(hops, s) }}, nil
		}
		refused, said := errors.AsType[*ssh.OpenChannelError](err)
		if !said { // the connection with the jump host may be gone
			p.drop(hops, s)
		}
		p.leave(hops, s)
		switch {
		case said && refused.Reason == ssh.Prohibited:
			return nil, &HopError{
				Hop: last.Name, what: "it does not forward connections (AllowTcpForwarding, PermitOpen or a limit of the line)",
			}
		case said:
			return nil, &HopError{Hop: last.Name, what: "reach " + address + " from there: " +
				text.Line(refused.Message, text.MaxLine)}
		case late:
			return nil, &HopError{Hop: last.Name, what: "reach " + address + " from there: no answer in time"}
		case again || !old:
			return nil, &HopError{Hop: last.Name, what: "reach " + address + " from there: " + err.Error()}
		}
	}
}

// take returns the connection with the last of the hops, and whether it was there already.
func (p *Pool) take(ctx context.Context, hops []Hop) (s *shared, old bool, err error) {
	key := keyOf(hops)
	p.mu.Lock()
	if p.open == nil {
		p.open = map[string]*shared{}
	}
	s, old = p.open[key]
	if !old {
		s = &shared{ready: make(chan struct{})}
		p.open[key] = s
	}
	s.users++
	p.mu.Unlock()
	if !old {
		s.client, s.err = p.enter(hops)
		close(s.ready)
	}
	select {
	case <-s.ready:
		err = s.err
	case <-ctx.Done():
		err = ctx.Err()
	}
	if err != nil {
		if s.err != nil {
			p.drop(hops, s)
		}
		p.leave(hops, s)
		return nil, old, err
	}
	return s, old, nil
}

// enter logs in to the last of the hops. Others may wait for it, so it ends with nobody's context.
func (p *Pool) enter(hops []Hop) (*ssh.Client, error) {
	last := hops[len(hops)-1]
	t, before := last.Target, hops[:len(hops)-1]
	t.Road = func(ctx context.Context) (net.Conn, string, error) {
		conn, err := p.Connect(ctx, before, t.Address, t.Port)
		return conn, net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), err
	}
	client, _, err := t.dial(context.Background(), ssh.PublicKeys(last.Signers...))
	return client, err
}

// drop has later ones make a connection of their own.
func (p *Pool) drop(hops []Hop, s *shared) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if key := keyOf(hops); p.open[key] == s {
		delete(p.open, key)
	}
}

// leave closes a connection that nothing uses any more, after a while where it may be used again.
func (p *Pool) leave(hops []Hop, s *shared) {
	p.mu.Lock()
	s.users--
	unused, kept := s.users == 0, p.open[keyOf(hops)] == s
	p.mu.Unlock()
	switch {
	case !unused:
	case kept:
		time.AfterFunc(idle, func() { p.close(hops, s) })
	default:
		p.close(hops, s)
	}
}

func (p *Pool) close(hops []Hop, s *shared) {
	p.mu.Lock()
	unused := s.users == 0
	if key := keyOf(hops); unused && p.open[key] == s {
		delete(p.open, key)
	}
	p.mu.Unlock()
	if unused && s.client != nil {
		s.client.Close()
	}
}

// keyOf tells ways apart: another address, user, key or host key is another way.
func keyOf(hops []Hop) string {
	var b bytes.Buffer
	for _, h := range hops {
		fmt.Fprintf(&b, "%q %q %d", h.Target.User, h.Target.Address, h.Target.Port)
		for _, k := range h.Target.HostKeys {
			fmt.Fprintf(&b, " %x", k)
		}
		for _, s := range h.Signers {
			fmt.Fprintf(&b, " %x", s.PublicKey().Marshal())
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// forwarded is a connection through a jump host, with the deadlines that such a one lacks.
type forwarded struct {
	net.Conn
	end     func()
	once    sync.Once
	expired atomic.Bool

	mu    sync.Mutex
	timer *time.Timer
}

// SetDeadline ends the connection at t; the zero time is never.
func (f *forwarded) SetDeadline(t time.Time) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.timer != nil {
		f.timer.Stop()
		f.timer = nil
	}
	if !t.IsZero() {
		f.timer = time.AfterFunc(time.Until(t), func() {
			f.expired.Store(true)
			f.Close()
		})
	}
	return nil
}

func (f *forwarded) Read(b []byte) (int, error) {
	n, err := f.Conn.Read(b)
	if err != nil && f.expired.Load() {
		err = os.ErrDeadlineExceeded
	}
	return n, err
}

func (f *forwarded) Close() error {
	err := f.Conn.Close()
	f.once.Do(f.end)
	return err
}

// connect reaches the machine, and tells the address that it went to.
func (t Target) connect(ctx context.Context) (net.Conn, string, error) {
	if t.Road != nil {
		return t.Road(ctx)
	}
	conn, err := new(Pool).Connect(ctx, nil, t.Address, t.Port)
	return conn, net.JoinHostPort(t.Address, strconv.Itoa(t.Port)), err
}

// LocalAddress is the address that a machine sees connections come from, as far as it is known here; the zero Addr
// where the machine is reached over a jump host, or not at all.
func LocalAddress(ctx context.Context, t Target) netip.Addr {
	ctx, cancel := context.WithTimeout(ctx, handshakeTimeout)
	defer cancel()
	conn, _, err := t.connect(ctx)
	if err != nil {
		return netip.Addr{}
	}
	defer conn.Close()
	if _, direct := conn.(*net.TCPConn); !direct {
		return netip.Addr{}
	}
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}
