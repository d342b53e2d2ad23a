package croft

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"
	"libvirt.org/go/libvirtxml"
)

const (
	dialWithin = 10 * time.Second
	// callWithin is for how long one call of libvirt may take.
	callWithin = 60 * time.Second
	// shortStreams are as many as there are at once; libvirtd takes few connections that have not said yet who they are.
	shortStreams = 4
)

// errAway is wrapped by errors of a host that does not answer: it is not known whether anything was done.
var errAway = errors.New("the host does not answer")

// errTaken is wrapped by errors of a host that another croftd looks after.
var errTaken = errors.New("another croftd looks after the machines of this host")

// host is a libvirt host with its connection, which is made anew when it is lost.
type host struct {
	Host
	mu   sync.Mutex
	conn *libvirt.Libvirt
	// read has what was read of small volumes, by their keys; short is whose turn it is with a short stream.
	read  map[string]readVolume
	short chan struct{}
	// owner is the id of the journal for which the host is claimed; "" where it is only looked at.
	owner    string
	takeOver bool
	// Of a host with containers: the folder of what croft keeps of them, those whose consoles are followed, and whose
	// turn it is with a guest agent.
	state     string
	ctx       context.Context
	log       *slog.Logger
	guarding  sync.Mutex
	following sync.WaitGroup
	followed  map[string]bool
	turns     map[string]chan struct{}
}

func newHost(s Host) *host {
	return &host{
		Host: s, read: map[string]readVolume{}, short: make(chan struct{}, shortStreams), followed: map[string]bool{},
		turns: map[string]chan struct{}{},
	}
}

func (h *host) uri() libvirt.ConnectURI {
	if h.contains() {
		return "lxc:///system"
	}
	return libvirt.QEMUSystem
}

// Dial connects to libvirtd; it makes a host a dialer of go-libvirt's.
func (h *host) Dial() (net.Conn, error) {
	if h.TLS == nil {
		return net.DialTimeout("unix", h.Socket, dialWithin)
	}
	own, err := tls.LoadX509KeyPair(h.TLS.Certificate, h.TLS.Key)
	if err != nil {
		return nil, err
	}
	authorities, err := os.ReadFile(h.TLS.Authorities)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(authorities) {
		return nil, fmt.Errorf("%s has no certificate in PEM", h.TLS.Authorities)
	}
	name, _, err := net.SplitHostPort(h.TLS.Address)
	if err != nil {
		return nil, err
	}
	conn, err := tls.DialWithDialer(&net.Dialer{Timeout: dialWithin}, "tcp", h.TLS.Address, &tls.Config{
		Certificates: []tls.Certificate{own}, RootCAs: pool, ServerName: name, MinVersion: tls.VersionTLS12,
	})
	if err != nil {
		return nil, err
	}
	// libvirtd says by one byte whether it lets the certificate in.
	said := make([]byte, 1)
	err = conn.SetReadDeadline(time.Now().Add(dialWithin))
	if err == nil {
		_, err = conn.Read(said)
	}
	if err == nil && said[0] != 1 {
		err = errors.New("libvirtd does not let this certificate in")
	}
	if err == nil {
		err = conn.SetReadDeadline(time.Time{})
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// connection returns one that is up.
func (h *host) connection() (*libvirt.Libvirt, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn != nil && h.conn.IsConnected() {
		return h.conn, nil
	}
	l := libvirt.NewWithDialer(h)
	if err := l.ConnectToURI(h.uri()); err != nil {
		return nil, fmt.Errorf("%w: %s: %w", errAway, h.Zone, err)
	}
	if err := h.claim(l); err != nil {
		l.Disconnect() //nolint:errcheck // it is of no use
		return nil, err
	}
	h.conn = l
	return l, nil
}

// ownerPrefix begins the name of a network filter without rules that says which croftd a host belongs to: libvirt keeps
// it, and everybody who connects sees it.
const ownerPrefix = "croftd-of-"

// claim takes a host for this croftd. Another one's is refused, since each would undo what the other does.
func (h *host) claim(l *libvirt.Libvirt) error {
	if h.owner == "" {
		return nil
	}
	away := func(err error) error { return fmt.Errorf("%w: %s: %w", errAway, h.Zone, err) }
	own := ownerPrefix + h.owner
	_, err := l.NwfilterLookupByName(own)
	made := is(err, libvirt.ErrNoNwfilter)
	if made {
		text, failed := (&libvirtxml.NWFilter{Name: own, Chain: "root"}).Marshal()
		if failed != nil {
			return failed
		}
		_, err = l.NwfilterDefineXML(text)
	}
	if err != nil {
		return away(err)
	}
	list, _, err := l.ConnectListAllNwfilters(1, 0)
	if err != nil {
		return away(err)
	}
	for _, other := range list {
		if !strings.HasPrefix(other.Name, ownerPrefix) || other.Name == own {
			continue
		}
		if h.takeOver {
			if err := l.NwfilterUndefine(other); err != nil && !is(err, libvirt.ErrNoNwfilter) {
				return away(err)
			}
			continue
		}
		if mine, err := l.NwfilterLookupByName(own); made && err == nil {
			if err := l.NwfilterUndefine(mine); err != nil {
				return away(err)
			}
		}
		return fmt.Errorf("%w: %s (network filter %s): stop that one; where it is gone for good, start this one with "+
			"-take-over", errTaken, h.Zone, other.Name)
	}
	h.takeOver = false // once: another croftd that takes it from this one keeps it
	return nil
}

// drop lets a connection go on which a call was not answered.
func (h *host) drop(l *libvirt.Libvirt) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn == l {
		h.conn = nil
	}
	go l.Disconnect() //nolint:errcheck // it is of no use any longer
}

func (h *host) close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.conn != nil {
		h.conn.Disconnect() //nolint:errcheck // nothing can be done about it
		h.conn = nil
	}
}

