package store

import (
	"errors"
	"strings"
	"testing"

	"github.com/google/uuid"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/machines"
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

func TestTheWordsOfAnEarlierDatabaseAreTakenOver(t *testing.T) {
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
	if _, err := earlier.UpTo(ctx, 20); err != nil {
		t.Fatal(err)
	}
	const id = "018f3b8a-0000-7000-8000-00000000000"
	for _, statement := range []string{
		`INSERT INTO keepers (id, name, kind, title) VALUES ('` + id + `1', 'team-field', 'team', 'Field')`,
		`INSERT INTO rotation_rules (id, name, wanted, make, settings, created_by, created_at)
			VALUES ('` + id + `2', 'old', '{"version": 1, "keeper": "team-field"}', 'bring', '{}', 'ines', now())`,
		`INSERT INTO instances (id, name, cloud_id, state, image, size, zone, region, login_user, private_address,
				public_address, ssh_port, static_address, temporary_gib, key_label, labels, created_at, created_by)
			VALUES ('` + id + `3', 'gone', 'i-1', 'terminated', 'debian-12', 'small', 'z', 'r', 'debian', '', '', 22, false,
				0, '', '{}', now(), 'ines')`,
		`INSERT INTO runs (id, kind, instance_id, state, version, requested_by, reason, facts, error, created_at, ended_at)
			VALUES ('` + id + `4', 'terminate', '` + id + `3', 'done', 1, 'ines', '', '{}', '', now(), now())`,
	} {
		if _, err := pool.Exec(ctx, statement); err != nil {
			t.Fatal(statement, err)
		}
	}
	pool.Close()
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	if h, err := s.HolderNamed(ctx, "team-field"); err != nil || h.Kind != "team" {
		t.Errorf("got the holder %+v, %v; want a team", h, err)
	}
	r, err := s.RotationRules(ctx)
	if err != nil || len(r) != 1 || !strings.Contains(string(r[0].Wanted), `"holder"`) {
		t.Errorf("got the rules %+v, %v; want one by its holder", r, err)
	}
	i, err := s.InstanceByID(ctx, uuid.MustParse(id+"3"))
	if err != nil || i.State != machines.Deleted {
		t.Errorf("got the instance %s, %v; want it deleted", i.State, err)
	}
	run, err := s.RunByID(ctx, uuid.MustParse(id+"4"))
	if err != nil || run.Kind != "delete" {
		t.Errorf("got a run of the kind %s, %v; want delete", run.Kind, err)
	}
}
