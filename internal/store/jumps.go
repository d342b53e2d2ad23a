package store

import (
	"context"
	"encoding/json"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// maxWay is how many jump hosts of a way are looked up: one more than there may be, so that a way that goes round
// shows.
const maxWay = 5

// Hops returns the jump hosts on the way to each of the instances, as far as there are any, the nearest to it first.
// Those that the caller may not see are hidden. Raw, since GORM asks no question that goes on.
func (s *Store) Hops(ctx context.Context, instances []uuid.UUID) (map[uuid.UUID][]record.Hop, error) {
	out := map[uuid.UUID][]record.Hop{}
	if len(instances) == 0 {
		return out, nil
	}
	var rows []struct {
		Of, Via uuid.UUID
		Number  int
	}
	err := s.db.WithContext(ctx).Raw(`WITH RECURSIVE way AS (
			SELECT i.id AS of, public.via_of(i.id) AS via, 1 AS number FROM public.instances i WHERE i.id IN ?
			UNION ALL
			SELECT way.of, public.via_of(way.via), way.number + 1 FROM way WHERE way.via IS NOT NULL AND way.number < ?)
		SELECT of, via, number FROM way WHERE via IS NOT NULL ORDER BY of, number`, instances, maxWay).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return out, plain(err)
	}
	var ids []uuid.UUID
	for _, r := range rows {
		ids = append(ids, r.Via)
	}
	var hosts []record.Instance
	err = s.db.WithContext(ctx).Preload("HostKeys", byAlgorithm).Where("instances.id IN ?", ids).Find(&hosts).Error
	if err != nil {
		return nil, plain(err)
	}
	of := map[uuid.UUID]record.Instance{}
	for _, h := range hosts {
		of[h.ID] = h
	}
	for _, r := range rows {
		host, seen := of[r.Via]
		host.ID = r.Via
		out[r.Of] = append(out[r.Of], record.Hop{Of: r.Of, Number: r.Number, Instance: host, Hidden: !seen})
	}
	return out, nil
}

// withHops adds the jump hosts on the way to the instances.
func (s *Store) withHops(ctx context.Context, list ...*record.Instance) error {
	ids := make([]uuid.UUID, len(list))
	for n, i := range list {
		ids[n] = i.ID
	}
	hops, err := s.Hops(ctx, ids)
	for _, i := range list {
		i.Hops = hops[i.ID]
	}
	return err
}

// StewardsOf returns the active steward keys of instances with their encrypted private keys, in logins that have
// nothing else.
func (s *Store) StewardsOf(ctx context.Context, instances []uuid.UUID) (map[uuid.UUID]record.LoginToSweep, error) {
	var stewards []struct {
		record.Key
		Encrypted []byte
	}
	err := s.db.WithContext(ctx).
		Table("keys").
		Select("keys.*, h.encrypted").
		Joins("JOIN kept_keys h ON h.key_id = keys.id").
		Where("keys.steward_of IN ? AND keys.state = 'active'", instances).
		Scan(&stewards).
		Error
	out := map[uuid.UUID]record.LoginToSweep{}
	for _, k := range stewards {
		out[*k.StewardOf] = record.LoginToSweep{Steward: &k.Key, Encrypted: k.Encrypted}
	}
	return out, plain(err)
}

// InstanceNames returns the names of the instances, in order.
func (s *Store) InstanceNames(ctx context.Context, ids []uuid.UUID) (names []string, err error) {
	err = s.db.WithContext(ctx).Model(&record.Instance{}).Where("id IN ?", ids).Order("name").Pluck("name", &names).Error
	return names, plain(err)
}

// ViaFor returns by way of which instance one with the labels and the address would be reached, by the rules; nil for
// none. Raw, since GORM selects from tables alone.
func (s *Store) ViaFor(ctx context.Context, labels map[string]string, address string) (*uuid.UUID, error) {
	text, err := json.Marshal(labels)
	if err != nil {
		return nil, err
	}
	var via []uuid.UUID
	err = s.db.WithContext(ctx).Raw(`SELECT r.via FROM public.jump_rules r WHERE CASE
			WHEN r.network IS NULL THEN CAST(? AS jsonb) @> jsonb_build_object(r.label_name, r.label_text)
			ELSE public.address_of(?) <<= r.network END
		ORDER BY r.network IS NULL, masklen(r.network) DESC, r.label_name, r.label_text LIMIT 1`,
		string(text), address).Scan(&via).Error
	if err != nil || len(via) == 0 {
		return nil, plain(err)
	}
	return &via[0], nil
}

// SetVia says by way of which instance others are reached: of via, straight, or with neither as the rules say.
func (s *Store) SetVia(ctx context.Context, instances []uuid.UUID, via *uuid.UUID, direct bool) error {
	return plain(
		s.db.WithContext(ctx).
			Model(&record.Instance{}).
			Where("id IN ?", instances).
			Updates(map[string]any{"via": via, "direct": direct}).
			Error,
	)
}

