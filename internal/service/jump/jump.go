// Package jump knows by way of which instances others are reached, and goes that way: each jump host is logged in to
// with its steward key and has to show a pinned host key. How connections pass through is package sshio's.
package jump

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/machines"
	"plumlatch/internal/record"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// Service is the use cases of jump hosts.
type Service struct {
	// Safe keeps the private keys of steward keys; nil where it is switched off.
	Safe *safe.Safe

	store   *store.Store
	journal *journal.Service
	now     func() time.Time
	pool    sshio.Pool
}

// New returns the use cases of jump hosts.
func New(s *store.Store, kept *safe.Safe, j *journal.Service, now func() time.Time) *Service {
	return &Service{Safe: kept, store: s, journal: j, now: now}
}

// Target is how the service reaches a login of the instance. The way there is looked up at each connection.
func (s *Service) Target(i record.Instance, user string) sshio.Target {
	t := sshio.Target{User: user, Address: i.PublicAddress, Port: i.SSHPort}
	for _, h := range i.HostKeys {
		t.HostKeys = append(t.HostKeys, h.Blob)
	}
	t.Road = func(ctx context.Context) (net.Conn, string, error) {
		hops, err := s.hopsTo(ctx, i.ID)
		if err != nil {
			return nil, "", err
		}
		return s.connect(ctx, hops, i.DialAddress(len(hops) > 0), i.SSHPort)
	}
	return t
}

// By is how the service reaches a machine that has no record, by way of an instance.
func (s *Service) By(via record.Instance, address string, port int) sshio.Target {
	return sshio.Target{Address: address, Port: port, Road: func(ctx context.Context) (net.Conn, string, error) {
		before, err := s.hopsTo(ctx, via.ID)
		if err != nil {
			return nil, "", err
		}
		last, err := s.opened(ctx, []record.Hop{{Of: via.ID, Number: 1, Instance: via}}, len(before) > 0)
		if err != nil {
			return nil, "", err
		}
		return s.connect(ctx, append(before, last...), address, port)
	}}
}

func (s *Service) connect(ctx context.Context, hops []sshio.Hop, address string, port int) (net.Conn, string, error) {
	conn, err := s.pool.Connect(ctx, hops, address, port)
	return conn, net.JoinHostPort(address, strconv.Itoa(port)), err
}

// hopsTo are the jump hosts on the way to an instance, the first to be reached first, each with its steward key.
func (s *Service) hopsTo(ctx context.Context, instance uuid.UUID) ([]sshio.Hop, error) {
	ctx = store.Unlimited(ctx) // the service goes there, whatever the caller may see
	found, err := s.store.Hops(ctx, []uuid.UUID{instance})
	if err != nil || len(found[instance]) == 0 {
		return nil, err
	}
	if len(found[instance]) > sshio.MaxHops {
		return nil, errRound
	}
	return s.opened(ctx, found[instance], false)
}

var errRound = fmt.Errorf(
	"the way there goes round, or over more than %d jump hosts: plumlatch jump list",
	sshio.MaxHops,
)

// opened makes hops of jump hosts, of which the nearest to the instance is first. behind is whether the last of them is
// itself reached by way of another.
func (s *Service) opened(ctx context.Context, found []record.Hop, behind bool) ([]sshio.Hop, error) {
	ids := make([]uuid.UUID, len(found))
	for n, h := range found {
		ids[n] = h.Instance.ID
	}
	stewards, err := s.store.StewardsOf(ctx, ids)
	if err != nil {
		return nil, err
	}
	var out []sshio.Hop
	for n, h := range slices.Backward(found) {
		i, l := h.Instance, stewards[h.Instance.ID]
		l.Instance = i
		switch {
		case i.GoneAt != nil:
			return nil, fmt.Errorf("the jump host %s is gone: plumlatch jump list", i.Name)
		case i.State != machines.Running:
			return nil, fmt.Errorf("the jump host %s is %s", i.Name, i.State)
		case l.Steward == nil:
			return nil, fmt.Errorf(
				"the jump host %s has no steward key, so this service cannot pass: plumlatch instance steward %s", i.Name, i.Name,
			)
		case s.Safe == nil:
			return nil, errors.New("the safe is switched off, so no jump host can be passed; start with -safe-key-file")
		}
		private, err := s.Safe.Open(l.Encrypted, l.Steward.ID.String())
		if err != nil {
			return nil, fmt.Errorf("the steward key of the jump host %s cannot be used: %w", i.Name, err)
		}
		signer, err := ssh.ParsePrivateKey(private)
		clear(private)
		if err != nil {
			return nil, fmt.Errorf("the steward key of the jump host %s does not read as a private key", i.Name)
		}
		s.journal.Use("to pass through its jump host", l.Steward.Name)
		t := sshio.Target{
			User: l.StewardUser(), Address: i.DialAddress(behind || n < len(found)-1), Port: i.SSHPort,
		}
		for _, k := range i.HostKeys {
			t.HostKeys = append(t.HostKeys, k.Blob)
		}
		out = append(out, sshio.Hop{Name: i.Name, Target: t, Signers: []ssh.Signer{signer}})
	}
	return out, nil
}

