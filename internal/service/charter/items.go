package charter

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/inventory"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// at is the place of a change in the charter's files, as a grant has it.
func at(c charter.Change) string {
	if c.At.File == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", c.At.File, c.At.Line)
}

// before finds what a change is about to change, to take it back.
func (s *Service) before(ctx context.Context, c charter.Change) (*record.ItemBefore, error) {
	switch c.Kind {
	case charter.DescribeKey:
		k, err := s.keys.Key(ctx, c.Key)
		return &record.ItemBefore{Purpose: k.Purpose, Labels: k.Labels}, err
	case charter.LabelOne:
		i, err := s.fleet.Instance(ctx, c.Instance)
		return &record.ItemBefore{Labels: i.Labels}, err
	case charter.PlaceLine, charter.Record, charter.Own, charter.Loosen, charter.ChangeEnd, charter.Forget, charter.Limit,
		charter.Withdraw:
		g, _, _, there, err := s.granted(ctx, c)
		return &record.ItemBefore{Granted: there, At: g.CharterAt, Why: g.Reason, Limits: g.Limits}, err
	}
	return &record.ItemBefore{}, nil
}

// granted finds the grant that a change is about.
func (s *Service) granted(
	ctx context.Context, c charter.Change,
) (g record.Grant, k record.Key, l record.Login, there bool, err error) {
	if k, err = s.keys.Key(ctx, c.Key); err != nil {
		return g, k, l, false, err
	}
	if l, _, err = s.fleet.LoginNamed(ctx, c.Login); err != nil {
		return g, k, l, false, err
	}
	live, err := s.store.LiveGrants(ctx, l.ID, []uuid.UUID{k.ID})
	g, there = live[k.ID]
	return g, k, l, there, err
}

// do makes a change. It returns the run that makes it; nil where it is made at once. It may be called again for the
// same item after a cut.
func (s *Service) do(
	ctx context.Context, t record.Settlement, by people.Actor, i *record.SettlementItem,
) (*record.Run, error) {
	c := i.Change
	once := journal.IdempotencyKey{Key: "charter " + i.ID.String()}
	switch c.Kind {
	case charter.PlaceLine, charter.Loosen, charter.ChangeEnd, charter.Limit:
		return s.place(ctx, t, by, i, once)
	case charter.Withdraw:
		_, _, _, there, err := s.granted(ctx, c)
		if err != nil || !there {
			return nil, err
		}
		// All changes were judged together; what is seen to here is that nobody is locked out by what has changed since.
		out, err := s.access.WithdrawGrant(
			ctx, by, access.Withdrawal{Key: c.Key, Login: c.Login, Reason: reasonOf(t, c), AtEnd: true},
		)
		return out.Run, err
	case charter.Own, charter.Record, charter.Forget:
		return nil, s.recordGrant(ctx, t, by, i)
	case charter.ImportKey, charter.DescribeKey, charter.LabelOne:
		return nil, s.describe(ctx, t, by, i, once)
	}
	return s.instance(ctx, t, by, c, once)
}

func reasonOf(t record.Settlement, c charter.Change) string {
	if charter.KeepsOut(c.Kind) {
		return cmp.Or(t.Reason, "not in the charter "+t.Charter)
	}
	return cmp.Or(c.Why, t.Reason, "charter "+t.Charter)
}

func (s *Service) place(
	ctx context.Context, t record.Settlement, by people.Actor, i *record.SettlementItem, once journal.IdempotencyKey,
) (*record.Run, error) {
	c := i.Change
	w := access.GrantWanted{Key: c.Key, Login: c.Login, Endless: true, Reason: reasonOf(t, c), Back: i.PutsBack}
	if !c.Until.IsZero() {
		w.Until = new(c.Until)
	}
	if c.Kind != charter.ChangeEnd {
		w.Limits, w.Judged = &c.Limits, true
	}
	if i.PutsBack != nil && c.Limits == "" { // what the lines had beside their grant comes back with them
		w.Limits = nil
	}
	if c.Kind == charter.Loosen || c.Kind == charter.Limit {
		g, _, _, there, err := s.granted(ctx, c)
		if err != nil || !there {
			return nil, err // withdrawn meanwhile
		}
		w.Until = g.Until
	}
	out, err := s.access.AddGrant(ctx, by, once, w)
	if err != nil {
		return nil, err
	}
	return out.Run, s.own(ctx, t, i, out.Login.ID, out.Key.ID)
}

