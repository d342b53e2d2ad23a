package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// SetHolder gives a key another holder.
func (s *Store) SetHolder(ctx context.Context, key, holder uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&record.Key{}).Where("id = ?", key).Update("holder_id", holder).Error)
}

// KeysHeldBy returns the active keys of a holder, by name.
func (s *Store) KeysHeldBy(ctx context.Context, holders ...uuid.UUID) ([]record.Key, error) {
	var out []record.Key
	err := s.db.WithContext(ctx).Where("holder_id IN ? AND state = 'active'", holders).Order("name").Find(&out).Error
	return out, plain(err)
}

// TeamsOf returns the teams that an operator is in.
func (s *Store) TeamsOf(ctx context.Context, operator uuid.UUID) ([]record.Holder, error) {
	var out []record.Holder
	err := s.db.WithContext(ctx).
		Select("holders.*").
		Joins("JOIN team_members m ON m.team_id = holders.id AND m.operator_id = ?", operator).
		Order("holders.name").
		Find(&out).
		Error
	return out, plain(err)
}

// Holders returns all persons and teams by name.
func (s *Store) Holders(ctx context.Context) ([]record.Holder, error) {
	var holders []record.Holder
	err := withMembers(s.db.WithContext(ctx).Model(&record.Holder{})).Order("name").Find(&holders).Error
	return holders, plain(err)
}

// HolderNamed returns the holder of that name.
func (s *Store) HolderNamed(ctx context.Context, name string) (record.Holder, error) {
	var k record.Holder
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// HolderOf returns the holder that an operator is.
func (s *Store) HolderOf(ctx context.Context, operator uuid.UUID) (record.Holder, error) {
	var k record.Holder
	err := s.db.WithContext(ctx).Where("operator_id = ?", operator).Take(&k).Error
	return k, plain(err)
}

// AddHolder keeps a new person or team.
func (s *Store) AddHolder(ctx context.Context, k record.Holder) error {
	return plain(s.db.WithContext(ctx).Create(&k).Error)
}

// JoinTeam makes a person one of a team; false if they are already.
func (s *Store) JoinTeam(ctx context.Context, team, operator uuid.UUID) (bool, error) {
	r := s.db.WithContext(ctx).
		Table("team_members").
		Clauses(clause.OnConflict{DoNothing: true}).
		Create(map[string]any{"team_id": team, "operator_id": operator})
	return r.RowsAffected == 1, plain(r.Error)
}

// PartTeam takes a person out of a team; false if they are not in it.
func (s *Store) PartTeam(ctx context.Context, team, operator uuid.UUID) (bool, error) {
	r := s.db.WithContext(ctx).Table("team_members").Where("team_id = ? AND operator_id = ?", team, operator).Delete(nil)
	return r.RowsAffected == 1, plain(r.Error)
}

// DeleteHolder forgets a holder who holds no key.
func (s *Store) DeleteHolder(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.Holder{}).Error)
}

// KeysOfHolder counts the active keys that a holder holds.
func (s *Store) KeysOfHolder(ctx context.Context, id uuid.UUID) (n int64, err error) {
	err = s.db.WithContext(ctx).Model(&record.Key{}).Where("holder_id = ?", id).Count(&n).Error
	return n, plain(err)
}

// IsOf reports whether a holder is the operator, or a team that the operator is in.
// Raw, since GORM asks of one table whether there is something.
func (s *Store) IsOf(ctx context.Context, holder, operator uuid.UUID) (is bool, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM holders WHERE id = ? AND operator_id = ?)
		OR EXISTS (SELECT 1 FROM team_members WHERE team_id = ?
			AND operator_id = ?)`, holder, operator, holder, operator).Scan(&is).Error
	return is, plain(err)
}

func withMembers(q *gorm.DB) *gorm.DB {
	return q.Select(
		"holders.*, (SELECT string_agg(o.name, ', ' ORDER BY o.name) FROM team_members m JOIN operators o ON o.id = " +
			"m.operator_id WHERE m.team_id = holders.id) AS members",
	)
}
