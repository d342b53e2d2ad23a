package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
)

// AddLogin keeps a login.
func (s *Store) AddLogin(ctx context.Context, l record.Login) error {
	return plain(s.db.WithContext(ctx).Create(&l).Error)
}

// LoginOf returns the login of a user on an instance.
func (s *Store) LoginOf(ctx context.Context, instance uuid.UUID, user string) (record.Login, error) {
	var l record.Login
	err := s.db.WithContext(ctx).Where("instance_id = ? AND os_user = ?", instance, user).Take(&l).Error
	return l, plain(err)
}

// InstancesOfLogins returns the instances of logins, by login.
func (s *Store) InstancesOfLogins(ctx context.Context, logins []uuid.UUID) (map[uuid.UUID]record.Instance, error) {
	var rows []struct {
		record.Instance
		LoginID uuid.UUID
	}
	err := s.db.WithContext(ctx).
		Table("instances").
		Joins("JOIN logins l ON l.instance_id = instances.id").
		Where("l.id IN ?", logins).
		Select("instances.*, l.id AS login_id").
		Scan(&rows).
		Error
	of := map[uuid.UUID]record.Instance{}
	for _, r := range rows {
		of[r.LoginID] = r.Instance
	}
	return of, plain(err)
}

// MainLogins returns the logins of the instances' own login users, in the place of any logins of them.
func (s *Store) MainLogins(ctx context.Context, logins []uuid.UUID) (ids []uuid.UUID, err error) {
	err = s.db.WithContext(ctx).
		Table("logins").
		Distinct("logins.id").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.login_user = logins.os_user").
		Joins("JOIN logins any_of ON any_of.instance_id = i.id AND any_of.id IN ?", logins).
		Pluck("logins.id", &ids).
		Error
	return ids, plain(err)
}

// LoginsToSweep returns the logins with their instances and steward keys.
func (s *Store) LoginsToSweep(ctx context.Context, ids []uuid.UUID) ([]record.LoginToSweep, error) {
	db := s.db.WithContext(ctx)
	var logins []record.Login
	if err := db.Where("id IN ?", ids).Find(&logins).Error; err != nil {
		return nil, plain(err)
	}
	var instanceIDs []uuid.UUID
	for _, l := range logins {
		instanceIDs = append(instanceIDs, l.InstanceID)
	}
	var instances []record.Instance
	if err := db.Preload("HostKeys", byAlgorithm).Where("id IN ?", instanceIDs).Find(&instances).Error; err != nil {
		return nil, plain(err)
	}
	var stewards []struct {
		record.Key
		Encrypted []byte
	}
	if err := db.Table("keys").Select("keys.*, h.encrypted").Joins("JOIN kept_keys h ON h.key_id = keys.id").
		Where("keys.steward_of IN ? AND keys.state = 'active'", instanceIDs).Scan(&stewards).Error; err != nil {
		return nil, plain(err)
	}
	byInstance := map[uuid.UUID]*record.LoginToSweep{}
	for _, i := range instances {
		byInstance[i.ID] = &record.LoginToSweep{Instance: i}
	}
	for _, k := range stewards {
		byInstance[*k.StewardOf].Steward, byInstance[*k.StewardOf].Encrypted = &k.Key, k.Encrypted
	}
	var shared []uuid.UUID
	if err := db.Table("logins").Where("instance_id IN ?", instanceIDs).Group("instance_id").Having("count(*) > 1").
		Pluck("instance_id", &shared).Error; err != nil {
		return nil, plain(err)
	}
	read, err := s.MachinesOf(ctx, shared)
	if err != nil {
		return nil, err
	}
	for _, id := range shared {
		l := byInstance[id]
		l.Shared = true
		if m, ok := read[id]; ok {
			l.Changes = m.StewardChanges
		}
	}
	out := make([]record.LoginToSweep, len(logins))
	for n, l := range logins {
		out[n] = *byInstance[l.InstanceID]
		out[n].Login = l
	}
	return out, nil
}

