package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/record"
)

// ErrOtherKey is returned where something is encrypted under a safe key that the processes
// do not seal under now.
var ErrOtherKey = errors.New("another safe key has taken the place of the one that this was encrypted under")

// SafeMarks returns the marks; where none was kept before, own is the one from now on.
func (s *Store) SafeMarks(ctx context.Context, own string) (record.SafeMarks, error) {
	var row struct {
		Mark, Wanted string
		Unreadable   json.RawMessage `gorm:"serializer:json"`
	}
	table := s.db.WithContext(ctx).Table("safe_state").Session(&gorm.Session{})
	r := table.Select("mark, wanted, unreadable").Scan(&row)
	if r.Error == nil && r.RowsAffected == 0 {
		first := map[string]any{"mark": own}
		if err := table.Clauses(clause.OnConflict{DoNothing: true}).Create(first).Error; err != nil {
			return record.SafeMarks{}, plain(err)
		}
		r = table.Select("mark, wanted, unreadable").Scan(&row)
	}
	if r.Error != nil {
		return record.SafeMarks{}, plain(r.Error)
	}
	out := record.SafeMarks{Mark: row.Mark, Wanted: row.Wanted}
	return out, json.Unmarshal(row.Unreadable, &out.Unreadable)
}

// underMark refuses what is encrypted under another safe key than the current one, and has whoever
// puts another in its place wait for the transaction.
func (s *Store) underMark(ctx context.Context, secret record.Secret) error {
	var now []string
	db := s.db.WithContext(ctx).Table("safe_state").Clauses(clause.Locking{Strength: "SHARE"})
	if err := db.Pluck("mark", &now).Error; err != nil {
		return plain(err)
	}
	if len(now) != 1 || now[0] != secret.Mark {
		return ErrOtherKey
	}
	return nil
}

// WantMark says which safe key is to take the place of the current one.
func (s *Store) WantMark(ctx context.Context, mark string) error {
	return plain(s.db.WithContext(ctx).Table("safe_state").Where("true").Update("wanted", mark).Error)
}

// UseMark has all processes seal under the wanted safe key. What is being encrypted is waited for.
func (s *Store) UseMark(ctx context.Context, mark string) error {
	return plain(s.db.WithContext(ctx).Table("safe_state").Where("wanted = ?", mark).Update("mark", mark).Error)
}

// MarkUsed ends the change of the safe key.
func (s *Store) MarkUsed(ctx context.Context, unreadable []string) error {
	if unreadable == nil {
		unreadable = []string{}
	}
	list, err := json.Marshal(unreadable)
	if err != nil {
		return err
	}
	return plain(
		s.db.WithContext(ctx).
			Table("safe_state").
			Where("true").
			Updates(map[string]any{"wanted": "", "unreadable": string(list)}).
			Error,
	)
}

// NoteProcess keeps which safe keys a process has, and forgets those that were not seen for long.
// Raw, since GORM writes no array of a list.
func (s *Store) NoteProcess(ctx context.Context, id uuid.UUID, host string, marks []string, now time.Time) error {
	list, err := json.Marshal(marks)
	if err != nil {
		return err
	}
	return plain(s.db.WithContext(ctx).Exec(`WITH old AS (DELETE FROM safe_processes WHERE seen_at < ?)
		INSERT INTO safe_processes (id, host, marks, seen_at)
			VALUES (?, ?, ARRAY(SELECT jsonb_array_elements_text(CAST(? AS jsonb))), ?)
		ON CONFLICT (id) DO UPDATE SET marks = excluded.marks,
			seen_at = excluded.seen_at`, now.Add(-time.Hour), id, host, string(list), now).Error)
}

// ForgetProcess forgets a process that ends.
func (s *Store) ForgetProcess(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Table("safe_processes").Where("id = ?", id).Delete(nil).Error)
}

// ProcessesWithout returns the hosts of the processes that were seen since then and do not have the
// safe key.
func (s *Store) ProcessesWithout(ctx context.Context, mark string, since time.Time) ([]string, error) {
	var out []string
	err := s.db.WithContext(ctx).
		Table("safe_processes").
		Where("seen_at >= ? AND NOT ? = ANY (marks)", since, mark).
		Order("host").
		Pluck("host", &out).
		Error
	return out, plain(err)
}

// encryptedTables say where encrypted things are: the column that names the row, the column that
// is encrypted, the words before the name that it is bound to, and what it is called.
var encryptedTables = []struct{ table, id, column, bound, name, called string }{
	{
		"kept_keys",
		"key_id",
		"encrypted",
		"",
		"(SELECT k.name FROM public.keys k WHERE k.id = key_id)",
		"the private key of ",
	},
	{"operators", "id", "factor_encrypted", "second factor of ", "name", "the second factor of "},
	{"subscribers", "id", "encrypted", "receiver ", "name", "the secret of the subscriber "},
	{"clouds", "id", "encrypted", "cloud ", "name", "the token for the adapter of the cloud "},
	{"visits", "id", "recording_key", "visit ", "person", "the recording of a visit of "},
	{"service_keys", "name", "encrypted", "service key ", "name", "the service's own key "},
}

// EncryptedThings returns up to limit encrypted things behind the one given, nil for the
// first ones.
func (s *Store) EncryptedThings(ctx context.Context, after *record.Encrypted, limit int) ([]record.Encrypted, error) {
	past := after == nil
	for _, t := range encryptedTables {
		q := s.db.WithContext(ctx).
			Table("public." + t.table).
			Select(t.id + "::text AS id, " + t.column + " AS encrypted, " + t.name + " AS name").
			Where(t.column + " IS NOT NULL").
			Order(t.id + "::text").
			Limit(limit)
		switch {
		case !past && after.Table != t.table:
			continue
		case !past:
			past = true
			q = q.Where(t.id+"::text > ?", after.ID)
		}
		var out []record.Encrypted
		if err := q.Scan(&out).Error; err != nil || len(out) > 0 {
			for i := range out {
				out[i].Table, out[i].Record, out[i].Called = t.table, t.bound+out[i].ID, t.called+out[i].Name
			}
			return out, plain(err)
		}
	}
	return nil, nil
}

// Reseal replaces what is encrypted, if it is still as it was.
func (s *Store) Reseal(ctx context.Context, old record.Encrypted, secret record.Secret) error {
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.underMark(ctx, secret); err != nil {
			return err
		}
		for _, t := range encryptedTables {
			if t.table == old.Table {
				return plain(
					tx.db.WithContext(ctx).
						Table("public."+t.table).
						Where(t.id+"::text = ? AND "+t.column+" = ?", old.ID, old.Encrypted).
						Update(t.column, secret.Encrypted).
						Error,
				)
			}
		}
		return gorm.ErrRecordNotFound
	})
}
