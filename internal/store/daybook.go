package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"gorm.io/gorm"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
)

// notes are the entries of a transaction that are still to be written.
type notes struct{ waiting []record.Entry }

// Note writes entries into the daybook. In a transaction they are written at its
// end, so that the chain is held for as short as can be and nobody who holds
// it waits for another.
func (s *Store) Note(ctx context.Context, entries ...record.Entry) error {
	for n := range entries {
		e := &entries[n]
		for _, field := range []*string{&e.Person, &e.Subject, &e.Why, &e.Told, &e.Sentence, &e.Outcome} {
			*field = text.Plain(*field)
		}
		if details, ok := plainly(e.Details).(map[string]any); ok {
			e.Details = details
		}
	}
	if s.notes == nil {
		return s.InTx(ctx, func(tx *Store) error { return tx.Note(ctx, entries...) })
	}
	s.notes.waiting = append(s.notes.waiting, entries...)
	return nil
}

// plainly returns the details of an entry with all texts made fit to be shown.
func plainly(v any) any {
	switch v := v.(type) {
	case string:
		return text.Plain(v)
	case []string:
		out := make([]string, len(v))
		for n := range v {
			out[n] = text.Plain(v[n])
		}
		return out
	case []any:
		out := make([]any, len(v))
		for n := range v {
			out[n] = plainly(v[n])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k, x := range v {
			out[text.Plain(k)] = plainly(x)
		}
		return out
	}
	return v
}

// writeNotes puts the entries of a transaction behind the last one.
// Raw, since GORM has no advisory locks.
func (s *Store) writeNotes(ctx context.Context) error {
	entries := s.notes.waiting
	if len(entries) == 0 {
		return nil
	}
	db := s.db.WithContext(ctx)
	if err := db.Exec("SELECT pg_advisory_xact_lock(hashtextextended('daybook', 0))").Error; err != nil {
		return err
	}
	var last record.Entry
	if err := db.Table("public.daybook").Select("seq", "hash").Order("seq DESC").Take(&last).Error; err != nil &&
		!errors.Is(err, gorm.ErrRecordNotFound) {
		return err
	}
	if err := link(last, entries); err != nil {
		return err
	}
	return db.CreateInBatches(entries, 500).Error
}

// link gives the entries the places behind the last one.
func link(last record.Entry, entries []record.Entry) error {
	before, ok := daybook.AsHash(last.Hash)
	if !ok && last.Seq > 0 {
		return fmt.Errorf("entry %d of the daybook has no hash", last.Seq)
	}
	for i := range entries {
		e := &entries[i]
		if e.Details == nil {
			e.Details = map[string]any{}
		}
		if e.About == nil {
			e.About = []string{}
		}
		e.Seq, e.At = last.Seq+int64(i)+1, daybook.Stamp(e.At)
		hash, err := daybook.Link(before, e.Chained())
		if err != nil {
			return err
		}
		e.PrevHash, e.Hash = append([]byte(nil), before[:]...), append([]byte(nil), hash[:]...)
		before = hash
	}
	return nil
}

// chainEarlier numbers and hashes the entries from before there was a chain. Raw,
// since a migration has no GORM.
func chainEarlier(ctx context.Context, tx *sql.Tx) error {
	rows, err := tx.QueryContext(
		ctx,
		`SELECT seq, at, person, via, action, subject_kind, subject, about, why, outcome, sentence, details, request_id
			FROM daybook ORDER BY seq`,
	)
	if err != nil {
		return err
	}
	defer rows.Close()
	var entries []record.Entry
	var earlier []int64
	for rows.Next() {
		var e record.Entry
		var about, details []byte
		if err := rows.Scan(
			&e.Seq, &e.At, &e.Person, &e.Via, &e.Action, &e.SubjectKind, &e.Subject, &about, &e.Why, &e.Outcome,
			&e.Sentence, &details, &e.RequestID,
		); err != nil {
			return err
		}
		if err := errors.Join(json.Unmarshal(about, &e.About), json.Unmarshal(details, &e.Details)); err != nil {
			return fmt.Errorf("entry %d: %w", e.Seq, err)
		}
		earlier, entries = append(earlier, e.Seq), append(entries, e)
	}
	if err := errors.Join(rows.Err(), link(record.Entry{}, entries)); err != nil {
		return err
	}
	for i, e := range entries {
		if _, err := tx.ExecContext(
			ctx, "UPDATE daybook SET seq = $1, prev_hash = $2, hash = $3 WHERE seq = $4", e.Seq, e.PrevHash, e.Hash,
			earlier[i],
		); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) entries(ctx context.Context, f record.EntryFilter) (*gorm.DB, error) {
	q := s.db.WithContext(ctx).Model(&record.Entry{})
	for column, value := range map[string]string{"person": f.Person, "subject": f.Subject} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	if f.Action != "" { // key is all of key.make, key.import and so on
		q = q.Where("action = ? OR starts_with(action, ?)", f.Action, f.Action+".")
	}
	if len(f.About) > 0 {
		about, err := json.Marshal(f.About)
		if err != nil {
			return nil, err
		}
		q = q.Where("about @> ?::jsonb", string(about))
	}
	if !f.From.IsZero() {
		q = q.Where("at >= ?", f.From)
	}
	if !f.Until.IsZero() {
		q = q.Where("at < ?", f.Until)
	}
	return q.Session(&gorm.Session{}), nil
}

// Daybook returns one page of entries, newest first.
func (s *Store) Daybook(ctx context.Context, f record.EntryFilter, p record.Page) (record.List[record.Entry], error) {
	q, err := s.entries(ctx, f)
	if err != nil {
		return record.List[record.Entry]{}, err
	}
	page, err := seek(q, order{columns: []string{"seq"}, down: true}, p)
	if err != nil {
		return record.List[record.Entry]{}, err
	}
	var items []record.Entry
	if err := page.Find(&items).Error; err != nil {
		return record.List[record.Entry]{}, plain(err)
	}
	l := cut(items, p, func(e record.Entry) []string { return []string{strconv.FormatInt(e.Seq, 10)} })
	return l, count(q, p, &l.Total)
}

// EntriesAfter returns the next entries behind the one with the number, oldest first.
func (s *Store) EntriesAfter(ctx context.Context, f record.EntryFilter, seq int64, limit int) ([]record.Entry, error) {
	q, err := s.entries(ctx, f)
	if err != nil {
		return nil, err
	}
	var items []record.Entry
	err = q.Where("seq > ?", seq).Order("seq").Limit(limit).Find(&items).Error
	return items, plain(err)
}

// EntriesNumbered returns the entries with the numbers, by these.
func (s *Store) EntriesNumbered(ctx context.Context, seqs []int64) (map[int64]record.Entry, error) {
	var items []record.Entry
	if len(seqs) > 0 {
		if err := s.db.WithContext(ctx).Where("seq IN ?", seqs).Find(&items).Error; err != nil {
			return nil, plain(err)
		}
	}
	out := make(map[int64]record.Entry, len(items))
	for _, e := range items {
		out[e.Seq] = e
	}
	return out, nil
}

// LastEntry returns the number of the last entry, 0 for none.
func (s *Store) LastEntry(ctx context.Context) (seq int64, err error) {
	err = s.db.WithContext(ctx).Table("daybook").Select("coalesce(max(seq), 0)").Scan(&seq).Error
	return seq, plain(err)
}

// DaybookOpen reports whether the role of this connection could change the daybook.
// Raw, since it asks for rights.
func (s *Store) DaybookOpen(ctx context.Context) (open bool, err error) {
	err = s.db.WithContext(ctx).
		Raw("SELECT has_table_privilege('public.daybook', 'UPDATE') OR has_table_privilege('public.daybook', 'DELETE') OR " +
			"has_table_privilege('public.daybook', 'TRUNCATE')").
		Scan(&open).
		Error
	return open, plain(err)
}

// rememberFor is for how long a request can be sent again without effect.
const rememberFor = 48 * time.Hour
