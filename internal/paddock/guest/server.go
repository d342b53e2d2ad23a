package guest

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/netip"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"plumlatch/internal/faraway"

	"golang.org/x/crypto/ssh"
)

// Server is the SSH server of one running instance. It reads
// authorized_keys from the instance's disk at every login, with the strict
// checks of sshd's StrictModes, and offers an sftp subsystem, commands and a small
// interactive shell.
type Server struct {
	disk      *Disk
	hostname  string
	admits    func(from net.Addr) bool
	config    *ssh.ServerConfig
	listeners []net.Listener
	booted    time.Time
	private   string // its address for connections of its own

	mu    sync.Mutex
	conns map[net.Conn]bool
}

// Listen starts the SSH server of a disk, which it closes when it is closed itself. Connections that admits does not
// let in are reset, as by a firewall. The first address is the private one, from which forwarded connections come.
func Listen(
	d *Disk, hostname string, admits func(from net.Addr) bool, away faraway.Distance, addresses ...string,
) (*Server, error) {
	e := &Server{disk: d, hostname: hostname, admits: admits, booted: time.Now(), conns: map[net.Conn]bool{}}
	keys, err := d.HostKeys()
	if err != nil {
		d.Close()
		return nil, err
	}
	e.config = &ssh.ServerConfig{PublicKeyCallback: e.checkKey, MaxAuthTries: 20, ServerVersion: standInVersion}
	for _, k := range keys {
		e.config.AddHostKey(k)
	}
	e.private, _, _ = net.SplitHostPort(addresses[0])
	for _, a := range addresses {
		l, err := net.Listen("tcp4", a)
		if err != nil {
			e.Close()
			return nil, err
		}
		l = faraway.Listener(l, away)
		e.listeners = append(e.listeners, l)
		go e.accept(l)
	}
	return e, nil
}

// Run does one command as a user, without a login.
func (e *Server) Run(user string, args []string, input io.Reader, out, errs io.Writer) (status int) {
	s := &session{server: e, user: user, input: input}
	return s.command(user, args, out, errs)
}

// Close ends what is connected.
func (e *Server) Close() {
	for _, l := range e.listeners {
		l.Close()
	}
	e.mu.Lock()
	for conn := range e.conns {
		conn.Close()
	}
	e.mu.Unlock()
	e.disk.Close()
}

func (e *Server) accept(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		go e.serve(conn)
	}
}

func (e *Server) serve(conn net.Conn) {
	e.mu.Lock()
	e.conns[conn] = true
	e.mu.Unlock()
	defer func() {
		conn.Close()
		e.mu.Lock()
		delete(e.conns, conn)
		e.mu.Unlock()
	}()
	if !e.admits(conn.RemoteAddr()) {
		conn.(interface{ SetLinger(int) error }).SetLinger(0) // a reset, as from a rejecting firewall
		return
	}
	conn.SetDeadline(time.Now().Add(30 * time.Second))
	config := *e.config
	if e.passwordLogin() {
		config.PasswordCallback = e.checkPassword
	}
	conns, channels, requests, err := ssh.NewServerConn(conn, &config)
	if err != nil {
		return
	}
	conn.SetDeadline(time.Time{})
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		switch ch.ChannelType() {
		case "session":
		case "direct-tcpip":
			go e.forward(ch)
			continue
		default:
			ch.Reject(ssh.UnknownChannelType, "only sessions and forwarded connections are offered")
			continue
		}
		channel, reqs, err := ch.Accept()
		if err != nil {
			return
		}
		s := &session{server: e, user: conns.User(), channel: channel, input: channel}
		go s.serve(reqs)
	}
}

// passwordLogin reports whether the SSH server takes passwords.
func (e *Server) passwordLogin() bool {
	settings, err := e.disk.Root.ReadFile("etc/ssh/sshd_config")
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

func (e *Server) checkPassword(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if !e.disk.hasPassword(meta.User(), password) {
		return nil, errRefused
	}
	return &ssh.Permissions{}, nil
}

var errRefused = errors.New("key not accepted")

func (e *Server) checkKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	user := meta.User()
	users, err := e.disk.users()
	if err != nil || !slices.Contains(users, user) {
		return nil, errRefused
	}
	if user == "root" {
		settings, err := e.disk.Root.ReadFile("etc/ssh/sshd_config")
		if err == nil && strings.Contains(string(settings), "PermitRootLogin no") {
			return nil, errRefused
		}
	}
	data, err := e.disk.readStrictly(HomeOf(user)+"/.ssh/authorized_keys", user)
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
func (d *Disk) readStrictly(name, user string) ([]byte, error) {
	for p := name; len(p) >= len(HomeOf(user)); p = path.Dir(p) {
		info, err := d.Root.Stat(strings.TrimPrefix(p, "/"))
		if err != nil {
			return nil, err
		}
		if info.Mode().Perm()&0o022 != 0 {
			return nil, fmt.Errorf("%s: bad modes %o: %w", p, info.Mode().Perm(), fs.ErrPermission)
		}
	}
	if label := d.LabelOf(name); label != "" && label != "ssh_home_t" {
		return nil, fmt.Errorf("%s: the label %s keeps sshd out: %w", name, label, fs.ErrPermission)
	}
	return d.Root.ReadFile(strings.TrimPrefix(name, "/"))
}
