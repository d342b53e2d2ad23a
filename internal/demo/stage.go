package demo

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	mathrand "math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"plumlatch/internal/child"
	"plumlatch/internal/paddock/block"
	"plumlatch/internal/pgboot"
)

// Latency is how slow the demo's cloud is, so that there is something to watch.
const Latency = "disk=1200ms,instance=500ms,boot=1800ms,start=800ms,stop=900ms,delete=700ms," +
	"agent=1500ms,attach=600ms,detach=500ms,metadata=900ms,snapshot-gib=120ms"

// Stage is what the service runs on in the demo: a database and a cloud, both
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
	addresses, fresh, err := s.block()
	if err != nil {
		return err
	}
	for {
		err := s.startCloud(program, latency, addresses, log)
		if err == nil || !fresh || block.IsFree(addresses) {
			return err
		}
		if addresses, err = s.takeBlock(); err != nil { // another demo was faster
			return err
		}
	}
}

func (s *Stage) startCloud(program, latency string, addresses netip.Prefix, log *os.File) error {
	cmd := exec.Command(
		program, "-data", filepath.Join(s.Dir, "paddock"), "-token-file", s.tokenFile(), "-latency", latency,
		"-block", addresses.String(),
	)
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
		return errors.Join(fmt.Errorf("the stand-in cloud did not start; %s says why", log.Name()), s.CloseCloud())
	}
	s.CloudURL = strings.TrimSpace(line)
	return nil
}

// The instances of a demo have addresses in one of these blocks of loopback.
const (
	firstBlock = 32 // of 127.x.0.0/16
	blocks     = 32
)

// block returns the addresses of this demo; fresh is whether it was chosen now. A demo keeps
// its own, since its instances have addresses there.
func (s *Stage) block() (addresses netip.Prefix, fresh bool, err error) {
	data, err := os.ReadFile(s.blockFile())
	if err == nil {
		addresses, err = netip.ParsePrefix(strings.TrimSpace(string(data)))
		return addresses, false, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return addresses, false, err
	}
	if _, err := os.Stat(filepath.Join(s.Dir, "paddock")); err == nil { // of a version that kept no block
		addresses = earlierBlock(s.Dir)
		return addresses, false, s.keepBlock(addresses)
	}
	addresses, err = s.takeBlock()
	return addresses, true, err
}

func (s *Stage) blockFile() string { return filepath.Join(s.Dir, "paddock.block") }

func (s *Stage) keepBlock(addresses netip.Prefix) error {
	return os.WriteFile(s.blockFile(), []byte(addresses.String()+"\n"), 0o600)
}

// takeBlock chooses a block that no other stand-in on this machine has, and keeps it.
func (s *Stage) takeBlock() (netip.Prefix, error) {
	begin := mathrand.IntN(blocks)
	for n := range blocks {
		addresses := blockAt(firstBlock + (begin+n)%blocks)
		if block.IsFree(addresses) {
			return addresses, s.keepBlock(addresses)
		}
	}
	return netip.Prefix{}, fmt.Errorf(
		"all %d address blocks for demos are in use on this machine: stop another demo", blocks,
	)
}

func blockAt(n int) netip.Prefix {
	return netip.PrefixFrom(netip.AddrFrom4([4]byte{127, byte(n), 0, 0}), 16)
}

// earlierBlock is the block by which earlier versions had each data folder's addresses.
func earlierBlock(dir string) netip.Prefix {
	h := fnv.New32a()
	h.Write([]byte(dir))
	return blockAt(32 + int(h.Sum32()%192))
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
