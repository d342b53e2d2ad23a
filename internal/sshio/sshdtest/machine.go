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
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

// Machine is a real sshd with an /etc, users and home folders of its own: it runs in a mount
// namespace in which these take the place of those of this machine.
type Machine struct {
	Port    int
	HostKey ssh.PublicKey
	// etc and home are where /etc and /home of the machine are on this one.
	etc, home string
}

// The users of a Machine are root and this one, who has this password.
const (
	MachineUser     = "warden"
	MachinePassword = "guillemot ledge"
)

const (
	machineUID  = 3001
	machineHash = "$6$plumlatch$LGAJ75c95CjYE9ET30pgFgOLeYyf1A/vdUxI22IOVWQEmgb4.L7YdO1R5i1m3FPTjiC4jZglYqEWUqotrBhJs0"
)

// StartMachine runs a machine until the test ends. config is its sshd_config, to which what it takes to run
// is added; files are further ones, by paths that begin with /etc/ or /home/. Those in a home folder are
// its user's. It needs root.
func StartMachine(t testing.TB, config string, files map[string]string) *Machine {
	t.Helper()
	return StartMachineOf(t, config, files, nil)
}

// User is another user of a Machine. Password is a field of shadow(5).
type User struct {
	Name, Home, Shell, Password string
	UID                         int
	Groups                      []string
}

// StartMachineOf is StartMachine with more users, to whom the files in their home folders belong.
func StartMachineOf(t testing.TB, config string, files map[string]string, users []User) *Machine {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("only root can run a machine of its own")
	}
	dir, err := os.MkdirTemp("/var/tmp", "machine-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m := &Machine{Port: FreePort(t), etc: filepath.Join(dir, "etc"), home: filepath.Join(dir, "home")}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		t.Fatal(err)
	}
	if m.HostKey, err = ssh.NewPublicKey(public); err != nil {
		t.Fatal(err)
	}
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Chmod(dir, 0o755))
	if out, err := exec.Command("cp", "-a", "/etc", m.etc).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, own := range []string{"ssh", "sudoers.d", "gshadow", ".pwd.lock"} { // which are the machine's own
		must(os.RemoveAll(filepath.Join(m.etc, own)))
	}
	for _, folder := range []string{"etc/ssh", "etc/sudoers.d", "home", "home/" + MachineUser} {
		must(os.MkdirAll(filepath.Join(dir, folder), 0o755))
	}
	must(os.Chown(filepath.Join(m.home, MachineUser), machineUID, machineUID))
	must(os.WriteFile(filepath.Join(m.etc, "ssh/host"), pem.EncodeToMemory(block), 0o600))
	m.Put(t, "/etc/ssh/sshd_config", fmt.Sprintf(
		"ListenAddress 127.0.0.1\nPort %d\nHostKey /etc/ssh/host\nPidFile none\nSubsystem sftp internal-sftp\n"+
			"MaxStartups 100\n%s", m.Port, config,
	))
	for path, content := range files {
		m.Put(t, path, content)
	}
	var passwd, shadow, group strings.Builder
	for _, u := range users {
		fmt.Fprintf(&passwd, "%s:x:%d:%d::%s:%s\n", u.Name, u.UID, u.UID, u.Home, u.Shell)
		fmt.Fprintf(&shadow, "%s:%s:19000::::::\n", u.Name, u.Password)
		for n, g := range u.Groups {
			fmt.Fprintf(&group, "%s:x:%d:%s\n", g, 5000+100*n+u.UID, u.Name)
		}
		at := filepath.Join(m.home, u.Name)
		must(os.MkdirAll(at, 0o755))
		must(filepath.WalkDir(at, func(name string, _ os.DirEntry, err error) error {
			return errors.Join(err, os.Lchown(name, u.UID, u.UID))
		}))
	}
	must(os.WriteFile(filepath.Join(m.etc, "passwd"), []byte(passwd.String()+fmt.Sprintf(
		"root:x:0:0::/root:/bin/sh\nsshd:x:100:65534::/run/sshd:/usr/sbin/nologin\n"+
			"nobody:x:65534:65534::/:/usr/sbin/nologin\n"+
			"%s:x:%d:%d::/home/%s:/bin/sh\n",
		MachineUser,
		machineUID,
		machineUID,
		MachineUser,
	)), 0o644))
	must(os.WriteFile(filepath.Join(m.etc, "group"), []byte(group.String()+fmt.Sprintf(
		"root:x:0:\nnogroup:x:65534:\n%s:x:%d:\nops:x:4000:%s\n", MachineUser, machineUID, MachineUser,
	)), 0o644))
	must(os.WriteFile(filepath.Join(m.etc, "shadow"), []byte(
		shadow.String()+"root:*:19000::::::\nsshd:*:19000::::::\nnobody:*:19000::::::\n"+
			MachineUser+":"+machineHash+":19000::::::\n",
	), 0o600))
	must(os.MkdirAll("/run/sshd", 0o755))
	script := fmt.Sprintf(
		"set -e; mount --bind %[1]s/etc /etc; mount --bind %[1]s/home /home; exec /usr/sbin/sshd -D -e", dir,
	)
	cmd := exec.Command("unshare", "--mount", "--propagation", "private", "sh", "-c", script)
	var said strings.Builder
	cmd.Stderr = &said
	must(cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	t.Cleanup(func() {
		cmd.Process.Kill()
		<-ended
		if t.Failed() {
			t.Logf("sshd said:\n%s", said.String())
		}
	})
	for until := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", m.Port))
		if err == nil {
			c.Close()
			return m
		}
		select {
		case err := <-ended:
			ended <- err
			t.Fatalf("sshd ended: %v: %s", err, said.String())
		default:
		}
		if time.Now().After(until) {
			t.Fatalf("sshd does not listen: %v", err)
		}
	}
}

// Etc is where the machine's /etc is on this one.
func (m *Machine) Etc() string { return m.etc }

// Home is where the home folder of a user is on this machine.
func (m *Machine) Home(user string) string { return filepath.Join(m.home, user) }

// Put writes a file of the machine. A path that ends in ? is one that root alone may read, one that ends
// in * a program.
func (m *Machine) Put(t testing.TB, path, content string) {
	t.Helper()
	mode := os.FileMode(0o644)
	path, secret := strings.CutSuffix(path, "?")
	path, program := strings.CutSuffix(path, "*")
	switch {
	case secret:
		mode = 0o600
	case program:
		mode = 0o755
	}
	at := filepath.Join(m.etc, strings.TrimPrefix(path, "/etc/"))
	owner := 0
	if rest, isHome := strings.CutPrefix(path, "/home/"); isHome {
		at, owner = filepath.Join(m.home, rest), machineUID
	}
	folder := filepath.Dir(at)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, []byte(content), mode); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{at, folder} {
		if folder != m.etc && owner != 0 {
			if err := os.Chown(name, owner, owner); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// Secret has root alone read a file of the machine below /etc.
func (m *Machine) Secret(t testing.TB, path string) {
	t.Helper()
	if err := os.Chmod(filepath.Join(m.etc, strings.TrimPrefix(path, "/etc/")), 0o600); err != nil {
		t.Fatal(err)
	}
}

// Open lets everybody write a file of the machine below /etc.
func (m *Machine) Open(t testing.TB, path string) {
	t.Helper()
	if err := os.Chmod(filepath.Join(m.etc, strings.TrimPrefix(path, "/etc/")), 0o777); err != nil {
		t.Fatal(err)
	}
}
