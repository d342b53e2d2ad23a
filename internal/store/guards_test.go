package store_test

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// TestTheRoleOfTheServiceTakesNoEvidenceAway has whoever has the service's URL delete what shows
// who proved, consented and was given a password, and forge rows of the daybook.
func TestTheRoleOfTheServiceTakesNoEvidenceAway(t *testing.T) {
	s, _, service := openAsService(t)
	must(t, s.Note(t.Context(), record.Entry{At: begin, Person: "ines"}))
	conn, err := pgx.Connect(t.Context(), service)
	must(t, err)
	defer conn.Close(t.Context())
	for _, statement := range []string{
		"DELETE FROM proofs",
		"DELETE FROM limited.proofs",
		"DELETE FROM consents",
		"DELETE FROM password_readings",
		"DELETE FROM goose_db_version",
		"UPDATE goose_db_version SET version_id = 1",
		"INSERT INTO daybook SELECT 2, at, person, via, action, subject_kind, subject, why, outcome, 'More.', details, " +
			"request_id, hash, '\\x00', about FROM daybook WHERE seq = 1",
		"INSERT INTO daybook SELECT 9223372036854775807, at, person, via, action, subject_kind, subject, why, outcome, " +
			"'More.', details, request_id, hash, hash, about FROM daybook WHERE seq = 1",
	} {
		if _, err := conn.Exec(t.Context(), statement); err == nil {
			t.Errorf("%s was done", statement)
		}
	}
	// A row with a false hash of the right length stops nobody, and is found.
	_, err = conn.Exec(
		t.Context(),
		"INSERT INTO daybook SELECT 2, at, person, via, action, subject_kind, subject, why, outcome, 'More.', details, "+
			"request_id, hash, hash, about FROM daybook WHERE seq = 1",
	)
	must(t, err)
	must(t, s.Note(t.Context(), record.Entry{At: begin, Person: "marek"}))
	if at, f := checkChain(t, s); f == nil || at != 2 {
		t.Errorf("found at %d: %v", at, f)
	}
}

func TestAMadeUpCursorIsRefusedAndAsksTheDatabaseNothing(t *testing.T) {
	s := open(t)
	cursor := func(parts ...string) record.Page {
		data, err := json.Marshal(parts)
		must(t, err)
		return record.Page{Limit: 1, After: base64.RawURLEncoding.EncodeToString(data)}
	}
	for what, list := range map[string]func() error{
		"daybook, no number": func() error {
			_, err := s.Daybook(
				t.Context(), record.EntryFilter{}, cursor("x"),
			)
			return err
		},
		"daybook, too large": func() error {
			_, err := s.Daybook(t.Context(), record.EntryFilter{}, cursor("9223372036854775808"))
			return err
		},
		"runs, no time": func() error { _, err := s.Runs(t.Context(), record.RunFilter{}, cursor("x", "y")); return err },
		"runs, no id": func() error {
			_, err := s.Runs(t.Context(), record.RunFilter{}, cursor("2026-11-01T00:00:00Z", "y"))
			return err
		},
		"rotations, no time": func() error { _, err := s.Rotations(t.Context(), "", cursor("", "")); return err },
		"instances, NUL": func() error {
			_, err := s.Instances(
				t.Context(), record.InstanceFilter{}, cursor("a\x00"),
			)
			return err
		},
		"instances by creation": func() error {
			_, err := s.Instances(t.Context(), record.InstanceFilter{Sort: "created"}, cursor("now", "1"))
			return err
		},
	} {
		if err := list(); !errors.Is(err, store.ErrCursor) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// TestANameThatIsUsedAgainDoesNotShowTheDaybookOfTheFormerMachine has one limited to a label look at entries
// of a machine that had the name of one of theirs.
func TestANameThatIsUsedAgainDoesNotShowTheDaybookOfTheFormerMachine(t *testing.T) {
	s := open(t)
	i := record.Instance{
		ID:        uuid.Must(uuid.NewV7()),
		Name:      "atlas-tiles",
		State:     "running",
		LoginUser: "debian",
		SSHPort:   22,
	}
	i.Labels = map[string]string{"team": "field"}
	i.CreatedAt = begin.Add(time.Hour)
	must(t, s.AddInstance(t.Context(), &i))
	about := []string{"instance:atlas-tiles"}
	must(t, s.Note(t.Context(),
		record.Entry{At: begin, Person: "ines", Sentence: "of the former", About: about},
		record.Entry{At: i.CreatedAt, Person: "ines", Sentence: "of this one", About: about}))
	page, err := s.Daybook(
		store.WithLimit(t.Context(), store.Limit{Person: "lena", Labels: i.Labels}), record.EntryFilter{},
		record.Page{Limit: 10},
	)
	must(t, err)
	if len(page.Items) != 1 || page.Items[0].Sentence != "of this one" {
		t.Errorf("%+v", page.Items)
	}
}

// TestNoControlCharacterReachesTheDaybook writes an entry whose words come from a machine.
func TestNoControlCharacterReachesTheDaybook(t *testing.T) {
	s := open(t)
	const odd = "a\x1b]0;owned\x07\u202e\x00b\n2026-11-03 marek did it"
	must(t, s.Note(t.Context(), record.Entry{
		At:       begin,
		Person:   odd,
		Subject:  odd,
		Why:      odd,
		Sentence: odd,
		Outcome:  odd,
		Details:  map[string]any{odd: []string{odd}, "more": map[string]any{"x": []any{odd, 1}}},
	}))
	page, err := s.Daybook(t.Context(), record.EntryFilter{}, record.Page{Limit: 1})
	must(t, err)
	shown := fmt.Sprintf("%v", page.Items)
	if strings.ContainsAny(shown, "\x1b\x07\x00\n") || strings.Contains(shown, "\u202e") ||
		strings.Count(shown, "owned") != 8 {
		t.Errorf("%q", shown)
	}
	if n, f := checkChain(t, s); f != nil || n != 1 {
		t.Errorf("%d %v", n, f)
	}
}
