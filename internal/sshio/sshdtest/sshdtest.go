// Package sshdtest runs a real OpenSSH server on loopback for a test.
package sshdtest

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// Server is a running sshd. It lets the user who runs the test in, by the keys
// in KeysFile.
type Server struct {
	User     string
	Port     int
	HostKey  ssh.PublicKey
	KeysFile string

	private ed25519.PrivateKey // of HostKey
	end     func()
}

// Turn has the machine turn hostile: sshd ends, and at its address and with its host key another
// server does harm until the test ends.
func (s *Server) Turn(t testing.TB, harm Harm) *Hostile {
	t.Helper()
	s.end()
	return startHostile(t, fmt.Sprintf("127.0.0.1:%d", s.Port), s.private, harm)
}

// Start runs sshd until the test ends. Over SFTP the whole machine shows.
func Start(t testing.TB) *Server {
	t.Helper()
	// Not t.TempDir, whose folders above others may write.
	dir, err := os.MkdirTemp("/var/tmp", "sshd-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return start(t, dir, filepath.Join(dir, "authorized_keys"), "internal-sftp", "")
}

// StartFull runs sshd until the test ends, with KeysFile on a disk of so many
// KiB that holds the text and is otherwise filled up. It needs root.
func StartFull(t testing.TB, text string, kib int) *Server {
	t.Helper()
	dir := t.TempDir()
	if out, err := exec.Command(
		"mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dk,mode=700", kib), "none", dir,
	).CombinedOutput(); err != nil {
		t.Skipf("no small disk can be mounted here: %v: %s", err, out)
	}
	t.Cleanup(func() { exec.Command("umount", dir).Run() })
	keysFile := filepath.Join(dir, "authorized_keys")
	if err := os.WriteFile(keysFile, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	fill, err := os.Create(filepath.Join(dir, "fill"))
	for err == nil {
		_, err = fill.Write(make([]byte, 4096))
	}
	fill.Close()
	own, err := os.MkdirTemp("/var/tmp", "sshd-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(own) })
	return start(t, own, keysFile, "internal-sftp", "")
}

// StartTakingPasswords is Start where password login is on.
func StartTakingPasswords(t testing.TB) *Server {
	t.Helper()
	dir := t.TempDir()
	return start(t, dir, filepath.Join(dir, "authorized_keys"), "internal-sftp", "PasswordAuthentication yes\n")
}

// StartConfined runs sshd until the test ends. Over SFTP only a folder shows,
// which is the home folder, and KeysFile is its usual authorized_keys. It needs root.
func StartConfined(t testing.TB) *Server {
	t.Helper()
	return confined(t, "internal-sftp")
}

func confined(t testing.TB, subsystem string) *Server {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can have sshd confine a session to a folder")
	}
	dir, err := os.MkdirTemp("/run", "sshd-*") // every folder above must be root's
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	root := filepath.Join(dir, "root")
	if err := errors.Join(
		os.Chmod(dir, 0o755), os.MkdirAll(filepath.Join(root, ".ssh"), 0o755),
		os.Chmod(filepath.Join(root, ".ssh"), 0o700), os.MkdirAll(filepath.Join(root, "etc"), 0o755),
		os.WriteFile(filepath.Join(root, "etc", "passwd"), []byte("root:x:0:0::/:/bin/sh\n"), 0o644),
	); err != nil {
		t.Fatal(err)
	}
	return start(t, dir, filepath.Join(root, ".ssh", "authorized_keys"), subsystem, "ChrootDirectory "+root+"\n")
}

// cutsftp builds the SFTP server that dies at a rename.
var cutsftp = sync.OnceValues(func() ([]byte, error) {
	dir, err := os.MkdirTemp("", "cutsftp-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	build := exec.Command("go", "build", "-o", dir+"/cutsftp", "plumlatch/internal/sshio/sshdtest/cutsftp")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("build the SFTP server: %w: %s", err, out)
	}
	return os.ReadFile(dir + "/cutsftp")
})

// StartCutting is StartConfined with an SFTP server that dies at a rename. The
// returned function has it die once, before or after it has renamed. It needs root and
// builds that server.
func StartCutting(t testing.TB) (s *Server, cut func(when string)) {
	t.Helper()
	s = confined(t, "sftp")
	root := filepath.Dir(filepath.Dir(s.KeysFile))
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	// sshd starts it by the user's shell, which has to be in the folder too, so it is that.
	entry, err := exec.Command("getent", "passwd", me.Username).Output()
	if err != nil {
		t.Fatal(err)
	}
	shell := filepath.Join(root, strings.TrimSpace(string(entry[strings.LastIndexByte(string(entry), ':')+1:])))
	program, err := cutsftp()
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.MkdirAll(filepath.Dir(shell), 0o755), os.WriteFile(shell, program, 0o755)); err != nil {
		t.Fatal(err)
	}
	return s, func(when string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(root, "cut"), []byte(when), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

func start(t testing.TB, dir, keysFile, subsystem, more string) *Server {
	t.Helper()
	program := "/usr/sbin/sshd"
	if _, err := os.Stat(program); err != nil {
		t.Skip("there is no sshd here: Debian's package is openssh-server")
	}
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	if me.Uid == "0" {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // sshd's own folder for its less privileged part
			t.Fatal(err)
		}
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	s := &Server{User: me.Username, Port: FreePort(t), KeysFile: keysFile, private: private}
	if s.HostKey, err = ssh.NewPublicKey(public); err != nil {
		t.Fatal(err)
	}
	host, config := filepath.Join(dir, "host"), filepath.Join(dir, "config")
	if err := os.WriteFile(host, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	settings := more + // first, since the first value counts
		fmt.Sprintf(
			"ListenAddress 127.0.0.1\nPort %d\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nUsePAM "+
				"no\nPasswordAuthentication no\nPermitRootLogin prohibit-password\nStrictModes no\nSubsystem sftp "+
				"%s\nMaxStartups 100\n",
			s.Port,
			host,
			s.KeysFile,
			subsystem,
		)
	if err := os.WriteFile(config, []byte(settings), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(program, "-D", "-e", "-f", config)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	s.end = sync.OnceFunc(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	t.Cleanup(s.end)
	for until := time.Now().Add(10 * time.Second); ; {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err == nil {
			c.Close()
			return s
		}
		if time.Now().After(until) {
			t.Fatalf("sshd does not listen: %v", err)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// FreePort returns a port of loopback that nobody listens on now.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
