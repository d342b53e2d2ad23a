package store_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// openAsService opens a new database with the role of a service, and returns the owner's URL.
func openAsService(t *testing.T) (s *store.Store, owner, service string) {
	t.Helper()
	owner, service = pgtest.Databases(t)
	must(t, store.Prepare(t.Context(), owner, service))
	s, err := store.Open(t.Context(), service)
	must(t, err)
	t.Cleanup(s.Close)
	return s, owner, service
}

func checkChain(t *testing.T, s *store.Store) (int64, *daybook.Fault) {
	t.Helper()
	entries, err := s.EntriesAfter(t.Context(), record.EntryFilter{}, 0, 10_000)
	must(t, err)
	var c daybook.Checker
	for _, e := range entries {
		if err := c.Add(e.Linked()); err != nil {
			var f *daybook.Fault
			if !errors.As(err, &f) {
				t.Fatal(err)
			}
			return f.Seq, f
		}
	}
	n, _ := c.Head()
	return n, nil
}

func TestEntriesOfManyTransactionsMakeOneChain(t *testing.T) {
	s, _, _ := openAsService(t)
	var all sync.WaitGroup
	for n := range 12 {
		all.Go(func() {
			for i := range 10 {
				err := s.InTx(t.Context(), func(tx *store.Store) error {
					if err := tx.Note(t.Context(), record.Entry{
						At:          begin,
						Person:      "ines",
						Action:      "a",
						SubjectKind: "key",
						Subject:     fmt.Sprint(n),
						Sentence:    "«1» \u2028 <b>",
						Details:     map[string]any{"n": i, "deep": []any{1.5, nil, "x"}},
					}); err != nil {
						return err
					}
					inner := tx.InTx(t.Context(), func(tx *store.Store) error {
						return errors.Join(tx.Note(t.Context(), record.Entry{At: begin, Person: "lost"}), errors.New("on purpose"))
					})
					if inner == nil {
						return errors.New("the inner transaction did not fail")
					}
					return tx.Note(t.Context(), record.Entry{At: begin, Person: "marek"})
				})
				if err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if n, f := checkChain(t, s); f != nil || n != 240 {
		t.Fatalf("%d entries, %v", n, f)
	}
}

func TestTheRoleOfTheServiceCannotChangeTheDaybook(t *testing.T) {
	s, owner, service := openAsService(t)
	must(t, s.Note(t.Context(), record.Entry{At: begin, Person: "ines"}, record.Entry{At: begin, Person: "marek"}))
	if open, err := s.DaybookOpen(t.Context()); err != nil || open {
		t.Fatalf("open: %v, %v", open, err)
	}
	for _, url := range []string{service, owner} {
		conn, err := pgx.Connect(t.Context(), url)
		must(t, err)
		for _, statement := range []string{
			"UPDATE daybook SET person = 'x'",
			"DELETE FROM daybook",
			"TRUNCATE daybook",
			"UPDATE limited.daybook SET person = 'x'",
			"DELETE FROM limited.daybook",
			"ALTER TABLE daybook DISABLE TRIGGER ALL; UPDATE daybook SET person = 'x'", "DROP TRIGGER daybook_stays ON daybook",
		} {
			if url == owner && (strings.Contains(statement, "TRIGGER") || strings.Contains(statement, "limited")) {
				continue // who owns the tables can; that is what the chain is for
			}
			if _, err := conn.Exec(t.Context(), statement); err == nil {
				t.Errorf("%s was done", statement)
			}
		}
		must(t, conn.Close(t.Context()))
	}
	if n, f := checkChain(t, s); f != nil || n != 2 {
		t.Fatalf("%d, %v", n, f)
	}
}

// What somebody does who owns the database, by SQL, with the trigger out of the way.
func TestWhatIsDoneToTheDaybookBySQLIsFound(t *testing.T) {
	for name, c := range map[string]struct {
		sql string
		at  int64
	}{
		"changed": {"UPDATE daybook SET sentence = 'Nothing.' WHERE seq = 4", 4},
		"about":   {`UPDATE daybook SET about = '["key:other"]' WHERE seq = 6`, 6},
		"removed": {"DELETE FROM daybook WHERE seq = 3", 3},
		"first":   {"DELETE FROM daybook WHERE seq < 3", 1},
		"swapped": {
			"UPDATE daybook SET seq = CASE seq WHEN 2 THEN 1002 ELSE 1003 END WHERE seq IN (2, 3); UPDATE daybook SET seq = " +
				"1005 - seq WHERE seq > 1000",
			2,
		},
		"put in": {
			"INSERT INTO daybook SELECT 11, at, person, via, action, subject_kind, subject, why, outcome, 'More.', details, " +
				"request_id, hash, hash, about FROM daybook WHERE seq = 10",
			11,
		},
	} {
		t.Run(name, func(t *testing.T) {
			s, owner, _ := openAsService(t)
			for range 10 {
				must(t, s.Note(t.Context(), record.Entry{At: begin, Person: "ines", Sentence: "x"}))
			}
			conn, err := pgx.Connect(t.Context(), owner)
			must(t, err)
			defer conn.Close(t.Context())
			_, err = conn.Exec(t.Context(), "ALTER TABLE daybook DISABLE TRIGGER ALL; "+c.sql)
			must(t, err)
			if at, f := checkChain(t, s); f == nil || at != c.at {
				t.Errorf("found at %d: %v, want %d", at, f, c.at)
			}
		})
	}
}

func TestTheDaybookIsNarrowedByWhatItIsAbout(t *testing.T) {
	s, _, _ := openAsService(t)
	must(t, s.Note(
		t.Context(),
		record.Entry{At: begin, Person: "ines", Action: "key.make", About: []string{"key:gannet"}},
		record.Entry{
			At:     begin.AddDate(0, 0, 1),
			Person: "marek",
			Action: "grant.add",
			About:  []string{"login:debian@a", "instance:a", "key:gannet"},
		},
		record.Entry{At: begin.AddDate(0, 0, 2), Person: "marek", Action: "keyboard", About: []string{"instance:a"}},
	))
	for name, c := range map[string]struct {
		f    record.EntryFilter
		want int
	}{
		"key":    {record.EntryFilter{About: []string{"key:gannet"}}, 2},
		"both":   {record.EntryFilter{About: []string{"key:gannet", "instance:a"}}, 1},
		"kind":   {record.EntryFilter{Action: "key"}, 1},
		"action": {record.EntryFilter{Action: "grant.add"}, 1},
		"person": {record.EntryFilter{Person: "marek"}, 2},
		"from":   {record.EntryFilter{From: begin.AddDate(0, 0, 1)}, 2},
		"until":  {record.EntryFilter{Until: begin.AddDate(0, 0, 1)}, 1},
	} {
		l, err := s.Daybook(t.Context(), c.f, record.Page{Limit: 10, Total: true})
		if err != nil || len(l.Items) != c.want || *l.Total != c.want {
			t.Errorf("%s: %d of %d, %v", name, len(l.Items), c.want, err)
		}
	}
}

func TestALimitHoldsInEveryQueryOfTheStore(t *testing.T) {
	s, _, _ := openAsService(t)
	ctx := t.Context()
	must(t, s.InTx(ctx, func(tx *store.Store) error {
		for _, team := range []string{"cameras", "web"} {
			i := record.Instance{
				ID:        uuid.Must(uuid.NewV7()),
				Name:      team + "-1",
				Labels:    map[string]string{"team": team},
				CreatedAt: begin,
				State:     "running",
				LoginUser: "debian",
			}
			if err := tx.AddInstance(ctx, &i); err != nil {
				return err
			}
			if err := tx.Note(ctx, record.Entry{
				At:          begin,
				Person:      "ines",
				SubjectKind: "instance",
				Subject:     i.Name,
				About:       []string{"instance:" + i.Name},
			}); err != nil {
				return err
			}
		}
		return tx.Note(
			ctx, record.Entry{At: begin, Person: "ines", About: []string{"key:gannet"}},
			record.Entry{At: begin, Person: "runa", About: []string{"key:gannet"}},
			record.Entry{At: begin, Person: "ines", About: []string{"instance:cameras-1", "instance:web-1"}},
		)
	}))
	see := func(ctx context.Context) string {
		l, err := s.Instances(ctx, record.InstanceFilter{}, record.Page{Limit: 10})
		must(t, err)
		var out []string
		for _, i := range l.Items {
			out = append(out, i.Name)
		}
		d, err := s.Daybook(ctx, record.EntryFilter{}, record.Page{Limit: 10})
		must(t, err)
		return strings.Join(out, " ") + fmt.Sprint(" ", len(d.Items))
	}
	limited := store.WithLimit(ctx, store.Limit{Labels: map[string]string{"team": "cameras"}, Person: "runa"})
	// The same connections are used by turns for both, which must not rub off.
	for range 50 {
		if got := see(limited); got != "cameras-1 2" {
			t.Fatalf("limited: %s", got)
		}
		if got := see(ctx); got != "cameras-1 web-1 5" {
			t.Fatalf("unlimited: %s", got)
		}
		if got := see(store.Unlimited(limited)); got != "cameras-1 web-1 5" {
			t.Fatalf("unlimited again: %s", got)
		}
	}
	if _, err := s.InstanceNamed(limited, "web-1"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("beyond the limit: %v", err)
	}
	odd := store.WithLimit(ctx, store.Limit{Labels: map[string]string{"team": "\n'; --"}, Person: "x\n{}"})
	if got := see(odd); got != " 0" {
		t.Errorf("odd: %q", got)
	}
}
