package store

import (
	"context"
	"strconv"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/machines"
	"plumlatch/internal/record"
)

// withGrants counts the grants that charters own.
const withGrants = `charters.*, (SELECT count(*) FROM grants g
	WHERE g.charter_id = charters.id AND g.withdrawn_at IS NULL) AS grants`

// Charters returns all that were not released, by name.
func (s *Store) Charters(ctx context.Context) (out []record.Charter, err error) {
	err = s.db.WithContext(ctx).Select(withGrants).Where("released_at IS NULL").Order("name").Find(&out).Error
	return out, plain(err)
}

// CharterNamed returns one that was not released.
func (s *Store) CharterNamed(ctx context.Context, name string) (c record.Charter, err error) {
	err = s.db.WithContext(ctx).Select(withGrants).Where("released_at IS NULL AND name = ?", name).First(&c).Error
	return c, plain(err)
}

// LockCharter returns one that was not released, locked until the transaction ends.
func (s *Store) LockCharter(ctx context.Context, name string) (c record.Charter, err error) {
	err = s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).
		Where("released_at IS NULL AND name = ?", name).
		First(&c).
		Error
	return c, plain(err)
}

// AddCharter adds one. It fails with a *TakenError where there is one of its name.
func (s *Store) AddCharter(ctx context.Context, c record.Charter) error {
	return plain(s.db.WithContext(ctx).Create(&c).Error)
}

// SetCharterVersion says which version of a charter counts.
func (s *Store) SetCharterVersion(ctx context.Context, id uuid.UUID, version int, note string) error {
	return plain(s.db.WithContext(ctx).Model(&record.Charter{}).Where("id = ?", id).
		Updates(map[string]any{"version": version, "note": note, "compared_at": nil}).Error)
}

// NoteCompared keeps what was found when a charter was compared by itself.
func (s *Store) NoteCompared(ctx context.Context, id uuid.UUID, at time.Time, differs int, problem string) error {
	return plain(s.db.WithContext(ctx).Model(&record.Charter{}).Where("id = ?", id).
		Updates(map[string]any{"compared_at": at, "differs": differs, "problem": problem}).Error)
}

// ForgetCompared has a charter be compared again soon.
func (s *Store) ForgetCompared(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&record.Charter{}).Where("id = ?", id).Update("compared_at", nil).Error)
}

// ReleaseCharter ends a charter. What it owned stays as it is, and is nobody's.
func (s *Store) ReleaseCharter(ctx context.Context, id uuid.UUID, at time.Time) error {
	db := s.db.WithContext(ctx)
	err := db.Model(&record.Grant{}).Where("charter_id = ?", id).
		Updates(map[string]any{"charter_id": nil, "charter_at": ""}).
		Error
	if err != nil {
		return plain(err)
	}
	return plain(db.Model(&record.Charter{}).Where("id = ?", id).Update("released_at", at).Error)
}

// AddCharterVersion adds the next version of a charter.
func (s *Store) AddCharterVersion(ctx context.Context, v record.CharterVersion) error {
	return plain(s.db.WithContext(ctx).Create(&v).Error)
}

// CharterVersions returns the versions of a charter without their files, the last first.
func (s *Store) CharterVersions(ctx context.Context, charter uuid.UUID) (out []record.CharterVersion, err error) {
	err = s.db.WithContext(ctx).Omit("files").Where("charter_id = ?", charter).Order("number DESC").Find(&out).Error
	return out, plain(err)
}

// CharterVersion returns one version of a charter with its files.
func (s *Store) CharterVersion(
	ctx context.Context,
	charter uuid.UUID,
	number int,
) (v record.CharterVersion, err error) {
	err = s.db.WithContext(ctx).Where("charter_id = ? AND number = ?", charter, number).First(&v).Error
	return v, plain(err)
}

// CharterGrants returns all grants in force. Raw, for the names of charters in one question.
func (s *Store) CharterGrants(ctx context.Context) ([]record.CharterGrant, error) {
	rows, err := s.pools.plainOf(ctx).
		Query(ctx, `SELECT g.key_id, g.login_id, g.until, coalesce(c.name, ''), g.reason, g.limits
		FROM grants g LEFT JOIN charters c ON c.id = g.charter_id WHERE g.withdrawn_at IS NULL`)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	var out []record.CharterGrant
	for rows.Next() {
		var g record.CharterGrant
		if err := rows.Scan(
			(*[16]byte)(&g.KeyID), (*[16]byte)(&g.LoginID), &g.Until, &g.Charter, &g.Reason, &g.Limits,
		); err != nil {
			return nil, plain(err)
		}
		out = append(out, g)
	}
	return out, plain(rows.Err())
}

