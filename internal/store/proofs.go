package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// Proof is dated evidence that a person holds a key's private half.
type Proof struct {
	ID      uuid.UUID
	Kind    string // possession or entry
	KeyID   uuid.UUID
	LoginID *uuid.UUID
	At      time.Time
	Person  string
	HostKey string
	// Entry is what was signed with the key, in JSON, and Signature that signature; "" where
	// the service saw the login itself.
	Entry     json.RawMessage `gorm:"type:jsonb;serializer:json"`
	Signature string
}

// Challenge is a text that is to be signed with a key's private half.
type Challenge struct {
	ID         uuid.UUID
	KeyID      uuid.UUID
	OperatorID uuid.UUID
	Text       string
	ExpiresAt  time.Time
	UsedAt     *time.Time
	// Entry is what is signed where that is the report of a login, in JSON.
	Entry json.RawMessage `gorm:"type:jsonb;serializer:json"`
}

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

// ProofDue is a key that its keeper is to prove.
type ProofDue struct {
	KeyName     string
	KeyType     string
	KeyBits     int
	KeySHA256   []byte `gorm:"column:key_sha256"`
	KeeperName  string
	KeeperTitle string
	ProvedAt    *time.Time
	Logins      int
}

// ProofsDue returns one page of the active keys that open logins or should, and
// that their keeper, who has not left, last proved before the time; by keeper.
// keeper "" means all.
func (s *Store) ProofsDue(ctx context.Context, keeper string, before time.Time, p Page) (List[ProofDue], error) {
	q := s.db.WithContext(ctx).Table("keys k").
		Joins("JOIN keepers o ON o.id = k.keeper_id AND o.left_at IS NULL").
		Joins("JOIN LATERAL (SELECT count(*) AS logins FROM grants g JOIN logins l ON l.id = g.login_id JOIN instances i "+
			"ON i.id = l.instance_id AND i.gone_at IS NULL WHERE g.key_id = k.id AND g.withdrawn_at IS NULL) g ON g.logins > 0").
		Where("k.state = 'active' AND k.steward_of IS NULL AND (k.proved_at IS NULL OR k.proved_at < ?)", before)
	if keeper != "" {
		q = q.Where("o.name = ?", keeper)
	}
	page, err := seek(q, order{columns: []string{"o.name", "k.name"}}, p)
	if err != nil {
		return List[ProofDue]{}, err
	}
	var items []ProofDue
	err = page.Select("k.name AS key_name, k.type AS key_type, k.bits AS key_bits, k.sha256 AS key_sha256, o.name AS " +
		"keeper_name, o.title AS keeper_title, k.proved_at, g.logins").
		Scan(&items).
		Error
	if err != nil {
		return List[ProofDue]{}, plain(err)
	}
	return cut(items, p, func(d ProofDue) []string { return []string{d.KeeperName, d.KeyName} }), nil
}

// LastEntered returns when the key last opened the login; nil where it is not known to.
func (s *Store) LastEntered(ctx context.Context, login, key uuid.UUID) (*time.Time, error) {
	var at []struct{ EnteredAt *time.Time }
	err := s.db.WithContext(ctx).
		Raw("SELECT entered_at FROM sightings WHERE login_id = ? AND key_id = ?", login, key).
		Scan(&at).
		Error
	if err != nil || len(at) == 0 {
		return nil, plain(err)
	}
	return at[0].EnteredAt, nil
}
