package store

import (
	"context"
	"slices"
	"strings"

	"plumlatch/internal/record"
)

// nameSources are the selections of what has a name, as kind, name, about, sha256 and later,
// which is greater for what comes after all others. In each, ? is the pattern that the text has
// to match.
var nameSources = []string{
	`SELECT 'instance' AS kind, name, state || ', ' || image || ', ' || region AS about, NULL::bytea AS sha256, 0 AS later
		FROM instances WHERE gone_at IS NULL AND (name || ' ' || public_address || ' ' || private_address) ILIKE ?`,
	`SELECT 'key' AS kind, k.name, k.type || ' ' || k.bits || coalesce(', of ' || p.name, CASE
		WHEN k.steward_of IS NULL THEN ', of nobody' ELSE ', the service''s own' END)
			|| CASE WHEN k.state = 'active' THEN '' ELSE ', ' || k.state END AS about, k.sha256, CASE
				WHEN k.steward_of IS NULL THEN 0 ELSE 4 END AS later
		FROM keys k LEFT JOIN holders p ON p.id = k.holder_id WHERE (k.name || ' ' || k.comment || ' ' || k.purpose) ILIKE ?`,
	`SELECT kind, name, title || CASE WHEN left_at IS NULL THEN ''
		ELSE ', has left' END AS about, NULL::bytea AS sha256, 0 AS later FROM holders WHERE (name || ' ' || title) ILIKE ?`,
}

// strangerNames is the selection of the logins that keys in no record are in, by the comments of these.
const strangerNames = `SELECT 'stranger' AS kind, l.os_user || '@' || i.name AS name,
	'a key in no record: ' || s.comment AS about,
	s.sha256, 2 AS later
	FROM strangers s JOIN logins l ON l.id = s.login_id JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL
		WHERE s.comment ILIKE ?`

// loginNames is the selection for a text with an @; pattern as in nameSources.
const loginNames = `SELECT 'login' AS kind, l.os_user || '@' || i.name AS name, i.state || ', ' || i.region AS about,
	NULL::bytea AS sha256, 0 AS later
	FROM logins l JOIN instances i ON i.id = l.instance_id WHERE i.gone_at IS NULL
		AND (l.os_user || '@' || i.name) ILIKE ?`

// Names returns at most limit of what has a name that has the text in it, in any letter case:
// first what is called just that, then what begins with it. Logins are looked for where the
// text has an @, and strangers always. Raw, since GORM joins no questions by UNION.
func (s *Store) Names(ctx context.Context, text string, limit int) ([]record.Named, error) {
	sources := append(slices.Clone(nameSources), strangerNames)
	if strings.Contains(text, "@") {
		sources = []string{loginNames, strangerNames}
	}
	// Each source gives at most its own first, so that the last sort is short.
	const rank = "CASE WHEN lower(name) = lower(?) THEN 0 WHEN name ILIKE ? THEN 1 ELSE 2 END + later"
	var q strings.Builder
	var values []any
	begins := strings.TrimPrefix(like(text), "%")
	q.WriteString("SELECT kind, name, about, sha256 FROM (")
	for n, source := range sources {
		if n > 0 {
			q.WriteString(" UNION ALL ")
		}
		q.WriteString("(SELECT *, " + rank + " AS rank FROM (" + source + ") AS source ORDER BY rank, name LIMIT ?)")
		values = append(values, text, begins, like(text), limit)
	}
	q.WriteString(") AS found ORDER BY rank, name, kind LIMIT ?")
	var out []record.Named
	err := s.db.WithContext(ctx).Raw(q.String(), append(values, limit)...).Scan(&out).Error
	return out, plain(err)
}