// own has the charter own a grant; where a settlement is taken back, it is whose it was.
func (s *Service) own(
	ctx context.Context, t record.Settlement, i *record.SettlementItem, login, key uuid.UUID,
) error {
	if i.Disowns {
		return s.store.OwnGrant(ctx, login, key, nil, "")
	}
	return s.store.OwnGrant(ctx, login, key, &t.CharterID, at(i.Change))
}

// recordGrant changes the record of a grant, and no line.
func (s *Service) recordGrant(
	ctx context.Context, t record.Settlement, by people.Actor, i *record.SettlementItem,
) error {
	c := i.Change
	_, k, l, there, err := s.granted(ctx, c)
	if err != nil {
		return err
	}
	if c.Kind == charter.Record {
		if err := s.keys.Grantable(k); err != nil {
			return err
		}
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		note := func(what string) error {
			return tx.Note(ctx, journal.OnKeys(
				s.journal.Entry(by.By(), what, "login", c.Login, reasonOf(t, c), journal.Facts{"key": c.Key}), c.Key,
			))
		}
		switch {
		case c.Kind == charter.Forget && there:
			if err := tx.WithdrawGrant(ctx, l.ID, k.ID, s.now(), by.Name); err != nil {
				return err
			}
			return note("grant.withdraw:absent")
		case c.Kind == charter.Record && !there:
			g := record.Grant{
				ID: store.NewID(), KeyID: k.ID, LoginID: l.ID, GrantedAt: s.now(), GrantedBy: by.Name, Reason: reasonOf(t, c),
				Limits: c.Limits, Forced: !authorizedkeys.OpensWith(c.Limits),
			}
			if !c.Until.IsZero() {
				g.Until = new(c.Until)
			}
			if _, err := tx.AddOrKeepGrant(ctx, g); err != nil {
				return err
			}
			if err := note("grant.accept"); err != nil {
				return err
			}
		case c.Kind == charter.Forget:
			return nil
		}
		if i.Disowns {
			return tx.OwnGrant(ctx, l.ID, k.ID, nil, "")
		}
		return tx.OwnGrant(ctx, l.ID, k.ID, &t.CharterID, at(c))
	})
}

// declared reads what a version of the charter says of a key or an instance.
func (s *Service) declared(ctx context.Context, t record.Settlement) (charter.Charter, error) {
	v, err := s.store.CharterVersion(ctx, t.CharterID, t.Version)
	if err != nil {
		return charter.Charter{}, err
	}
	c, flaws := charter.Read(filesOf(v))
	if len(flaws) > 0 {
		return c, flaws[0]
	}
	return c, nil
}

// describe imports or describes a key, or labels an instance.
func (s *Service) describe(
	ctx context.Context, t record.Settlement, by people.Actor, i *record.SettlementItem, once journal.IdempotencyKey,
) error {
	c := i.Change
	var purpose *string
	var labels map[string]string
	if i.Restores != nil {
		purpose, labels = &i.Restores.Purpose, i.Restores.Labels
	} else {
		of, err := s.declared(ctx, t)
		if err != nil {
			return err
		}
		for _, k := range of.Keys {
			if k.Name == c.Key && c.Kind == charter.ImportKey {
				return s.importKey(ctx, by, k, once)
			}
			if k.Name == c.Key && c.Kind == charter.DescribeKey {
				labels = k.Labels
				if k.Purpose != "" {
					purpose = &k.Purpose
				}
			}
		}
		for _, one := range of.Instances {
			if c.Kind == charter.LabelOne && one.Name == c.Instance {
				labels = one.Labels
			}
		}
	}
	if c.Kind == charter.LabelOne {
		return s.fleet.Relabel(ctx, by, c.Instance, labels, reasonOf(t, c))
	}
	now, err := s.keys.Key(ctx, c.Key)
	if err != nil {
		return err
	}
	change := keys.Change{Purpose: purpose, Reason: reasonOf(t, c)}
	if labels != nil {
		change.SetLabels = labels
		for name := range maps.Keys(now.Labels) {
			if _, stays := labels[name]; !stays {
				change.RemoveLabels = append(change.RemoveLabels, name)
			}
		}
	}
	_, err = s.keys.ChangeKey(ctx, by, c.Key, change)
	return err
}

