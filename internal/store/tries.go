package store

import (
	"context"
	"slices"
	"time"

	"plumlatch/internal/record"
)

// triesForgotten is for how long a try counts.
const triesForgotten = time.Hour

// ReserveTries counts one try at each subject before it is looked at, so that tries that come at
// once do not all pass. wait is for how long none may be made; then nothing is counted.
// It holds for all processes, since the counts are in the database.
// Raw, since GORM gives back no column of a row that is there already.
func (s *Store) ReserveTries(ctx context.Context, now time.Time, tries ...record.Try) (wait time.Duration, err error) {
	tries = slices.Clone(tries)
	slices.SortFunc(tries, func(a, b record.Try) int { // so that no two wait for each other
		if a.Subject < b.Subject {
			return -1
		}
		return 1
	})
	err = s.InTx(ctx, func(tx *Store) error {
		db := tx.db.WithContext(ctx)
		for _, t := range tries {
			var until *time.Time
			err := db.Raw(`INSERT INTO tries (subject, failures, last_at, until) VALUES (?, 0, ?, NULL)
				ON CONFLICT (subject) DO UPDATE SET subject = tries.subject RETURNING until`, t.Subject, now).Row().Scan(&until)
			if err != nil {
				return err
			}
			if until != nil && until.After(now) {
				wait = max(wait, until.Sub(now))
			}
		}
		if wait > 0 {
			return nil
		}
		for _, t := range tries {
			err := db.Exec(
				`UPDATE tries SET last_at = ?::timestamptz, failures = n.failures, until = CASE WHEN n.failures < ? THEN NULL
				ELSE ?::timestamptz + least(? * interval '1 second', interval '1 second' * power(2, least(n.failures - ?, 20))) END
				FROM (SELECT CASE WHEN last_at < ?::timestamptz THEN 1 ELSE failures + 1 END AS failures FROM tries
					WHERE subject = ?) n WHERE subject = ?`,
				now,
				t.Free,
				now,
				t.Longest.Seconds(),
				t.Free,
				now.Add(-triesForgotten),
				t.Subject,
				t.Subject,
			).Error
			if err != nil {
				return err
			}
		}
		return db.Exec("DELETE FROM tries WHERE last_at < ?", now.Add(-triesForgotten)).Error
	})
	return wait, plain(err)
}

// ReturnTries gives back what was reserved for a try that succeeded: one try less is counted at
// each subject, or none now.
// Raw, since GORM has no CASE.
func (s *Store) ReturnTries(ctx context.Context, tries ...record.Try) error {
	for _, t := range tries {
		db := s.db.WithContext(ctx)
		var err error
		if t.Forgiven {
			err = db.Exec("DELETE FROM tries WHERE subject = ?", t.Subject).Error
		} else {
			err = db.Exec(
				"UPDATE tries SET failures = failures - 1, until = CASE WHEN failures - 1 < ? THEN NULL ELSE until END WHERE "+
					"subject = ? AND failures > 0",
				t.Free,
				t.Subject,
			).Error
		}
		if err != nil {
			return plain(err)
		}
	}
	return nil
}