// Ways are the jump hosts that there are, and the rules.
type Ways struct {
	Hosts []record.JumpHost
	Rules []record.JumpRule
}

// List returns the jump hosts and the rules.
func (s *Service) List(ctx context.Context) (w Ways, err error) {
	if w.Hosts, err = s.store.JumpHosts(ctx); err != nil {
		return w, err
	}
	w.Rules, err = s.store.JumpRules(ctx)
	return w, err
}

// Wanted says how instances are reached: by way of the instance Via, or straight, or with neither as the rules say.
type Wanted struct {
	Instances []string
	Via       string
	Direct    bool
	Reason    string
}

// mostAtOnce is how many instances are changed at once.
const mostAtOnce = 1000

// Set says how instances are reached. It reports whether anything changed.
func (s *Service) Set(ctx context.Context, actor people.Actor, w Wanted) (changed int, err error) {
	switch {
	case len(w.Instances) == 0 || len(w.Instances) > mostAtOnce:
		return 0, invalid("instances", fmt.Sprintf("1 to %d instances are changed at once", mostAtOnce), "")
	case w.Via != "" && w.Direct:
		return 0, invalid("direct", "an instance is reached straight, or by way of another", "Leave one of the two out")
	}
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return 0, err
	}
	var via *uuid.UUID
	if w.Via != "" {
		host, err := s.instance(ctx, s.store, w.Via)
		if err != nil {
			return 0, err
		}
		via = &host.ID
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		var ids []uuid.UUID
		var entries []record.Entry
		for _, name := range unique(w.Instances) {
			i, err := s.instance(ctx, tx, name)
			if err != nil {
				return err
			}
			if via != nil && i.ID == *via {
				return round(i.Name)
			}
			if i.Direct == w.Direct && (i.Via == nil) == (via == nil) && (via == nil || *i.Via == *via) {
				continue
			}
			ids = append(ids, i.ID)
			entries = append(entries, s.said(actor, i, w))
		}
		if changed = len(ids); changed == 0 {
			return nil
		}
		if err := tx.SetVia(ctx, ids, via, w.Direct); err != nil {
			return err
		}
		if err := s.checkRound(ctx, tx, ids); err != nil {
			return err
		}
		return tx.Note(ctx, entries...)
	})
	return changed, err
}

func (s *Service) said(actor people.Actor, i record.Instance, w Wanted) record.Entry {
	told := "jump.set"
	switch {
	case w.Direct:
		told = "jump.set:straight"
	case w.Via == "":
		told = "jump.set:rules"
	}
	return s.journal.Entry(actor.By(), told, "instance", i.Name, w.Reason, journal.Facts{"via": w.Via})
}

// checkRound refuses ways that go round, or over too many jump hosts: those to the instances, and to what is behind
// them.
func (s *Service) checkRound(ctx context.Context, tx *store.Store, changed []uuid.UUID) error {
	ctx = store.Unlimited(ctx)
	behind, err := tx.BehindAny(ctx, changed)
	if err != nil {
		return err
	}
	ids := slices.Clone(changed)
	for _, of := range behind {
		ids = append(ids, of...)
	}
	ways, err := tx.Hops(ctx, ids)
	if err != nil {
		return err
	}
	for id, hops := range ways {
		if len(hops) > sshio.MaxHops || slices.ContainsFunc(hops, func(h record.Hop) bool { return h.Instance.ID == id }) {
			return round(hops[0].Instance.Name)
		}
	}
	return nil
}