func (s *Service) importKey(ctx context.Context, by people.Actor, k charter.Key, once journal.IdempotencyKey) error {
	_, err := s.keys.ImportKey(ctx, by, once, keys.ImportedKey{
		NewKey: keys.NewKey{Name: k.Name, Purpose: k.Purpose, Labels: k.Labels}, PublicKey: k.Public.Line(), NoHolder: true,
	})
	var p *problem.Problem
	if errors.As(err, &p) {
		if known, e := s.keys.Key(ctx, k.Name); e == nil && slices.Equal(known.SHA256, k.Public.SHA256()) {
			return nil // it was imported before a cut
		}
	}
	return err
}

// instance has an instance come to be.
func (s *Service) instance(
	ctx context.Context, t record.Settlement, by people.Actor, c charter.Change, once journal.IdempotencyKey,
) (*record.Run, error) {
	of, err := s.declared(ctx, t)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(of.Instances, func(i charter.Instance) bool { return i.Name == c.Instance })
	if at < 0 {
		return nil, fmt.Errorf("version %d of %s does not declare %s", t.Version, t.Charter, c.Instance)
	}
	i := of.Instances[at]
	switch c.Kind {
	case charter.LaunchOne:
		_, run, err := s.fleet.Launch(ctx, by, once, fleet.Launch{
			Name: i.Name, Image: i.Launch.Image, Size: i.Launch.Size, Cloud: i.Launch.Cloud, Zone: i.Launch.Zone, Keys: c.Keys,
			NoKey: len(c.Keys) == 0, Steward: s.keys.Safe != nil, StaticAddress: i.Launch.StaticAddress, Labels: i.Labels,
			Reason: reasonOf(t, c),
		})
		if err != nil {
			return nil, err
		}
		return &run, nil
	case charter.AdoptOne:
		return nil, s.adopt(ctx, by, i)
	}
	if now, err := s.store.InstanceNamed(ctx, i.Name); err == nil && now.BroughtIn {
		return nil, nil // before a cut
	}
	b := i.BringIn
	out, err := s.inventory.BringIn(ctx, by, inventory.Wanted{
		Cloud: b.Cloud, Instances: []inventory.WantedInstance{{Is: b.Called, As: i.Name, HostKey: b.HostKey}},
		LoginUser: b.Login, Labels: i.Labels, Reason: reasonOf(t, c),
	})
	if err == nil && out[0].Problem != nil {
		err = out[0].Problem
	}
	return nil, err
}

func (s *Service) adopt(ctx context.Context, by people.Actor, i charter.Instance) error {
	a := i.Adopt
	if now, err := s.store.InstanceNamed(ctx, i.Name); err == nil && now.Adopted {
		return nil // before a cut
	}
	shown, err := s.fleet.ShownHostKeys(ctx, a.Address, a.Port, a.Via)
	if err != nil {
		return err
	}
	var lines []string
	for _, k := range shown {
		if keypair.FormatSHA256(k.SHA256()) == a.HostKey {
			lines = append(lines, k.Algorithm+" "+base64.StdEncoding.EncodeToString(k.Blob))
		}
	}
	if len(lines) == 0 {
		return &problem.Problem{
			Kind: problem.Conflict, Code: "not-the-expected", Where: []string{i.Name},
			Detail: fmt.Sprintf("%s does not show the host key %s", a.Address, a.HostKey),
		}
	}
	_, err = s.fleet.Adopt(ctx, by, fleet.Adopted{
		Name: i.Name, Address: a.Address, LoginUser: a.Login, Port: a.Port, HostKeys: lines, Via: a.Via, Labels: i.Labels,
		Learnt: "machine itself, with the fingerprint that its charter expects",
	})
	return err
}
