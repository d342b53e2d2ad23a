package paddock

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// endpoint is the SSH server of one running instance. It reads
// authorized_keys from the instance's disk at every login, with the strict
// checks of sshd's StrictModes, and offers an sftp subsystem, commands and a small
// interactive shell.
type endpoint struct {
	cloud     *Cloud
	id        string
	hostname  string
	firewall  string
	disk      *disk
	config    *ssh.ServerConfig
	listeners []net.Listener
	booted    time.Time

	mu    sync.Mutex
	conns map[net.Conn]bool
}

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
	keys, err := d.hostKeys()
	if err != nil {
		d.close()
		return err
	}
	e := &endpoint{
		cloud:    c,
		id:       i.Id,
		hostname: i.Name,
		firewall: i.Firewall,
		disk:     d,
		booted:   time.Now(),
		conns:    map[net.Conn]bool{},
	}
	e.config = &ssh.ServerConfig{PublicKeyCallback: e.checkKey, MaxAuthTries: 20, ServerVersion: standInVersion}
	for _, k := range keys {
		e.config.AddHostKey(k)
	}
	for _, a := range []string{i.PrivateAddress, i.PublicAddress} {
		l, err := net.Listen("tcp4", net.JoinHostPort(a, strconv.Itoa(SSHPort)))
		if err != nil {
			e.close()
			return err
		}
		e.listeners = append(e.listeners, l)
		go e.accept(l)
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
		e.close()
	}
}

func (e *endpoint) close() {
	for _, l := range e.listeners {
		l.Close()
	}
	e.mu.Lock()
	for conn := range e.conns {
		conn.Close()
	}
	e.mu.Unlock()
	e.disk.close()
}

func (e *endpoint) accept(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go e.serve(conn)
	}
}

func (e *endpoint) serve(conn net.Conn) {
	e.mu.Lock()
	e.conns[conn] = true
	e.mu.Unlock()
	defer func() {
		conn.Close()
		e.mu.Lock()
		delete(e.conns, conn)
		e.mu.Unlock()
	}()
	if !e.cloud.admits(e.firewall, conn.RemoteAddr(), SSHPort) {
		conn.(*net.TCPConn).SetLinger(0) // a reset, as from a rejecting firewall
		return
	}
	conn.SetDeadline(time.Now().Add(30 * time.Second))
	config := *e.config
	if e.passwordLogin() {
		config.PasswordCallback = e.checkPassword
	}
	server, channels, requests, err := ssh.NewServerConn(conn, &config)
	if err != nil {
		return
	}
	conn.SetDeadline(time.Time{})
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		if ch.ChannelType() != "session" {
			ch.Reject(ssh.UnknownChannelType, "only sessions are offered")
			continue
		}
		channel, reqs, err := ch.Accept()
		if err != nil {
			return
		}
		s := &session{endpoint: e, user: server.User(), channel: channel, input: channel}
		go s.serve(reqs)
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

// passwordLogin reports whether the SSH server takes passwords.
func (e *endpoint) passwordLogin() bool {
	settings, err := e.disk.root.ReadFile("etc/ssh/sshd_config")
	if err != nil {
		return false
	}
	for l := range strings.Lines(string(settings)) { // the first value counts
		if word := strings.Fields(l); len(word) == 2 && word[0] == "PasswordAuthentication" {
			return word[1] == "yes"
		}
	}
	return false
}

func (e *endpoint) checkPassword(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if !e.disk.hasPassword(meta.User(), password) {
		return nil, errRefused
	}
	return &ssh.Permissions{}, nil
}

var errRefused = errors.New("key not accepted")

func (e *endpoint) checkKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	user := meta.User()
	users, err := e.disk.users()
	if err != nil || !slices.Contains(users, user) {
		return nil, errRefused
	}
	if user == "root" {
		settings, err := e.disk.root.ReadFile("etc/ssh/sshd_config")
		if err == nil && strings.Contains(string(settings), "PermitRootLogin no") {
			return nil, errRefused
		}
	}
	data, err := e.disk.readStrictly(homeOf(user)+"/.ssh/authorized_keys", user)
	if err != nil {
		return nil, errRefused
	}
	blob := key.Marshal()
	for len(data) > 0 {
		k, _, options, rest, err := ssh.ParseAuthorizedKey(data)
		if err != nil {
			break
		}
		data = rest
		if subtle.ConstantTimeCompare(k.Marshal(), blob) == 1 && optionsAdmit(options, meta.RemoteAddr(), time.Now()) {
			return &ssh.Permissions{}, nil
		}
	}
	return nil, errRefused
}

// standInVersion names the OpenSSH whose authorized_keys options the stand-in follows.
const standInVersion = "SSH-2.0-OpenSSH_9.9 stand-in"

// optionsAdmit judges the options that limit who may use a line; see sshd(8).
func optionsAdmit(options []string, remote net.Addr, now time.Time) bool {
	for _, o := range options {
		name, value, _ := strings.Cut(o, "=")
		value = strings.Trim(value, `"`)
		switch strings.ToLower(name) {
		case "cert-authority":
			return false
		case "expiry-time":
			value = strings.TrimSuffix(value, "Z") // the stand-in's own zone is UTC
			layout := "20060102150405"[:min(len(value), 14)]
			if end, err := time.ParseInLocation(layout, value, time.UTC); err != nil || now.After(end) {
				return false
			}
		case "from":
			ap, err := netip.ParseAddrPort(remote.String())
			if err != nil || !fromAdmits(value, ap.Addr()) {
				return false
			}
		}
	}
	return true
}

func fromAdmits(patterns string, addr netip.Addr) bool {
	for _, p := range strings.Split(patterns, ",") {
		if prefix, err := netip.ParsePrefix(p); err == nil && prefix.Contains(addr) {
			return true
		}
		if ok, err := path.Match(p, addr.String()); err == nil && ok {
			return true
		}
	}
	return false
}

// readStrictly reads a file as sshd with StrictModes would: neither the file
// nor a folder above it, up to the home folder, may be writable by others.
func (d *disk) readStrictly(name, user string) ([]byte, error) {
	for p := name; len(p) >= len(homeOf(user)); p = path.Dir(p) {
		info, err := d.root.Stat(strings.TrimPrefix(p, "/"))
		if err != nil {
			return nil, err
		}
		if info.Mode().Perm()&0o022 != 0 {
			return nil, fmt.Errorf("%s: bad modes %o: %w", p, info.Mode().Perm(), fs.ErrPermission)
		}
	}
	if label := d.labelOf(name); label != "" && label != "ssh_home_t" {
		return nil, fmt.Errorf("%s: the label %s keeps sshd out: %w", name, label, fs.ErrPermission)
	}
	return d.root.ReadFile(strings.TrimPrefix(name, "/"))
}
