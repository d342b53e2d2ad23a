package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// SetKeeper gives a key another keeper.
func (s *Store) SetKeeper(ctx context.Context, key, keeper uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&record.Key{}).Where("id = ?", key).Update("keeper_id", keeper).Error)
}

// KeysHeldBy returns the active keys of a keeper, by name.
func (s *Store) KeysHeldBy(ctx context.Context, keepers ...uuid.UUID) ([]record.Key, error) {
	var out []record.Key
	err := s.db.WithContext(ctx).Where("keeper_id IN ? AND state = 'active'", keepers).Order("name").Find(&out).Error
	return out, plain(err)
}

// TeamsOf returns the teams that an operator is in.
func (s *Store) TeamsOf(ctx context.Context, operator uuid.UUID) ([]record.Keeper, error) {
	var out []record.Keeper
	err := s.db.WithContext(ctx).
		Select("keepers.*").
		Joins("JOIN team_members m ON m.team_id = keepers.id AND m.operator_id = ?", operator).
		Order("keepers.name").
		Find(&out).
		Error
	return out, plain(err)
}

// Keepers returns all persons and teams by name.
func (s *Store) Keepers(ctx context.Context) ([]record.Keeper, error) {
	var keepers []record.Keeper
	err := withMembers(s.db.WithContext(ctx).Model(&record.Keeper{})).Order("name").Find(&keepers).Error
	return keepers, plain(err)
}

// KeeperNamed returns the keeper of that name.
func (s *Store) KeeperNamed(ctx context.Context, name string) (record.Keeper, error) {
	var k record.Keeper
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(&k).Error
	return k, plain(err)
}

// KeeperOf returns the keeper that an operator is.
func (s *Store) KeeperOf(ctx context.Context, operator uuid.UUID) (record.Keeper, error) {
	var k record.Keeper
	err := s.db.WithContext(ctx).Where("operator_id = ?", operator).Take(&k).Error
	return k, plain(err)
}

// AddKeeper keeps a new person or team.
func (s *Store) AddKeeper(ctx context.Context, k record.Keeper) error {
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

// DeleteKeeper forgets a keeper who holds no key.
func (s *Store) DeleteKeeper(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Where("id = ?", id).Delete(&record.Keeper{}).Error)
}

// KeysOfKeeper counts the active keys that a keeper holds.
func (s *Store) KeysOfKeeper(ctx context.Context, id uuid.UUID) (n int64, err error) {
	err = s.db.WithContext(ctx).Model(&record.Key{}).Where("keeper_id = ?", id).Count(&n).Error
	return n, plain(err)
}

// IsOf reports whether a keeper is the operator, or a team that the operator is in.
// Raw, since GORM asks of one table whether there is something.
func (s *Store) IsOf(ctx context.Context, keeper, operator uuid.UUID) (is bool, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT EXISTS (SELECT 1 FROM keepers WHERE id = ? AND operator_id = ?)
		OR EXISTS (SELECT 1 FROM team_members WHERE team_id = ?
			AND operator_id = ?)`, keeper, operator, keeper, operator).Scan(&is).Error
	return is, plain(err)
}

func withMembers(q *gorm.DB) *gorm.DB {
	return q.Select(
		"keepers.*, (SELECT string_agg(o.name, ', ' ORDER BY o.name) FROM team_members m JOIN operators o ON o.id = " +
			"m.operator_id WHERE m.team_id = keepers.id) AS members",
	)
}
