package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// AddChallenge keeps a new challenge, forgets the old ones, and returns how many
// of the person's are open.
func (s *Store) AddChallenge(ctx context.Context, c Challenge, now time.Time) (live int, err error) {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", now.Add(-time.Hour)).Delete(&Challenge{}).Error; err != nil {
		return 0, plain(err)
	}
	if err := db.Create(&c).Error; err != nil {
		return 0, plain(err)
	}
	var n int64
	err = db.Model(&Challenge{}).
		Where("operator_id = ? AND used_at IS NULL AND expires_at >= ?", c.OperatorID, now).
		Count(&n).
		Error
	return int(n), plain(err)
}

// TakeChallenge returns a challenge that was not taken before and marks it as
// taken; ErrNotFound where there is none.
func (s *Store) TakeChallenge(ctx context.Context, id uuid.UUID, at time.Time) (Challenge, error) {
	var c Challenge
	taken := s.db.WithContext(ctx).
		Raw("UPDATE challenges SET used_at = ? WHERE id = ? AND used_at IS NULL RETURNING *", at, id).
		Scan(&c)
	if taken.Error == nil && taken.RowsAffected == 0 {
		return c, ErrNotFound
	}
	return c, plain(taken.Error)
}

// AddProof keeps a proof, and notes it at the key or at the key's sighting.
func (s *Store) AddProof(ctx context.Context, p Proof) error {
	db := s.db.WithContext(ctx)
	if p.Kind == "entry" {
		var entry *string
		if len(p.Entry) > 0 {
			entry = new(string(p.Entry))
		}
		return plain(
			db.Exec(
				`WITH proof AS (INSERT INTO proofs (id, kind, key_id, login_id, at, person, host_key, entry, signature)
					VALUES (@id, @kind, @key, @login, @at, @person, @host, CAST(@entry AS jsonb), @signature))
			INSERT INTO sightings (login_id, key_id, seen_at, method, present, entered_at)
			SELECT l.id, @key, @at, @method, true, @at FROM (SELECT id FROM logins
				WHERE id = @login FOR KEY SHARE) l -- before the sighting, as a look does
			ON CONFLICT (login_id, key_id) DO UPDATE SET entered_at = greatest(sightings.entered_at, excluded.entered_at)`,
				map[string]any{
					"id":        p.ID,
					"kind":      p.Kind,
					"key":       p.KeyID,
					"login":     p.LoginID,
					"at":        p.At,
					"person":    p.Person,
					"host":      p.HostKey,
					"entry":     entry,
					"signature": p.Signature,
					"method":    "logged in by " + p.Person,
				},
			).Error,
		)
	}
	if err := db.Omit("Entry", "Signature").Create(&p).Error; err != nil {
		return plain(err)
	}
	return plain(db.Model(&Key{}).Where("id = ? AND (proved_at IS NULL OR proved_at <= ?)", p.KeyID, p.At).
		Updates(map[string]any{"proved_at": p.At, "proved_by": p.Person}).Error)
}

// LastSignedEntry returns the last report of a login with the key that is signed with it.
func (s *Store) LastSignedEntry(ctx context.Context, login, key uuid.UUID) (Proof, error) {
	var p Proof
	err := s.db.WithContext(ctx).
		Where("login_id = ? AND key_id = ? AND signature <> ''", login, key).
		Order("at DESC").
		Take(&p).
		Error
	return p, plain(err)
}

// SignedSince returns of which of the logins and keys a signed report of a login is there since.
func (s *Store) SignedSince(ctx context.Context, logins []uuid.UUID, since time.Time) (map[[2]uuid.UUID]bool, error) {
	var rows []struct{ LoginID, KeyID uuid.UUID }
	err := s.db.WithContext(ctx).
		Raw(
			"SELECT DISTINCT login_id, key_id FROM proofs WHERE login_id IN ? AND signature <> '' AND at >= ?",
			logins,
			since,
		).
		Scan(&rows).
		Error
	of := map[[2]uuid.UUID]bool{}
	for _, r := range rows {
		of[[2]uuid.UUID{r.LoginID, r.KeyID}] = true
	}
	return of, plain(err)
}

// SetKeyState marks a key as active, retired or lost.
func (s *Store) SetKeyState(ctx context.Context, key uuid.UUID, state string) error {
	return plain(s.db.WithContext(ctx).Model(&Key{}).Where("id = ?", key).Update("state", state).Error)
}
