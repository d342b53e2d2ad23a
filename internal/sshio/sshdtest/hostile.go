package sshdtest

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// Hostile is a machine that was made to harm whoever logs in. It takes any key.
type Hostile struct {
	Address string
	Port    int
	HostKey ssh.PublicKey
	// Reads counts the bytes of files that it was asked for.
	Reads atomic.Int64
	// Logins counts the logins that it let in.
	Logins atomic.Int64

	harm Harm
}

// Harm is what the machine does. The zero Harm is a machine with an empty authorized_keys.
type Harm struct {
	// Home is what it tells as the home folder; "" for /home/warden.
	Home string
	// Config is its sshd_config.
	Config string
	// Files are its files by path; a path that ends in * stands for all that begin so.
	Files map[string]HostileFile
	// Banner is what it writes again and again before its version, where it is not "".
	Banner string
	// Pause is how long it takes to answer each read.
	Pause time.Duration
	// Swallows is whether it says that it has written what it has not; else it refuses.
	Swallows bool
	// Crowd is whether its folders are full without end, and Link where all of its symbolic links lead.
	Crowd bool
	Link  string
}

// HostileFile is a file that may not be what it says.
type HostileFile struct {
	// Size is what it says its size is; as an SFTP peer may say any 64 bits, it may be negative.
	Size int64
	Mode fs.FileMode
	// Content is what is read; where Endless is set, again and again without end.
	Content string
	Endless bool
	UID     uint32
}

// Text is an ordinary file.
func Text(content string) HostileFile {
	return HostileFile{Size: int64(len(content)), Mode: 0o600, Content: content}
}

// StartHostile runs the machine until the test ends.
func StartHostile(t testing.TB, harm Harm) *Hostile { return StartHostileAt(t, "127.0.0.1:0", harm) }

// StartHostileAt is StartHostile at an address.
func StartHostileAt(t testing.TB, address string, harm Harm) *Hostile {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return startHostile(t, address, private, harm)
}

func startHostile(t testing.TB, address string, private ed25519.PrivateKey, harm Harm) *Hostile {
	t.Helper()
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	at := l.Addr().(*net.TCPAddr)
	h := &Hostile{Address: at.IP.String(), Port: at.Port, HostKey: signer.PublicKey(), harm: harm}
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil },
	}
	config.AddHostKey(signer)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go h.serve(conn, config)
		}
	}()
	return h
}

func (h *Hostile) serve(conn net.Conn, config *ssh.ServerConfig) {
	defer conn.Close()
	if h.harm.Banner != "" {
		for {
			if _, err := io.WriteString(conn, h.harm.Banner); err != nil {
				return
			}
		}
	}
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer server.Close()
	h.Logins.Add(1)
	go ssh.DiscardRequests(requests)
	for c := range channels {
		channel, requests, err := c.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				if r.WantReply {
					r.Reply(r.Type == "subsystem" || r.Type == "exec", nil)
				}
				if r.Type == "subsystem" {
					go sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h}).Serve()
				} else if r.Type == "exec" { // an answer without end
					for err == nil {
						_, err = channel.Write(bytes.Repeat([]byte("x"), 1<<15))
					}
					channel.Close()
				}
			}
		}()
	}
}

// RealPath is the home folder for ".".
func (h *Hostile) RealPath(name string) string {
	if name == "." && h.harm.Home != "" {
		return h.harm.Home
	}
	if name == "." {
		return "/home/warden"
	}
	return path.Clean("/" + name)
}

func (h *Hostile) file(name string) (HostileFile, bool) {
	if name == "/etc/ssh/sshd_config" {
		return Text(h.harm.Config), true
	}
	if f, ok := h.harm.Files[name]; ok {
		return f, true
	}
	for pattern, f := range h.harm.Files {
		if begin, ok := strings.CutSuffix(pattern, "*"); ok && strings.HasPrefix(name, begin) {
			return f, true
		}
	}
	folder := HostileFile{Mode: fs.ModeDir | 0o700}
	return folder, !strings.Contains(path.Base(name), "authorized_keys") && !strings.HasSuffix(name, ".plumlatch-edit")
}

// Fileread reads a file.
func (h *Hostile) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	f, ok := h.file(r.Filepath)
	if !ok {
		return nil, os.ErrNotExist
	}
	return hostileReader{h, f}, nil
}

type hostileReader struct {
	h *Hostile
	f HostileFile
}

func (r hostileReader) ReadAt(p []byte, at int64) (int, error) {
	time.Sleep(r.h.harm.Pause)
	r.h.Reads.Add(int64(len(p)))
	if !r.f.Endless {
		return strings.NewReader(r.f.Content).ReadAt(p, at)
	}
	for n := range p {
		p[n] = r.f.Content[(int(at)+n)%len(r.f.Content)]
	}
	return len(p), nil
}

// Filewrite refuses, or swallows what is written.
func (h *Hostile) Filewrite(*sftp.Request) (io.WriterAt, error) {
	if h.harm.Swallows {
		return swallower{}, nil
	}
	return nil, steering()
}

type swallower struct{}

func (swallower) WriteAt(p []byte, _ int64) (int, error) { return len(p), nil }

// Filecmd refuses, or says that it was done.
func (h *Hostile) Filecmd(*sftp.Request) error {
	if h.harm.Swallows {
		return nil
	}
	return steering()
}

// PosixRename is Filecmd for a rename that replaces.
func (h *Hostile) PosixRename(r *sftp.Request) error { return h.Filecmd(r) }

// steering is a refusal in words that steer a terminal.
func steering() error { return fmt.Errorf("no\x1b]0;pwned\x07\x1b[2J") }

// Filelist tells of one file.
func (h *Hostile) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	f, ok := h.file(r.Filepath)
	if !ok {
		return nil, os.ErrNotExist
	}
	switch {
	case r.Method == "List" && h.harm.Crowd:
		return crowd{}, nil
	case r.Method == "Readlink":
		return hostileInfo{h.harm.Link, f}, nil
	}
	return hostileInfo{path.Base(r.Filepath), f}, nil
}

// crowd is a folder without end.
type crowd struct{}

func (crowd) ListAt(out []fs.FileInfo, at int64) (int, error) {
	for n := range out {
		out[n] = hostileInfo{fmt.Sprintf("gull-%d", at+int64(n)), HostileFile{Mode: 0o600}}
	}
	return len(out), nil
}

// Lstat tells of one file.
func (h *Hostile) Lstat(r *sftp.Request) (sftp.ListerAt, error) { return h.Filelist(r) }

type hostileInfo struct {
	name string
	f    HostileFile
}

func (i hostileInfo) ListAt(out []fs.FileInfo, at int64) (int, error) {
	if at > 0 || len(out) == 0 {
		return 0, io.EOF
	}
	out[0] = i
	return 1, io.EOF
}

func (i hostileInfo) Name() string       { return i.name }
func (i hostileInfo) Size() int64        { return i.f.Size }
func (i hostileInfo) Mode() fs.FileMode  { return i.f.Mode }
func (i hostileInfo) ModTime() time.Time { return time.Time{} }
func (i hostileInfo) IsDir() bool        { return i.f.Mode.IsDir() }
func (i hostileInfo) Sys() any           { return nil }
func (i hostileInfo) Uid() uint32        { return i.f.UID }
func (i hostileInfo) Gid() uint32        { return i.f.UID }