func round(name string) error {
	return &problem.Problem{
		Kind: problem.Conflict, Code: "goes-round", Field: "via", Where: []string{name},
		Detail: fmt.Sprintf("the way by %s would go round, or over more than %d jump hosts", name, sshio.MaxHops),
		Remedy: "See the ways that there are: plumlatch jump list",
	}
}

// RuleWanted is a rule: instances with a label, or in a network, are reached by way of another.
type RuleWanted struct {
	LabelName, LabelText, Network string
	Via, Reason                   string
}

// PutRule keeps a rule, in the place of one for the same label or network.
func (s *Service) PutRule(ctx context.Context, actor people.Actor, w RuleWanted) (record.JumpRule, error) {
	r := record.JumpRule{
		ID: store.NewID(), LabelName: w.LabelName, LabelText: w.LabelText, AddedAt: s.now(), AddedBy: actor.Name,
	}
	if err := problem.CheckText("reason", w.Reason); err != nil {
		return r, err
	}
	about := "with the label " + w.LabelName + "=" + w.LabelText
	switch {
	case (w.Network == "") == (w.LabelName == ""):
		return r, invalid("network", "a rule is for a label or for a network", "Give -label NAME=VALUE or -network NETWORK")
	case w.Network != "":
		network, err := netip.ParsePrefix(w.Network)
		if err != nil {
			return r, invalid(
				"network", fmt.Sprintf("%q is no network", w.Network), "Give one in CIDR notation, such as 198.51.100.0/24",
			)
		}
		r.Network = new(network.Masked().String())
		about = "in " + *r.Network
	default:
		if err := problem.CheckLabels(map[string]string{w.LabelName: w.LabelText}); err != nil {
			return r, err
		}
	}
	host, err := s.instance(ctx, s.store, w.Via)
	if err != nil {
		return r, err
	}
	r.Via, r.ViaName = host.ID, host.Name
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.PutJumpRule(ctx, r); err != nil {
			return err
		}
		behind, err := tx.JumpHosts(ctx)
		if err != nil {
			return err
		}
		hosts := []uuid.UUID{host.ID}
		for _, h := range behind {
			hosts = append(hosts, h.ID)
		}
		if err := s.checkRound(ctx, tx, hosts); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "jump.rule", "instance", host.Name, w.Reason, journal.Facts{"for": about},
		))
	})
	return r, err
}

// RemoveRule ends a rule.
func (s *Service) RemoveRule(ctx context.Context, actor people.Actor, id uuid.UUID, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		r, err := tx.JumpRule(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			return &problem.Problem{
				Kind: problem.NotFound, Code: "no-such-rule", Detail: "there is no jump rule with this id",
				Remedy: "See those that there are: plumlatch jump list",
			}
		}
		if err != nil {
			return err
		}
		if err := tx.DeleteJumpRule(ctx, id); err != nil {
			return err
		}
		about := "with the label " + r.LabelName + "=" + r.LabelText
		if r.Network != nil {
			about = "in " + *r.Network
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "jump.unrule", "instance", r.ViaName, reason, journal.Facts{"for": about},
		))
	})
}

func (s *Service) instance(ctx context.Context, in *store.Store, name string) (record.Instance, error) {
	i, err := in.InstanceNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return i, &problem.Problem{
			Kind: problem.NotFound, Code: "no-such-instance", Where: []string{name},
			Detail: fmt.Sprintf("there is no instance named %q", name),
			Remedy: "See what there is: plumlatch instance list",
		}
	}
	return i, err
}

func invalid(field, detail, remedy string) error {
	return &problem.Problem{Kind: problem.Invalid, Code: "bad-" + field, Field: field, Detail: detail, Remedy: remedy}
}

func unique(names []string) []string {
	names = slices.Clone(names)
	slices.Sort(names)
	return slices.Compact(names)
}