// LinesNotAsGranted returns the sightings of lines whose options are not the limits of their grants.
func (s *Store) LinesNotAsGranted(ctx context.Context) (out []record.Sighting, err error) {
	err = s.db.WithContext(ctx).Table("sightings s").
		Select("s.key_id, s.login_id, s.options").
		Joins("LEFT JOIN grants g ON g.key_id = s.key_id AND g.login_id = s.login_id AND g.withdrawn_at IS NULL").
		Where("s.present AND s.options IS NOT NULL AND s.options <> coalesce(g.limits, '')").
		Scan(&out).
		Error
	return out, plain(err)
}

// CharterKeys returns what charters describe of all keys.
func (s *Store) CharterKeys(ctx context.Context) (out map[uuid.UUID]record.CharterKey, err error) {
	var list []record.CharterKey
	err = s.db.WithContext(ctx).
		Table("keys").
		Select("id, purpose, labels, algorithm, type, bits, blob, comment").
		Find(&list).
		Error
	out = make(map[uuid.UUID]record.CharterKey, len(list))
	for _, k := range list {
		out[k.ID] = k
	}
	return out, plain(err)
}

// InstanceLabels returns the names and the labels of all instances that are there.
func (s *Store) InstanceLabels(ctx context.Context) (out []record.Instance, err error) {
	err = s.db.WithContext(ctx).Model(&record.Instance{}).Select("id, name, labels").
		Where("gone_at IS NULL AND state <> ?", machines.Deleted).
		Find(&out).
		Error
	return out, plain(err)
}

// OwnGrant has a charter own a grant in force; nil for none.
func (s *Store) OwnGrant(ctx context.Context, login, key uuid.UUID, charter *uuid.UUID, at string) error {
	return plain(s.db.WithContext(ctx).Model(&record.Grant{}).
		Where("login_id = ? AND key_id = ? AND withdrawn_at IS NULL", login, key).
		Updates(map[string]any{"charter_id": charter, "charter_at": at}).Error)
}

// OwnGrantsOf has a charter own the grants of keys on the logins of an instance that has just come to be.
func (s *Store) OwnGrantsOf(ctx context.Context, instance string, keys []string, charter uuid.UUID, at string) error {
	return plain(s.db.WithContext(ctx).Model(&record.Grant{}).
		Where(`withdrawn_at IS NULL AND key_id IN (SELECT id FROM keys WHERE name IN ?) AND login_id IN (
			SELECT l.id FROM logins l JOIN instances i ON i.id = l.instance_id WHERE i.name = ? AND i.gone_at IS NULL)`,
			keys, instance).
		Updates(map[string]any{"charter_id": charter, "charter_at": at}).Error)
}

// AddSettlement adds a settlement with its items. It fails with a *TakenError where the charter is being settled.
func (s *Store) AddSettlement(ctx context.Context, t record.Settlement, items []record.SettlementItem) error {
	db := s.db.WithContext(ctx)
	if err := db.Omit("Charter").Create(&t).Error; err != nil || len(items) == 0 {
		return plain(err)
	}
	return plain(db.CreateInBatches(items, 1000).Error)
}

func settlements(db *gorm.DB) *gorm.DB {
	return db.Select("settlements.*, c.name AS charter").Joins("JOIN charters c ON c.id = settlements.charter_id")
}

// LiveSettlements returns the ids of those that are not over, the oldest first.
func (s *Store) LiveSettlements(ctx context.Context) (ids []uuid.UUID, err error) {
	err = s.db.WithContext(ctx).
		Model(&record.Settlement{}).
		Where("ended_at IS NULL").
		Order("created_at").
		Pluck("id", &ids).
		Error
	return ids, plain(err)
}

// Settlement returns one with its counts.
func (s *Store) Settlement(ctx context.Context, id uuid.UUID) (t record.Settlement, err error) {
	if err = settlements(s.db.WithContext(ctx)).Where("settlements.id = ?", id).First(&t).Error; err != nil {
		return t, plain(err)
	}
	list := []record.Settlement{t}
	err = s.countItems(ctx, list)
	return list[0], err
}

// LockSettlement returns one, locked until the transaction ends.
func (s *Store) LockSettlement(ctx context.Context, id uuid.UUID) (t record.Settlement, err error) {
	err = s.db.WithContext(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Where("id = ?", id).First(&t).Error
	return t, plain(err)
}

// SettlementsOf returns one page of the settlements of a charter, the last first; of all where its name is "".
func (s *Store) SettlementsOf(
	ctx context.Context, charter string, p record.Page,
) (record.List[record.Settlement], error) {
	q := settlements(s.db.WithContext(ctx).Model(&record.Settlement{}))
	if charter != "" {
		q = q.Where("c.name = ? AND c.released_at IS NULL", charter)
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"settlements.created_at", "settlements.id"}, down: true}, p)
	if err != nil {
		return record.List[record.Settlement]{}, err
	}
	var list []record.Settlement
	if err := page.Find(&list).Error; err != nil {
		return record.List[record.Settlement]{}, plain(err)
	}
	out := cut(list, p, func(t record.Settlement) []string { return []string{stamp(t.CreatedAt), t.ID.String()} })
	if err := s.countItems(ctx, out.Items); err != nil {
		return out, err
	}
	return out, count(q, p, &out.Total)
}

