package demo

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"plumlatch/internal/child"
	"plumlatch/internal/pgboot"
)

// Latency is how slow the demo's cloud is, so that there is something to watch.
const Latency = "disk=1200ms,instance=500ms,boot=1800ms,start=800ms,stop=900ms,terminate=700ms,agent=1500ms,attach=600ms,detach=500ms,metadata=900ms,snapshot-gib=120ms"

// Stage is what the service stands on in the demo: a database and a cloud, both
// processes of its own in one data folder.
type Stage struct {
	// DatabaseURL is for the role of the service, OwnerURL for the owner of the tables.
	DatabaseURL, OwnerURL string
	CloudURL              string
	CloudToken            string
	// Dir is the data folder.
	Dir string

	lock     *os.File
	database *pgboot.Server
	paddock  *child.Process
}

// Raise starts what is needed in dir. Another process that uses dir makes it fail.
func Raise(ctx context.Context, dir string) (*Stage, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	s := &Stage{Dir: dir}
	if s.lock, err = os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(s.lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, fmt.Errorf("%s is in use by another plumlatchd: stop that, or give another folder with -data", dir)
	}
	if s.CloudToken, err = ensureToken(s.tokenFile()); err != nil {
		return nil, err
	}
	if s.database, err = pgboot.Start(ctx, pgboot.Options{Dir: dir}); err != nil {
		return nil, err
	}
	s.DatabaseURL, s.OwnerURL = s.database.ServiceURL, s.database.URL
	return s, nil
}

func (s *Stage) tokenFile() string { return filepath.Join(s.Dir, "paddock.token") }

func ensureToken(file string) (string, error) {
	data, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(data)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	token := rand.Text()
	return token, os.WriteFile(file, []byte(token+"\n"), 0o600)
}

// OpenCloud starts the stand-in cloud with the latency, as a process of its own.
func (s *Stage) OpenCloud(latency string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	program := filepath.Join(filepath.Dir(self), "paddockd")
	if _, err := os.Stat(program); err != nil {
		return fmt.Errorf("the stand-in cloud is missing: %w (build it beside plumlatchd: make build)", err)
	}
	log, err := os.OpenFile(filepath.Join(s.Dir, "paddock.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(program, "-data", filepath.Join(s.Dir, "paddock"), "-token-file", s.tokenFile(), "-latency", latency, "-block", blockFor(s.Dir).String())
	cmd.Stderr = log
	out, inward, err := os.Pipe()
	if err != nil {
		return err
	}
	defer out.Close()
	cmd.Stdout = inward
	s.paddock, err = child.Start(cmd)
	inward.Close()
	if err != nil {
		return fmt.Errorf("start the stand-in cloud: %w", err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return fmt.Errorf("the stand-in cloud did not start; %s says why", log.Name())
	}
	s.CloudURL = strings.TrimSpace(line)
	return nil
}

// blockFor gives each data folder addresses of its own, so that two demos on
// one machine do not meet.
func blockFor(dir string) netip.Prefix {
	h := fnv.New32a()
	h.Write([]byte(dir))
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(32 + h.Sum32()%192), 0, 0}), 16)
}

// CloseCloud ends the stand-in cloud.
func (s *Stage) CloseCloud() error {
	if s.paddock == nil {
		return nil
	}
	err := s.paddock.Stop(10 * time.Second)
	s.paddock = nil
	return err
}

// Clear stops all that Raise and OpenCloud started.
func (s *Stage) Clear() error {
	return errors.Join(s.CloseCloud(), s.database.Stop(), s.lock.Close())
}
