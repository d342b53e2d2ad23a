package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// PutMachines keeps what was read of all users of machines, no two of them the same, but where a later reading is kept.
// Raw, since GORM's upsert knows no condition.
func (s *Store) PutMachines(ctx context.Context, all []record.MachineReading) error {
	if len(all) == 0 {
		return nil
	}
	ids, at := make([][16]byte, len(all)), make([]time.Time, len(all))
	machines, methods, changes := make([]string, len(all)), make([]string, len(all)), make([]*string, len(all))
	for n, m := range all {
		data, err := json.Marshal(m.Machine)
		if err != nil {
			return err
		}
		ids[n], machines[n], methods[n], at[n] = m.InstanceID, string(data), m.Method, m.ReadAt
		if m.StewardChanges != nil {
			users, err := json.Marshal(m.StewardChanges)
			if err != nil {
				return err
			}
			changes[n] = new(string(users))
		}
	}
	_, err := s.db.Statement.ConnPool.ExecContext(
		ctx,
		`INSERT INTO machine_readings (instance_id, machine, method, read_at, steward_changes)
		SELECT n.id, n.machine::jsonb, n.method, n.at, n.changes::jsonb FROM
			unnest($1::uuid[], $2::text[], $3::text[], $4::timestamptz[], $5::text[]) AS n (id, machine, method, at, changes)
		ON CONFLICT (instance_id) DO UPDATE SET machine = excluded.machine, method = excluded.method,
			read_at = excluded.read_at, steward_changes = coalesce(excluded.steward_changes, machine_readings.steward_changes)
			WHERE machine_readings.read_at <= excluded.read_at`,
		ids, machines, methods, at, changes,
	)
	return plain(err)
}

// MachineOf returns what was read of all users of a machine; ErrNotFound where nobody has.
func (s *Store) MachineOf(ctx context.Context, instance uuid.UUID) (m record.MachineReading, err error) {
	err = s.db.WithContext(ctx).Where("instance_id = ?", instance).Take(&m).Error
	return m, plain(err)
}

// MachinesOf returns what was read of all users of machines, by instance.
func (s *Store) MachinesOf(ctx context.Context, instances []uuid.UUID) (map[uuid.UUID]record.MachineReading, error) {
	var rows []record.MachineReading
	if err := s.db.WithContext(ctx).Where("instance_id IN ?", instances).Find(&rows).Error; err != nil {
		return nil, plain(err)
	}
	out := make(map[uuid.UUID]record.MachineReading, len(rows))
	for _, r := range rows {
		out[r.InstanceID] = r
	}
	return out, nil
}

// LoginsOnInstance returns at most limit logins of an instance, by user.
func (s *Store) LoginsOnInstance(ctx context.Context, instance uuid.UUID, limit int) (out []record.Login, err error) {
	err = s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("os_user").Limit(limit).Find(&out).Error
	return out, plain(err)
}

// FindLogins records the logins of users who were found on a machine, where they are not known. It returns all
// of them by their users.
func (s *Store) FindLogins(
	ctx context.Context, instance uuid.UUID, users []string, at time.Time,
) (map[string]record.Login, error) {
	if len(users) == 0 {
		return nil, nil
	}
	found := make([]record.Login, len(users))
	for n, user := range users {
		found[n] = record.Login{ID: NewID(), InstanceID: instance, OSUser: user, FoundAt: &at}
	}
	db := s.db.WithContext(ctx)
	err := db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(found, 500).Error
	if err != nil {
		return nil, plain(err)
	}
	var all []record.Login
	if err := db.Where("instance_id = ? AND os_user IN ?", instance, users).Find(&all).Error; err != nil {
		return nil, plain(err)
	}
	out := make(map[string]record.Login, len(all))
	for _, l := range all {
		out[l.OSUser] = l
	}
	return out, nil
}

// JoinSweeps has the sweeps that wait for a login wait for others of its machine, too.
// Raw, since GORM inserts nothing from a question.
func (s *Store) JoinSweeps(ctx context.Context, login uuid.UUID, others []uuid.UUID) error {
	if len(others) == 0 {
		return nil
	}
	ids := make([][16]byte, len(others))
	for n, id := range others {
		ids[n] = id
	}
	_, err := s.db.Statement.ConnPool.ExecContext(ctx, `INSERT INTO sweep_items (sweep_id, login_id, state, outcome, tries)
		SELECT s.sweep_id, o.id, 'waiting', '', s.tries FROM sweep_items s, unnest($2::uuid[]) AS o (id)
			WHERE s.login_id = $1 AND s.state = 'waiting'
		ON CONFLICT DO NOTHING`, [16]byte(login), ids)
	return plain(err)
}

// ForgetLogin deletes a login that nobody asked for, with what was read of it.
func (s *Store) ForgetLogin(ctx context.Context, login uuid.UUID) error {
	db := s.db.WithContext(ctx)
	for _, table := range []string{"sightings", "strangers", "file_versions", "sweep_items"} {
		if err := db.Table(table).Where("login_id = ?", login).Delete(nil).Error; err != nil {
			return plain(err)
		}
	}
	return plain(db.Where("id = ?", login).Delete(&record.Login{}).Error)
}

// ForgetAccount deletes the login of a steward key's own account that was never made: nobody has read it, and no other
// key was ever granted it.
func (s *Store) ForgetAccount(ctx context.Context, login uuid.UUID) error {
	db := s.db.WithContext(ctx)
	stewards := db.Table("keys").Select("id").Where("steward_of IS NOT NULL")
	var others int64
	foreign := db.Table("grants").Where("login_id = ? AND key_id NOT IN (?)", login, stewards)
	if err := foreign.Count(&others).Error; err != nil {
		return plain(err)
	}
	var l record.Login
	if err := db.Where("id = ?", login).Take(&l).Error; err != nil {
		return plain(err)
	}
	if others > 0 || l.FoundAt == nil || l.SweptAt != nil {
		return nil
	}
	if err := db.Table("grants").Where("login_id = ?", login).Delete(nil).Error; err != nil {
		return plain(err)
	}
	return s.ForgetLogin(ctx, login)
}

// AskForLogin records a login that somebody has asked for. added is false where it is there, and was asked
// for before.
func (s *Store) AskForLogin(ctx context.Context, instance uuid.UUID, user string) (added bool, err error) {
	r := s.db.WithContext(ctx).
		Clauses(clause.OnConflict{DoNothing: true}).
		Create(&record.Login{ID: NewID(), InstanceID: instance, OSUser: user})
	if r.Error != nil || r.RowsAffected > 0 {
		return r.Error == nil, plain(r.Error)
	}
	asked := s.db.WithContext(ctx).
		Model(&record.Login{}).
		Where("instance_id = ? AND os_user = ? AND found_at IS NOT NULL", instance, user).
		Update("found_at", nil)
	return asked.RowsAffected > 0, plain(asked.Error)
}

// HasHistory reports whether a login was granted, proved or worked on.
// Raw, since it asks four tables at once.
func (s *Store) HasHistory(ctx context.Context, login uuid.UUID) (has bool, err error) {
	err = s.db.WithContext(ctx).Raw(
		`SELECT EXISTS (SELECT 1 FROM grants WHERE login_id = @id) OR EXISTS (SELECT 1 FROM proofs WHERE login_id = @id)
			OR EXISTS (SELECT 1 FROM rotation_items WHERE login_id = @id)
			OR EXISTS (SELECT 1 FROM shut_logins WHERE login_id = @id)`, map[string]any{"id": login},
	).Scan(&has).Error
	return has, plain(err)
}