// countItems counts the items of settlements by their states, in one question.
func (s *Store) countItems(ctx context.Context, list []record.Settlement) error {
	ids := make([]uuid.UUID, len(list))
	for n, t := range list {
		ids[n] = t.ID
	}
	var rows []struct {
		SettlementID uuid.UUID
		State        record.ItemState
		N            int
	}
	err := s.db.WithContext(ctx).Model(&record.SettlementItem{}).Select("settlement_id, state, count(*) AS n").
		Where("settlement_id IN ?", ids).
		Group("settlement_id, state").
		Scan(&rows).
		Error
	for n := range list {
		list[n].Counts = map[record.ItemState]int{}
		for _, r := range rows {
			if r.SettlementID == list[n].ID {
				list[n].Counts[r.State] = r.N
			}
		}
	}
	return plain(err)
}

// SettlementItems returns one page of the items of a settlement, in order.
func (s *Store) SettlementItems(
	ctx context.Context, settlement uuid.UUID, state record.ItemState, p record.Page,
) (record.List[record.SettlementItem], error) {
	q := s.db.WithContext(ctx).Model(&record.SettlementItem{}).Where("settlement_id = ?", settlement)
	if state != "" {
		q = q.Where("state = ?", state)
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"settlement_items.seq", "settlement_items.id"}}, p)
	if err != nil {
		return record.List[record.SettlementItem]{}, err
	}
	var list []record.SettlementItem
	if err := page.Find(&list).Error; err != nil {
		return record.List[record.SettlementItem]{}, plain(err)
	}
	out := cut(list, p, func(i record.SettlementItem) []string { return []string{strconv.Itoa(i.Seq), i.ID.String()} })
	return out, count(q, p, &out.Total)
}

// ItemsOf returns all items of a settlement that are not over, or all of them, in order.
func (s *Store) ItemsOf(ctx context.Context, settlement uuid.UUID, all bool) (out []record.SettlementItem, err error) {
	q := s.db.WithContext(ctx).Where("settlement_id = ?", settlement)
	if !all {
		q = q.Where("ended_at IS NULL")
	}
	err = q.Order("seq").Find(&out).Error
	return out, plain(err)
}

// SetItem keeps the state of an item.
func (s *Store) SetItem(ctx context.Context, i record.SettlementItem) error {
	return plain(s.db.WithContext(ctx).Model(&record.SettlementItem{}).Where("id = ?", i.ID).
		Select("Before", "State", "Detail", "RunID", "EndedAt").
		Updates(&i).Error)
}

// FailedSubjects returns the logins, keys and instances for which an item of a settlement has failed or was left out.
func (s *Store) FailedSubjects(ctx context.Context, settlement uuid.UUID) (out []string, err error) {
	err = s.db.WithContext(ctx).Model(&record.SettlementItem{}).
		Where("settlement_id = ? AND state IN ?", settlement, []record.ItemState{record.ItemFailed, record.ItemLeft}).
		Pluck("DISTINCT coalesce(nullif(change->>'login', ''), nullif(change->>'key', ''), change->>'instance')", &out).
		Error
	return out, plain(err)
}

// SetSettlement keeps the state of a settlement.
func (s *Store) SetSettlement(ctx context.Context, id uuid.UUID, state record.SettlementState, ended *time.Time) error {
	return plain(s.db.WithContext(ctx).Model(&record.Settlement{}).Where("id = ?", id).
		Updates(map[string]any{"state": state, "ended_at": ended}).Error)
}

// CountDiffering returns how many charters something differs from, as they were last compared, and how many changes
// that is.
func (s *Store) CountDiffering(ctx context.Context) (charters, changes int, err error) {
	var row struct{ Charters, Changes int }
	err = s.db.WithContext(ctx).Model(&record.Charter{}).
		Select("count(*) AS charters, coalesce(sum(differs), 0) AS changes").
		Where("released_at IS NULL AND version > 0 AND (differs > 0 OR problem <> '')").
		Scan(&row).
		Error
	return row.Charters, row.Changes, plain(err)
}

// LastReading returns when a login was last read; the zero time for never.
func (s *Store) LastReading(ctx context.Context) (time.Time, error) {
	var at *time.Time
	err := s.db.WithContext(ctx).Table("logins").Select("max(swept_at)").Row().Scan(&at)
	if err != nil || at == nil {
		return time.Time{}, plain(err)
	}
	return *at, nil
}
