package store

import (
	"context"
	"errors"
	"strconv"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// Note writes an entry into the daybook.
func (s *Store) Note(ctx context.Context, entries ...Entry) error {
	for i := range entries {
		if entries[i].Details == nil {
			entries[i].Details = map[string]any{}
		}
	}
	return plain(s.db.WithContext(ctx).CreateInBatches(entries, 500).Error)
}

// EntryFilter narrows a list of entries; empty fields do not.
type EntryFilter struct{ Person, Subject, Action string }

// Daybook returns one page of entries, newest first.
func (s *Store) Daybook(ctx context.Context, f EntryFilter, p Page) (List[Entry], error) {
	q := s.db.WithContext(ctx).Model(&Entry{})
	for column, value := range map[string]string{"person": f.Person, "subject": f.Subject, "action": f.Action} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"seq"}, down: true}, p)
	if err != nil {
		return List[Entry]{}, err
	}
	var items []Entry
	if err := page.Find(&items).Error; err != nil {
		return List[Entry]{}, plain(err)
	}
	l := cut(items, p, func(e Entry) []string { return []string{strconv.FormatInt(e.Seq, 10)} })
	return l, count(q, p, &l.Total)
}

// rememberFor is for how long a request can be sent again without effect.
const rememberFor = 48 * time.Hour

// Remember keeps what a request led to, and forgets those of two days ago. It returns what an earlier request with
// the same key led to, if there was one.
func (s *Store) Remember(ctx context.Context, i Idempotency) (earlier *Idempotency, err error) {
	db := s.db.WithContext(ctx)
	if err := db.Where("created_at < ?", i.CreatedAt.Add(-rememberFor)).Delete(&Idempotency{}).Error; err != nil {
		return nil, plain(err)
	}
	// A second request waits here for the first one's transaction to end.
	result := db.Exec(`INSERT INTO idempotency (operator_id, key, request, subject, created_at) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT DO NOTHING`, i.OperatorID, i.Key, i.Request, i.Subject, i.CreatedAt)
	if result.Error != nil || result.RowsAffected == 1 {
		return nil, plain(result.Error)
	}
	return s.remembered(ctx, i.OperatorID, i.Key)
}

func (s *Store) remembered(ctx context.Context, operator uuid.UUID, key string) (*Idempotency, error) {
	var i Idempotency
	err := plain(s.db.WithContext(ctx).Where("operator_id = ? AND key = ?", operator, key).Take(&i).Error)
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return &i, err
}
