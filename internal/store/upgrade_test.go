package store

import (
	"errors"
	"testing"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
)

func TestADaybookOfBeforeTheChainIsChainedAsItStands(t *testing.T) {
	ctx := t.Context()
	url, _ := pgtest.Empty(t)
	pool, err := connect(ctx, url, 2, false)
	if err != nil {
		t.Fatal(err)
	}
	earlier, err := schema(pool)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := earlier.UpTo(ctx, 7); err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{
		`INSERT INTO daybook (at, person, via, action, subject_kind, subject, why, outcome, sentence, details, request_id)
			SELECT '2026-08-01T05:00:00.1234567Z'::timestamptz + n * interval '1 hour', 'ines', 'cli', 'grant.add', 'login',
				'debian@hide-cam-' || n, 'why ' || n, 'done', 'Ines granted «it».', '{"b": 1.50, "a": ["x", null]}', ''
			FROM generate_series(1, 30) n`,
		"DELETE FROM daybook WHERE seq IN (1, 7, 8)", // what transactions that were given up have left
		`INSERT INTO sessions (hash, operator_id, created_at, expires_at) SELECT 'x', id, now(), now() FROM operators`,
	} {
		if _, err := pool.Exec(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	pool.Close()
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := s.Note(ctx, record.Entry{Person: "ines", Sentence: "The first of after."}); err != nil {
		t.Fatal(err)
	}
	entries, err := s.EntriesAfter(ctx, record.EntryFilter{}, 0, 100)
	if err != nil || len(entries) != 28 {
		t.Fatal(len(entries), err)
	}
	var c daybook.Checker
	for _, e := range entries {
		if err := c.Add(e.Linked()); err != nil {
			t.Fatal(err)
		}
	}
	if about, err := s.Daybook(
		ctx, record.EntryFilter{About: []string{"instance:hide-cam-9"}}, record.Page{Limit: 5},
	); err != nil ||
		len(about.Items) != 1 {
		t.Errorf("%d entries are about an instance, %v", len(about.Items), err)
	}
}

func TestADatabaseOfALaterProgramIsLeftAlone(t *testing.T) {
	url := pgtest.Database(t)
	s, err := Open(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	var newer *NewerError
	if _, err := Open(t.Context(), url); !errors.As(err, &newer) || newer.There != 9999 {
		t.Errorf("%v", err)
	}
}
