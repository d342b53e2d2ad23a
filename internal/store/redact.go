package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
)

// redactPrivate takes away what earlier versions have kept of private keys that lay in
// authorized_keys files: from the versions of files, and from the daybook, whose chain stays
// and where a new entry tells of it.
func redactPrivate(ctx context.Context, tx *sql.Tx) error {
	if err := redactVersions(ctx, tx); err != nil {
		return fmt.Errorf("redact the versions of files: %w", err)
	}
	if err := redactDaybook(ctx, tx); err != nil {
		return fmt.Errorf("redact the daybook: %w", err)
	}
	return nil
}

// redactVersions takes what must not be kept out of the contents of files. Raw,
// since it runs by itself on the database, not through the records, which later versions change.
func redactVersions(ctx context.Context, tx *sql.Tx) error {
	ids, err := idsOf(ctx, tx, "SELECT id::text FROM file_versions")
	if err != nil {
		return err
	}
	for _, id := range ids {
		var content []byte
		if err := tx.QueryRowContext(ctx, "SELECT content FROM file_versions WHERE id = $1", id).Scan(&content); err != nil {
			return err
		}
		kept, exposed := authorizedkeys.Parse(content).Keep()
		if len(exposed) == 0 && len(kept) == len(content) {
			continue
		}
		found, err := json.Marshal(append([]authorizedkeys.Exposed{}, exposed...))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(
			ctx, "UPDATE file_versions SET content = $1, exposed = $2 WHERE id = $3", kept, string(found), id,
		); err != nil {
			return err
		}
	}
	return nil
}

// idsOf returns the ids that a question gives. Raw,
// since it runs by itself on the database, not through the records, which later versions change.
func idsOf(ctx context.Context, tx *sql.Tx, query string) (ids []string, err error) {
	rows, err := tx.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, rows.Err()
}

// redactedSentence takes the place of what an entry said.
const redactedSentence = "(The details of this entry were removed, since they held a part of a private key.)"

// redactDaybook takes what must not be kept out of the daybook. Raw, since it
// runs by itself on the database, not through the records, which later versions change.
func redactDaybook(ctx context.Context, tx *sql.Tx) error {
	var told []daybook.Redacted
	var last record.Entry
	for {
		entries, err := entriesIn(ctx, tx, last.Seq)
		if err != nil {
			return err
		}
		if len(entries) == 0 {
			break
		}
		for _, e := range entries {
			last = e
			holds, err := holdsPrivate(e)
			if err != nil {
				return err
			}
			if !holds {
				continue
			}
			left, r, err := daybook.Redact(e.Linked(), redactedSentence)
			if err != nil {
				return err
			}
			details, err := json.Marshal(left.Details)
			if err != nil {
				return err
			}
			if len(told) == 0 {
				if _, err := tx.ExecContext(ctx, "ALTER TABLE daybook DISABLE TRIGGER daybook_stays"); err != nil {
					return err
				}
			}
			if _, err := tx.ExecContext(
				ctx, "UPDATE daybook SET details = $1, sentence = $2, why = $3 WHERE seq = $4", string(details),
				left.Sentence, left.Why, e.Seq,
			); err != nil {
				return err
			}
			told = append(told, r)
		}
	}
	if len(told) == 0 {
		return nil
	}
	entry := []record.Entry{{
		At:          time.Now(),
		Person:      "service",
		Via:         "service",
		Action:      daybook.Redaction,
		SubjectKind: "daybook",
		Subject:     "daybook",
		Outcome:     "done",
		About:       []string{"daybook:daybook"},
		Sentence: fmt.Sprintf(
			"The details of %d entries were removed, since they held a part of a private key. Treat each such key as exposed.",
			len(told),
		),
		Details: map[string]any{"entries": told},
	}}
	if err := link(last, entry); err != nil {
		return err
	}
	e := entry[0]
	about, err := json.Marshal(e.About)
	if err != nil {
		return err
	}
	details, err := json.Marshal(e.Details)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO daybook (seq, at, person, via, action, subject_kind, subject, about,
		why, outcome, sentence, details, request_id, prev_hash, hash)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)`,
		e.Seq, e.At, e.Person, e.Via, e.Action, e.SubjectKind, e.Subject, string(about), e.Why, e.Outcome,
		e.Sentence, string(details), e.RequestID, e.PrevHash, e.Hash); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "ALTER TABLE daybook ENABLE TRIGGER daybook_stays")
	return err
}

// holdsPrivate reports whether the entry shows the marks of a private key, or tells of lines
// of a file that are none of the format's and so may be a part of one.
func holdsPrivate(e record.Entry) (bool, error) {
	details, err := json.Marshal(e.Details)
	if err != nil {
		return false, err
	}
	if keypair.HoldsPrivate(e.Sentence) || keypair.HoldsPrivate(e.Why) || keypair.HoldsPrivate(string(details)) {
		return true, nil
	}
	for _, name := range []string{"came", "went"} {
		lines, _ := e.Details[name].([]any)
		for _, line := range lines {
			text, _ := line.(string)
			if _, exposed := authorizedkeys.Parse([]byte(text)).Keep(); len(exposed) > 0 {
				return true, nil
			}
		}
	}
	return false, nil
}

// entriesIn returns the next entries behind the one with the number.
// Raw, since it runs by itself on the database, not through the records, which later versions change.
func entriesIn(ctx context.Context, tx *sql.Tx, after int64) ([]record.Entry, error) {
	rows, err := tx.QueryContext(
		ctx,
		`SELECT seq, at, person, via, action, subject_kind, subject, about, why, outcome, sentence, details, request_id,
			prev_hash, hash
		FROM daybook WHERE seq > $1 ORDER BY seq LIMIT 1000`,
		after,
	)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var entries []record.Entry
	for rows.Next() {
		var e record.Entry
		var about, details []byte
		if err := rows.Scan(
			&e.Seq, &e.At, &e.Person, &e.Via, &e.Action, &e.SubjectKind, &e.Subject, &about, &e.Why, &e.Outcome,
			&e.Sentence, &details, &e.RequestID, &e.PrevHash, &e.Hash,
		); err != nil {
			return nil, err
		}
		if err := errors.Join(json.Unmarshal(about, &e.About), json.Unmarshal(details, &e.Details)); err != nil {
			return nil, fmt.Errorf("entry %d: %w", e.Seq, err)
		}
		entries = append(entries, e)
	}
	return entries, rows.Err()
}