// LoginsOn returns the logins of the instances that are there under the names, each with its instance's name.
func (s *Store) LoginsOn(ctx context.Context, instances []string) ([]record.LoginOn, error) {
	var list []record.LoginOn
	err := s.db.WithContext(ctx).
		Table("logins").
		Select("logins.id, logins.os_user, i.name AS instance_name, i.login_user").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.gone_at IS NULL").
		Where("i.name IN ?", instances).
		Scan(&list).
		Error
	return list, plain(err)
}

// LoginsOf returns the ids of the logins of the instances that are there: of all,
// of those with the label, or of those named.
func (s *Store) LoginsOf(
	ctx context.Context, all bool, labelName, labelText string, names []string,
) ([]uuid.UUID, error) {
	q := s.db.WithContext(ctx).
		Table("logins").
		Joins("JOIN instances ON instances.id = logins.instance_id AND instances.gone_at IS NULL AND instances.state <> " +
			"'launching'")
	if !all {
		q = withLabel(q, "instances", labelName, labelText)
		if len(names) > 0 {
			q = q.Where("instances.name IN ?", names)
		}
	}
	var ids []uuid.UUID
	q = q.Where("logins.os_user = instances.login_user") // the others of a machine are read with it
	err := q.Order("instances.name").Pluck("logins.id", &ids).Error
	return ids, plain(err)
}

// LoginsDue returns at most limit logins of running instances that the service can
// read by itself, with a steward key or the way that it last did, agentMethod, and
// that nobody has tried to read since before.
func (s *Store) LoginsDue(ctx context.Context, agentMethod string, before time.Time, limit int) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Table("logins").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.gone_at IS NULL AND i.state = 'running'").
		Where("logins.os_user = i.login_user").
		Where(
			"(EXISTS (SELECT 1 FROM keys k WHERE k.steward_of = i.id AND k.state = 'active') OR logins.swept_by = ?)",
			agentMethod,
		).
		Where("logins.tried_at IS NULL OR logins.tried_at < ?", before).
		Order("logins.tried_at NULLS FIRST").Limit(limit).Pluck("logins.id", &ids).Error
	return ids, plain(err)
}

// CountSweepable returns how many logins LoginsDue is about.
func (s *Store) CountSweepable(ctx context.Context, agentMethod string) (int, error) {
	var n int64
	err := s.db.WithContext(ctx).Table("logins").
		Joins("JOIN instances i ON i.id = logins.instance_id AND i.gone_at IS NULL AND i.state = 'running'").
		Where("logins.os_user = i.login_user").
		Where(
			"(EXISTS (SELECT 1 FROM keys k WHERE k.steward_of = i.id AND k.state = 'active') OR logins.swept_by = ?)",
			agentMethod,
		).
		Count(&n).Error
	return int(n), plain(err)
}

// NoteSweepFailure records that a login could not be read, for it and for every
// sweep that waits for it. What was seen before stays.
func (s *Store) NoteSweepFailure(ctx context.Context, login uuid.UUID, why string, at time.Time) error {
	err := s.db.WithContext(ctx).
		Model(&record.Login{}).
		Where("id = ?", login).
		Updates(map[string]any{"tried_at": at, "sweep_error": why}).
		Error
	if err != nil {
		return plain(err)
	}
	return s.EndSweepItems(ctx, []record.SweepEnd{{LoginID: login, State: reading.Failed, Outcome: why, At: at}})
}

// LockLogins keeps others from recording looks at the logins until the
// transaction ends. It returns them by their ids.
func (s *Store) LockLogins(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]record.Login, error) {
	var logins []record.Login
	err := s.db.WithContext(ctx).
		Clauses(clause.Locking{Strength: "UPDATE"}).
		Where("id IN ?", ids).
		Order("id").
		Find(&logins).
		Error
	byID := make(map[uuid.UUID]record.Login, len(logins))
	for _, l := range logins {
		byID[l.ID] = l
	}
	return byID, plain(err)
}
