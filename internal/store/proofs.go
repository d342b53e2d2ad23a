package store

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// AddChallenge keeps a new challenge, forgets the old ones, and returns how many
// of the person's are open.
func (s *Store) AddChallenge(ctx context.Context, c record.Challenge, now time.Time) (live int, err error) {
	db := s.db.WithContext(ctx)
	if err := db.Where("expires_at < ?", now.Add(-time.Hour)).Delete(&record.Challenge{}).Error; err != nil {
		return 0, plain(err)
	}
	if err := db.Create(&c).Error; err != nil {
		return 0, plain(err)
	}
	var n int64
	err = db.Model(&record.Challenge{}).
		Where("operator_id = ? AND used_at IS NULL AND expires_at >= ?", c.OperatorID, now).
		Count(&n).
		Error
	return int(n), plain(err)
}

// TakeChallenge returns a challenge that was not taken before and marks it as
// taken; ErrNotFound where there is none.
// Raw, since GORM gives back no row that it changes without a model of it.
func (s *Store) TakeChallenge(ctx context.Context, id uuid.UUID, at time.Time) (record.Challenge, error) {
	var c record.Challenge
	taken := s.db.WithContext(ctx).
		Raw("UPDATE challenges SET used_at = ? WHERE id = ? AND used_at IS NULL RETURNING *", at, id).
		Scan(&c)
	if taken.Error == nil && taken.RowsAffected == 0 {
		return c, ErrNotFound
	}
	return c, plain(taken.Error)
}

// AddProof keeps a proof, and notes it at the key or at the key's sighting.
// Raw, since both rows come by one statement.
func (s *Store) AddProof(ctx context.Context, p record.Proof) error {
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
			INSERT INTO sightings (login_id, key_id, seen_at, method, present, entered_at, entered_by)
			SELECT l.id, @key, @at, @method, true, @at, @person FROM (SELECT id FROM logins
				WHERE id = @login FOR KEY SHARE) l -- before the sighting, as a look does
			ON CONFLICT (login_id, key_id) DO UPDATE SET entered_at = excluded.entered_at, entered_by = excluded.entered_by
				WHERE sightings.entered_at IS NULL OR sightings.entered_at <= excluded.entered_at`,
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
	return plain(db.Model(&record.Key{}).Where("id = ? AND (proved_at IS NULL OR proved_at <= ?)", p.KeyID, p.At).
		Updates(map[string]any{"proved_at": p.At, "proved_by": p.Person}).Error)
}

// LastSignedEntry returns the last report of a login with the key that is signed with it.
func (s *Store) LastSignedEntry(ctx context.Context, login, key uuid.UUID) (record.Proof, error) {
	var p record.Proof
	err := s.db.WithContext(ctx).
		Where("login_id = ? AND key_id = ? AND signature <> ''", login, key).
		Order("at DESC").
		Take(&p).
		Error
	return p, plain(err)
}

// SignedEntries returns at most limit reports of logins, signed with their keys, since a time; the last first, one
// for each key.
func (s *Store) SignedEntries(
	ctx context.Context,
	login uuid.UUID,
	since time.Time,
	limit int,
) ([]record.Proof, error) {
	var out []record.Proof
	db := s.db.WithContext(ctx)
	last := db.Table("proofs").Select("DISTINCT ON (key_id) *").
		Where("login_id = ? AND signature <> '' AND at >= ?", login, since).Order("key_id, at DESC")
	err := db.Table("(?) AS p", last).Order("at DESC").Limit(limit).Find(&out).Error
	return out, plain(err)
}

// SignedSince returns of which of the logins and keys a signed report of a login is there since.
func (s *Store) SignedSince(ctx context.Context, logins []uuid.UUID, since time.Time) (map[[2]uuid.UUID]bool, error) {
	var rows []struct{ LoginID, KeyID uuid.UUID }
	err := s.db.WithContext(ctx).
		Table("proofs").
		Distinct("login_id", "key_id").
		Where("login_id IN ? AND signature <> '' AND at >= ?", logins, since).
		Scan(&rows).
		Error
	of := map[[2]uuid.UUID]bool{}
	for _, r := range rows {
		of[[2]uuid.UUID{r.LoginID, r.KeyID}] = true
	}
	return of, plain(err)
}

// ProofsDue returns one page of the active keys that open logins or should, and
// that their holder, who has not left, or one of the team, last proved before the time; by holder.
// holder "" means all.
func (s *Store) ProofsDue(
	ctx context.Context, holder string, before time.Time, p record.Page,
) (record.List[record.ProofDue], error) {
	q := s.db.WithContext(ctx).Table("keys k").
		Joins("JOIN holders o ON o.id = k.holder_id AND o.left_at IS NULL").
		Joins("JOIN LATERAL (SELECT count(*) AS logins FROM grants g JOIN logins l ON l.id = g.login_id JOIN instances i "+
			"ON i.id = l.instance_id AND i.gone_at IS NULL WHERE g.key_id = k.id AND g.withdrawn_at IS NULL) g ON g.logins > 0").
		Joins("JOIN LATERAL (SELECT CASE WHEN EXISTS (SELECT 1 FROM operators p WHERE p.name = k.proved_by AND "+
			"(p.id = o.operator_id OR EXISTS (SELECT 1 FROM team_members m WHERE m.team_id = o.id AND m.operator_id = p.id))) "+
			"THEN k.proved_at END AS at) proved ON true").
		Where("k.state = 'active' AND k.steward_of IS NULL AND (proved.at IS NULL OR proved.at < ?)", before)
	if holder != "" {
		q = q.Where("o.name = ?", holder)
	}
	page, err := seek(q, order{columns: []string{"o.name", "k.name"}}, p)
	if err != nil {
		return record.List[record.ProofDue]{}, err
	}
	var items []record.ProofDue
	err = page.Select("k.name AS key_name, k.type AS key_type, k.bits AS key_bits, k.sha256 AS key_sha256, o.name AS " +
		"holder_name, o.title AS holder_title, proved.at AS proved_at, g.logins").
		Scan(&items).
		Error
	if err != nil {
		return record.List[record.ProofDue]{}, plain(err)
	}
	return cut(items, p, func(d record.ProofDue) []string { return []string{d.HolderName, d.KeyName} }), nil
}

// LastEntered returns when the key last opened the login; nil where it is not known to.
func (s *Store) LastEntered(ctx context.Context, login, key uuid.UUID) (*time.Time, error) {
	var at []struct{ EnteredAt *time.Time }
	err := s.db.WithContext(ctx).
		Table("sightings").
		Select("entered_at").
		Where("login_id = ? AND key_id = ?", login, key).
		Scan(&at).
		Error
	if err != nil || len(at) == 0 {
		return nil, plain(err)
	}
	return at[0].EnteredAt, nil
}