// call has the host do something, within callWithin. Where that is not answered in time, or the connection is lost, the
// error wraps errAway.
func (h *host) call(ctx context.Context, do func(l *libvirt.Libvirt) error) error {
	return h.callFor(ctx, callWithin, do)
}

// callFor is call for what may take another time.
func (h *host) callFor(ctx context.Context, most time.Duration, do func(l *libvirt.Libvirt) error) error {
	l, err := h.connection()
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() { done <- do(l) }()
	late := time.NewTimer(most)
	defer late.Stop()
	select {
	case err = <-done:
	case <-late.C:
		h.drop(l)
		return fmt.Errorf("%w: %s: no answer after %s", errAway, h.Zone, most)
	case <-ctx.Done():
		return ctx.Err()
	}
	if said := (libvirt.Error{}); err != nil && !errors.As(err, &said) && !l.IsConnected() {
		return fmt.Errorf("%w: %s: %w", errAway, h.Zone, err)
	}
	return err
}

// dialed keeps the connection that it made.
type dialed struct {
	host *host
	conn net.Conn
}

func (d *dialed) Dial() (c net.Conn, err error) {
	d.conn, err = d.host.Dial()
	return d.conn, err
}

// apart has the host do something over a connection of its own, until it is done or there is enough. It is for streams:
// at the end of one, go-libvirt may wait for itself, with all other calls of the connection.
func (h *host) apart(ctx context.Context, enough <-chan struct{}, do func(l *libvirt.Libvirt) error) error {
	select {
	case h.short <- struct{}{}:
		defer func() { <-h.short }()
	case <-ctx.Done():
		return ctx.Err()
	}
	return h.stream(ctx, callWithin, enough, do)
}

// stream is apart for what may take another time, or without an end for 0.
func (h *host) stream(
	ctx context.Context, most time.Duration, enough <-chan struct{}, do func(l *libvirt.Libvirt) error,
) error {
	d := &dialed{host: h}
	l := libvirt.NewWithDialer(d)
	err := l.ConnectToURI(h.uri())
	if d.conn != nil {
		defer d.conn.Close()
	}
	if err != nil {
		return fmt.Errorf("%w: %s: %w", errAway, h.Zone, err)
	}
	done := make(chan error, 1)
	go func() { done <- do(l) }()
	late := make(<-chan time.Time)
	if most > 0 {
		t := time.NewTimer(most)
		defer t.Stop()
		late = t.C
	}
	select {
	case err = <-done:
	case <-enough:
		return nil
	case <-late:
		return fmt.Errorf("%w: %s: no answer after %s", errAway, h.Zone, most)
	case <-ctx.Done():
		return ctx.Err()
	}
	if said := (libvirt.Error{}); err != nil && !errors.As(err, &said) {
		return fmt.Errorf("%w: %s: %w", errAway, h.Zone, err)
	}
	return err
}

// is reports whether an error is libvirt's with one of the numbers.
func is(err error, numbers ...libvirt.ErrorNumber) bool {
	said := libvirt.Error{}
	if !errors.As(err, &said) {
		return false
	}
	for _, n := range numbers {
		if said.Code == uint32(n) {
			return true
		}
	}
	return false
}

// pool returns the storage pool of that name.
func (h *host) pool(ctx context.Context, name string) (p libvirt.StoragePool, err error) {
	err = h.call(ctx, func(l *libvirt.Libvirt) (err error) { p, err = l.StoragePoolLookupByName(name); return err })
	if is(err, libvirt.ErrNoStoragePool) {
		return p, fmt.Errorf("%s has no storage pool %s", h.Zone, name)
	}
	return p, err
}

// folder is where the volumes of a pool are on the host.
func (h *host) folder(ctx context.Context, p libvirt.StoragePool) (string, error) {
	var text string
	err := h.call(ctx, func(l *libvirt.Libvirt) (err error) { text, err = l.StoragePoolGetXMLDesc(p, 0); return err })
	if err != nil {
		return "", err
	}
	var about libvirtxml.StoragePool
	if err := about.Unmarshal(text); err != nil {
		return "", fmt.Errorf("the pool %s of %s: %w", p.Name, h.Zone, err)
	}
	if about.Target == nil || about.Target.Path == "" {
		return "", fmt.Errorf("the pool %s of %s has no folder", p.Name, h.Zone)
	}
	return about.Target.Path, nil
}

// volume returns a volume of the pool; there is whether there is one.
func (h *host) volume(
	ctx context.Context, p libvirt.StoragePool, name string,
) (v libvirt.StorageVol, there bool, err error) {
	err = h.call(ctx, func(l *libvirt.Libvirt) (err error) { v, err = l.StorageVolLookupByName(p, name); return err })
	if is(err, libvirt.ErrNoStorageVol) {
		return v, false, nil
	}
	return v, err == nil, err
}
