package croft

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"plumlatch/internal/adapter"
)

// Croft is the adapter at work.
type Croft struct {
	settings Settings
	token    string
	hosts    []*host
	journal  *journal
	log      *slog.Logger
	ctx      context.Context
	stop     context.CancelFunc
	work     sync.WaitGroup
	mu       sync.Mutex
	locks    map[string]*sync.Mutex // by instance
	firewall sync.Mutex
}

// can is what croft has calls for: with containers alone, none for disks and copies.
func (c *Croft) can() []adapter.Capability {
	out := []adapter.Capability{
		adapter.CapabilityLaunch, adapter.CapabilityStartStop, adapter.CapabilityBootOutput, adapter.CapabilityFirewall,
		adapter.CapabilityGuestAgent,
	}
	if slices.ContainsFunc(c.hosts, func(h *host) bool { return !h.contains() }) {
		out = append(out, adapter.CapabilityDisks, adapter.CapabilitySnapshots)
	}
	return out
}

// Open opens the journal and goes on with the operations that had not ended.
func Open(s Settings, log *slog.Logger) (*Croft, error) {
	token, err := os.ReadFile(s.TokenFile)
	if err != nil {
		return nil, fmt.Errorf("token-file: %w", err)
	}
	if strings.TrimSpace(string(token)) == "" {
		return nil, fmt.Errorf("token-file: %s is empty", s.TokenFile)
	}
	c := &Croft{settings: s, token: strings.TrimSpace(string(token)), log: log, locks: map[string]*sync.Mutex{}}
	for _, h := range s.Hosts {
		c.hosts = append(c.hosts, newHost(h))
	}
	if c.journal, err = openJournal(s.State); err != nil {
		return nil, err
	}
	c.ctx, c.stop = context.WithCancel(context.Background())
	id, err := c.journal.id()
	if err != nil {
		c.Close()
		return nil, err
	}
	for _, h := range c.hosts {
		h.owner, h.takeOver = id, s.TakeOver
		if _, err := h.connection(); err != nil && !isAway(err) {
			c.Close()
			return nil, err
		}
		h.ctx, h.log, h.state = c.ctx, log, filepath.Join(s.State, h.Zone)
		if err := os.MkdirAll(h.state, 0o700); err != nil {
			c.Close()
			return nil, err
		}
		if h.contains() {
			c.work.Add(1)
			go c.watch(h)
		}
	}
	running, err := c.journal.running()
	if err != nil {
		c.Close()
		return nil, err
	}
	for _, o := range running {
		c.carry(o)
	}
	return c, nil
}

// Close lets go of hosts and journal. Operations that have not ended go on with the next Open.
func (c *Croft) Close() {
	c.stop()
	c.work.Wait()
	for _, h := range c.hosts {
		h.following.Wait()
		h.close()
	}
	c.journal.db.Close()
}

// Handler serves the contract.
func (c *Croft) Handler() http.Handler {
	return adapter.Serve(c.token, api{Croft: c}, adapter.Only(c.can()), c.told)
}

// told writes down the calls that fail without a fault of the caller's.
func (c *Croft) told(next adapter.StrictHandlerFunc, call string) adapter.StrictHandlerFunc {
	return func(g *gin.Context, request any) (any, error) {
		out, err := next(g, request)
		var clash *adapter.ConflictError
		var bad *adapter.RequestError
		if err != nil && !errors.As(err, &clash) && !errors.As(err, &bad) && !errors.Is(err, adapter.ErrNotFound) {
			c.log.Warn("a call failed", "call", call, "error", err)
		}
		return out, err
	}
}

// lock keeps the operations on one instance from each other, and returns the unlocking.
func (c *Croft) lock(id string) func() {
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

// begin writes an operation down and carries it on.
func (c *Croft) begin(o operation) (adapter.Operation, error) {
	o.State, o.Begun = adapter.OperationStateRunning, time.Now()
	if o.Id == "" {
		o.Id = uuid.NewString()
	}
	if err := put(c.journal, bucketOperations, o.Id, o); err != nil {
		return o.Operation, err
	}
	c.carry(o)
	return o.Operation, nil
}

// again is how soon what a host does not answer to is tried again, within for how long.
const (
	again  = 2 * time.Second
	within = 10 * time.Minute
)

// carry does an operation. It looks at how things are each time, so that it may be killed anywhere and done again.
func (c *Croft) carry(o operation) {
	c.work.Add(1)
	go func() {
		defer c.work.Done()
		defer c.lock(o.Instance)()
		if now, there, err := get[operation](c.journal, bucketOperations, o.Id); err == nil && there {
			if o = now; o.State != adapter.OperationStateRunning {
				return
			}
		}
		for until := time.Now().Add(within); ; {
			err := c.do(c.ctx, &o)
			if c.ctx.Err() != nil {
				return // the next Open goes on with it
			}
			if isAway(err) && time.Now().Before(until) {
				c.log.Warn("a host does not answer", "operation", o.Kind, "instance", o.Instance, "error", err)
				select {
				case <-time.After(again):
					continue
				case <-c.ctx.Done():
					return
				}
			}
			o.State = adapter.OperationStateDone
			if err != nil {
				o.State, o.Error = adapter.OperationStateFailed, new(err.Error())
			}
			c.log.Info("operation ended", "operation", o.Kind, "instance", o.Instance, "state", o.State, "error", err)
			if err := c.keep(o); err != nil {
				c.log.Error("the journal cannot be written", "error", err)
			}
			return
		}
	}()
}

func (c *Croft) keep(o operation) error { return put(c.journal, bucketOperations, o.Id, o) }

// phase tells how far an operation is.
func (c *Croft) phase(o *operation, name string, percent int) error {
	if o.Phase != name || o.Percent == 0 {
		c.log.Info("phase begun", "operation", o.Kind, "instance", o.Instance, "phase", name)
	}
	o.Phase, o.Percent = name, percent
	return c.keep(*o)
}

// find returns the machine with an id. It is adapter.ErrNotFound where there is none.
func (c *Croft) find(ctx context.Context, id string) (machine, error) {
	if !strings.HasPrefix(id, prefix) {
		return machine{}, fmt.Errorf("instance %s: %w", id, adapter.ErrNotFound)
	}
	var away error
	for _, h := range c.hosts {
		found, err := h.machines(ctx, id)
		if err != nil {
			away = err
			continue
		}
		if len(found) == 1 {
			return found[0], nil
		}
	}
	if away != nil {
		return machine{}, away
	}
	return machine{}, fmt.Errorf("instance %s: %w", id, adapter.ErrNotFound)
}

func (c *Croft) hostOf(zone string) (*host, error) {
	at := slices.IndexFunc(c.hosts, func(h *host) bool { return h.Zone == zone })
	if at < 0 {
		return nil, adapter.BadRequest(fmt.Sprintf("there is no zone %q", zone))
	}
	return c.hosts[at], nil
}
