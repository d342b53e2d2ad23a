// Package paddock is the stand-in cloud: a simulation, for the demo and the
// tests, that behaves as clouds do where that matters to SSH keys. It runs in a
// process of its own, paddockd, and speaks the adapter contract
// (api/adapter.yaml), so that the service meets it only over the wire.
//
// Each instance is a folder tree for a disk and a real SSH server on loopback
// addresses of its own; nothing else of a machine is there. See endpoint.go for
// what a login can do.
package paddock

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"time"

	"plumlatch/internal/adapter"
	"plumlatch/internal/faraway"
	"plumlatch/internal/paddock/block"
	"plumlatch/internal/paddock/guest"
)

// SSHPort is the port on which every instance answers SSH.
const SSHPort = block.Port

// DefaultBlock is the range of loopback addresses that instances get.
var DefaultBlock = netip.MustParsePrefix("127.40.0.0/16")

// Latency is how long each phase of the slow operations takes, and how long a
// guest agent that was permitted takes to register.
type Latency struct {
	Disk, Instance, Boot, Start, Stop, Delete, Agent, Attach, Detach, Metadata time.Duration
	// SnapshotGiB is what a copy takes for each GiB.
	SnapshotGiB time.Duration
}

// Options say how a Cloud is to run.
type Options struct {
	// Dir is where the state and the disks are kept. It is made if missing.
	Dir string
	// Token is what callers of the API must present.
	Token string
	// Block is the range of loopback addresses for instances, /24 or larger;
	// the zero value means DefaultBlock.
	Block netip.Prefix
	// Latency is zero unless set.
	Latency Latency
	// Away is how far away the instances' SSH endpoints are; zero for not at all.
	Away faraway.Distance
	// Region is the only one that it has; "" for all.
	Region string
	// Without are the capabilities that it does without.
	Without []adapter.Capability
	// Log is where the cloud writes what it does; nil means nowhere.
	Log *slog.Logger
}

// Cloud is a running stand-in cloud.
type Cloud struct {
	opts  Options
	log   *slog.Logger
	state *state
	claim net.Listener // of the address block

	mu        sync.Mutex
	endpoints map[string]*guest.Server // by instance id
	locks     map[string]*sync.Mutex   // by instance id: one phase at a time takes effect
	// agentWrites is held while a guest agent compares and replaces a file.
	agentWrites sync.Mutex
	faults      faults

	ctx    context.Context
	cancel context.CancelFunc
	work   sync.WaitGroup
}

// Open loads the state kept in o.Dir, starts the SSH endpoint of every
// running instance and continues with the operations that were under way.
func Open(o Options) (*Cloud, error) {
	if !o.Block.IsValid() {
		o.Block = DefaultBlock
	}
	if !o.Block.Addr().Is4() || !o.Block.Addr().IsLoopback() || o.Block.Bits() < 8 || o.Block.Bits() > 24 {
		return nil, fmt.Errorf("paddock: the address block %s is not a loopback range between /8 and /24", o.Block)
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := os.MkdirAll(filepath.Join(o.Dir, "disks"), 0o700); err != nil {
		return nil, fmt.Errorf("paddock: %w", err)
	}
	claim, err := block.Claim(o.Block)
	if err != nil {
		return nil, err
	}
	st, err := openState(filepath.Join(o.Dir, "state.db"))
	if err != nil {
		return nil, errors.Join(err, claim.Close())
	}
	c := &Cloud{
		opts:      o,
		log:       o.Log,
		state:     st,
		claim:     claim,
		endpoints: map[string]*guest.Server{},
		locks:     map[string]*sync.Mutex{},
	}
	c.ctx, c.cancel = context.WithCancel(context.Background())
	if err := c.resume(); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// Close stops the endpoints and the operations under way; they continue at the
// next Open.
func (c *Cloud) Close() {
	c.cancel()
	c.work.Wait()
	c.mu.Lock()
	for id := range c.endpoints {
		c.endpoints[id].Close()
		delete(c.endpoints, id)
	}
	c.mu.Unlock()
	c.state.close()
	c.claim.Close()
}

func (c *Cloud) resume() error {
	if err := c.state.ensureDefaultRule(); err != nil {
		return err
	}
	instances, err := c.state.instances()
	if err != nil {
		return err
	}
	for _, i := range instances {
		if i.RootDisk == "" && i.State != adapter.InstanceStateDeleted { // of a time when disks had no records
			if i, err = c.adoptDisk(i); err != nil {
				return err
			}
		}
		if i.State == adapter.InstanceStateRunning {
			if err := c.listen(i); err != nil {
				return fmt.Errorf("paddock: instance %s: %w (is another paddockd running on %s?)", i.Name, err, c.opts.Block)
			}
			c.copyMetadataKeys(i.Id)
		}
	}
	ops, err := c.state.runningOperations()
	if err != nil {
		return err
	}
	for _, op := range ops {
		c.run(op)
	}
	return nil
}

// lock keeps the operations on one instance from each other and returns the unlocking.
func (c *Cloud) lock(id string) func() {
	c.mu.Lock()
	l := c.locks[id]
	if l == nil {
		l = new(sync.Mutex)
		c.locks[id] = l
	}
	c.mu.Unlock()
	l.Lock()
	return l.Unlock
}
