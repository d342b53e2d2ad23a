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
	"net"
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

// Stage is what the service runs on in the demo: a database and two clouds, all
// processes of their own in one data folder.
type Stage struct {
	// DatabaseURL is for the role of the service, OwnerURL for the owner of the tables.
	DatabaseURL, OwnerURL string
	// Shore is the cloud that the service is started with. Marsh is added to it; nil in a folder of a version that had
	// one cloud.
	Shore, Marsh *StandIn
	// Shed plays machines of no cloud; nil in a folder of a version that had none.
	Shed *StandIn
	// Dir is the data folder.
	Dir string

	lock     *os.File
	database *pgboot.Server
}

// StandIn is a stand-in cloud of the demo.
type StandIn struct {
	// Name is what the service calls it; "" for what it called it before.
	Name string
	URL  string
	// Token is what its adapter asks for.
	Token string

	file            string // of the data folder, from which the names of its others are made
	region, without string
	process         *child.Process
}

func (c *StandIn) tokenFile() string { return c.file + ".token" }
func (c *StandIn) blockFile() string { return c.file + ".block" }
func (c *StandIn) portFile() string  { return c.file + ".port" }

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
	if err := s.furnish(); err != nil {
		return nil, err
	}
	if s.database, err = pgboot.Start(ctx, pgboot.Options{Dir: dir}); err != nil {
		return nil, err
	}
	s.DatabaseURL, s.OwnerURL = s.database.ServiceURL, s.database.URL
	return s, nil
}

// furnish sets up the clouds. A folder of a version that had one has one, with both regions.
func (s *Stage) furnish() (err error) {
	shore, marsh := filepath.Join(s.Dir, "paddock"), filepath.Join(s.Dir, "paddock-south-marsh")
	s.Shore = &StandIn{file: shore}
	_, before := os.Stat(shore)
	if _, err := os.Stat(marsh + ".token"); err == nil || before != nil {
		s.Shore.Name, s.Shore.region = "north-shore", "north-shore"
		s.Marsh = &StandIn{
			Name: "south-marsh", file: marsh, region: "south-marsh", without: "browser-shell,metadata-keys",
		}
		if s.Marsh.Token, err = ensureToken(s.Marsh.tokenFile()); err != nil {
			return err
		}
	}
	shed := filepath.Join(s.Dir, "paddock-boat-shed")
	if _, err := os.Stat(shed + ".token"); err == nil || before != nil {
		s.Shed = &StandIn{file: shed, region: "north-shore", without: "instance-changes"}
		if s.Shed.Token, err = ensureToken(s.Shed.tokenFile()); err != nil {
			return err
		}
	}
	s.Shore.Token, err = ensureToken(s.Shore.tokenFile())
	return err
}

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

// OpenClouds starts the stand-in clouds with the latency, as processes of their own.
func (s *Stage) OpenClouds(latency string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	program := filepath.Join(filepath.Dir(self), "paddockd")
	if _, err := os.Stat(program); err != nil {
		return fmt.Errorf("the stand-in cloud is missing: %w (build it beside plumlatchd: make build)", err)
	}
	for _, c := range s.clouds() {
		if err := s.openCloud(c, program, latency); err != nil {
			return err
		}
	}
	return nil
}

func (s *Stage) clouds() []*StandIn {
	all := []*StandIn{s.Shore}
	for _, c := range []*StandIn{s.Marsh, s.Shed} {
		if c != nil {
			all = append(all, c)
		}
	}
	return all
}

func (s *Stage) openCloud(c *StandIn, program, latency string) error {
	log, err := os.OpenFile(c.file+".log", os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	addresses, fresh, err := s.block(c)
	if err != nil {
		return err
	}
	for {
		err := c.start(program, latency, addresses, log)
		if err == nil || !fresh || block.IsFree(addresses) {
			return err
		}
		if addresses, err = c.takeBlock(); err != nil { // another demo was faster
			return err
		}
	}
}

func (c *StandIn) start(program, latency string, addresses netip.Prefix, log *os.File) error {
	listen := "127.0.0.1:0"
	if before, err := os.ReadFile(c.portFile()); err == nil { // its record in the service has that
		if l, err := net.Listen("tcp", strings.TrimSpace(string(before))); err == nil {
			listen = l.Addr().String()
			l.Close()
		}
	}
	cmd := exec.Command(
		program, "-data", c.file, "-token-file", c.tokenFile(), "-latency", latency, "-block", addresses.String(),
		"-region", c.region, "-without", c.without, "-listen", listen,
	)
	cmd.Stderr = log
	out, inward, err := os.Pipe()
	if err != nil {
		return err
	}
	defer out.Close()
	cmd.Stdout = inward
	c.process, err = child.Start(cmd)
	inward.Close()
	if err != nil {
		return fmt.Errorf("start the stand-in cloud: %w", err)
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		return errors.Join(fmt.Errorf("the stand-in cloud did not start; %s says why", log.Name()), c.close())
	}
	c.URL = strings.TrimSpace(line)
	return os.WriteFile(c.portFile(), []byte(strings.TrimPrefix(c.URL, "http://")+"\n"), 0o600)
}

func (c *StandIn) close() error {
	if c.process == nil {
		return nil
	}
	err := c.process.Stop(10 * time.Second)
	c.process = nil
	return err
}

// The instances of a demo have addresses in one of these blocks of loopback.
const (
	firstBlock = 32 // of 127.x.0.0/16
	blocks     = 32
)

// block returns the addresses of this demo; fresh is whether it was chosen now. A demo keeps
// its own, since its instances have addresses there.
func (s *Stage) block(c *StandIn) (addresses netip.Prefix, fresh bool, err error) {
	data, err := os.ReadFile(c.blockFile())
	if err == nil {
		addresses, err = netip.ParsePrefix(strings.TrimSpace(string(data)))
		return addresses, false, err
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return addresses, false, err
	}
	if _, err := os.Stat(c.file); err == nil { // of a version that kept no block
		addresses = earlierBlock(s.Dir)
		return addresses, false, c.keepBlock(addresses)
	}
	addresses, err = c.takeBlock()
	return addresses, true, err
}

func (c *StandIn) keepBlock(addresses netip.Prefix) error {
	return os.WriteFile(c.blockFile(), []byte(addresses.String()+"\n"), 0o600)
}

// takeBlock chooses a block that no other stand-in on this machine has, and keeps it.
func (c *StandIn) takeBlock() (netip.Prefix, error) {
	begin := mathrand.IntN(blocks)
	for n := range blocks {
		addresses := blockAt(firstBlock + (begin+n)%blocks)
		if block.IsFree(addresses) {
			return addresses, c.keepBlock(addresses)
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

// CloseClouds ends the stand-in clouds.
func (s *Stage) CloseClouds() error {
	var all error
	for _, c := range s.clouds() {
		all = errors.Join(all, c.close())
	}
	return all
}

// Clear stops all that Raise and OpenClouds started.
func (s *Stage) Clear() error {
	return errors.Join(s.CloseClouds(), s.database.Stop(), s.lock.Close())
}