// PutJumpRule keeps a rule, in the place of one for the same label or network.
func (s *Store) PutJumpRule(ctx context.Context, r record.JumpRule) error {
	db := s.db.WithContext(ctx)
	same := db.Where("label_name = ? AND label_text = ? AND network IS NULL", r.LabelName, r.LabelText)
	if r.Network != nil {
		same = db.Where("network = CAST(? AS cidr)", *r.Network)
	}
	if err := same.Delete(&record.JumpRule{}).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&r).Error)
}

// JumpRules returns all rules, in the order in which they count.
func (s *Store) JumpRules(ctx context.Context) (out []record.JumpRule, err error) {
	err = s.db.WithContext(ctx).
		Select(`jump_rules.*, coalesce((SELECT i.name FROM instances i WHERE i.id = jump_rules.via), '') AS via_name`).
		Order("network IS NULL, masklen(network) DESC, label_name, label_text").
		Find(&out).
		Error
	return out, plain(err)
}

// JumpRule returns a rule, and keeps others from changing it until the transaction ends.
func (s *Store) JumpRule(ctx context.Context, id uuid.UUID) (r record.JumpRule, err error) {
	err = s.db.WithContext(ctx).
		Clauses(clause.Locking{Strength: "UPDATE", Table: clause.Table{Name: "jump_rules"}}).
		Select(`jump_rules.*, coalesce((SELECT i.name FROM instances i WHERE i.id = jump_rules.via), '') AS via_name`).
		Where("jump_rules.id = ?", id).
		Take(&r).
		Error
	return r, plain(err)
}

// DeleteJumpRule ends a rule.
func (s *Store) DeleteJumpRule(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.JumpRule{}).Error)
}

// behind is what may be reached by way of another: what was said so of, and what a rule might count for. Whether it
// does is asked of those alone.
const behind = `instances.gone_at IS NULL AND NOT instances.direct AND (instances.via IS NOT NULL OR EXISTS (
	SELECT 1 FROM public.jump_rules r WHERE CASE
		WHEN r.network IS NULL THEN instances.labels @> jsonb_build_object(r.label_name, r.label_text)
		ELSE public.address_of(coalesce(nullif(instances.private_address, ''), instances.public_address)) <<= r.network END))`

// JumpHosts returns the instances by way of which others are reached straight, by name, with how many those are.
func (s *Store) JumpHosts(ctx context.Context) (out []record.JumpHost, err error) {
	err = s.db.WithContext(ctx).
		Table("(SELECT public.via_of(instances.id) AS via FROM instances WHERE " + behind + ") AS b").
		Select("j.id, j.name, count(*) AS behind").
		Joins("JOIN instances j ON j.id = b.via").
		Group("j.id, j.name").
		Order("j.name").
		Scan(&out).
		Error
	return out, plain(err)
}

// JumpHostsOf returns the instances whose own login users are among the logins, each with that login. There are none
// where nothing is reached by way of another.
func (s *Store) JumpHostsOf(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID]uuid.UUID, error) {
	var rows []struct{ Login, Instance uuid.UUID }
	err := s.db.WithContext(ctx).
		Table("logins l").
		Select("l.id AS login, i.id AS instance").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.login_user = l.os_user").
		Where("l.id IN ?", logins).
		Where(`EXISTS (SELECT 1 FROM public.instances o WHERE o.via = i.id)
			OR EXISTS (SELECT 1 FROM public.jump_rules r WHERE r.via = i.id)`).
		Scan(&rows).
		Error
	out := map[uuid.UUID]uuid.UUID{}
	for _, r := range rows {
		out[r.Instance] = r.Login
	}
	return out, plain(err)
}

// BehindAny returns the ids of the instances that are reached by way of one of the jump hosts, however many hosts are
// between. Raw, since GORM asks no question that goes on.
func (s *Store) BehindAny(ctx context.Context, hosts []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	var rows []struct{ Host, Instance uuid.UUID }
	err := s.db.WithContext(ctx).Raw(`WITH RECURSIVE step AS MATERIALIZED (
			SELECT instances.id, public.via_of(instances.id) AS via FROM instances WHERE `+behind+`),
		way AS (
			SELECT step.via AS host, step.id AS instance, 1 AS number FROM step WHERE step.via IN ?
			UNION
			SELECT way.host, step.id, way.number + 1 FROM way JOIN step ON step.via = way.instance WHERE way.number < ?)
		SELECT DISTINCT host, instance FROM way WHERE host <> instance`, hosts, maxWay).Scan(&rows).Error
	out := map[uuid.UUID][]uuid.UUID{}
	for _, r := range rows {
		out[r.Host] = append(out[r.Host], r.Instance)
	}
	return out, plain(err)
}
