package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

const (
	entries         = 4000 // each in a transaction of its own
	entriesAtOnce   = 8
	entriesTogether = 100_000 // in transactions of 500
)

// daybooks measures what the chain costs: entries in transactions of their own beside the
// same rows written without a chain, and how long going through all of them takes.
func daybooks(ctx context.Context, database string) error {
	fmt.Fprintln(os.Stderr, "writing entries of the daybook")
	s, err := store.Open(ctx, database)
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.Pool().Exec(
		ctx, "CREATE TABLE unchained (LIKE daybook INCLUDING ALL EXCLUDING CONSTRAINTS)",
	); err != nil {
		return err
	}
	entry := func(n int) record.Entry {
		return record.Entry{
			At:          time.Now(),
			Person:      "bench",
			Via:         "api",
			Action:      "grant.add",
			SubjectKind: "login",
			Subject:     fmt.Sprint("debian@node-", n),
			About:       []string{fmt.Sprint("instance:node-", n)},
			Outcome:     "done",
			Sentence:    "bench granted debian@node to the key bench.",
		}
	}
	together := func(write func(n int) error) (time.Duration, error) {
		begun := time.Now()
		var g errgroup.Group
		g.SetLimit(entriesAtOnce)
		for n := range entries {
			g.Go(func() error { return write(n) })
		}
		err := g.Wait()
		return time.Since(begun), err
	}
	bare := func(n int) error {
		e := entry(n)
		_, err := s.Pool().
			Exec(ctx, `INSERT INTO unchained (seq, at, person, via, action, subject_kind, subject, why, outcome, sentence,
				details, request_id, about, prev_hash, hash)
			VALUES ($1, $2, $3, $4, $5, $6, $7, '', $8, $9, '{}', '', $10, '',
				'')`,
				time.Now().UnixNano()+int64(n), e.At, e.Person, e.Via, e.Action, e.SubjectKind, e.Subject, e.Outcome,
				e.Sentence, `["`+e.About[0]+`"]`)
		return err
	}
	// One half of the bare rows before and one after, as the machine is not the same throughout.
	before, err := together(bare)
	if err != nil {
		return err
	}
	chained, err := together(func(n int) error { return s.Note(ctx, entry(n)) })
	if err != nil {
		return err
	}
	after, err := together(bare)
	if err != nil {
		return err
	}
	unchained := (before + after) / 2
	fmt.Printf(
		"| %d entries of the daybook, each in a transaction of its own, %d at once | %.0f per second; the same rows "+
			"without a chain %.0f, %.1f times as many |\n",
		entries,
		entriesAtOnce,
		entries/chained.Seconds(),
		entries/unchained.Seconds(),
		chained.Seconds()/unchained.Seconds(),
	)
	part := make([]record.Entry, 500)
	for n := range part {
		part[n] = entry(n)
	}
	for range entriesTogether / len(part) {
		if err := s.InTx(ctx, func(tx *store.Store) error { return tx.Note(ctx, part...) }); err != nil {
			return err
		}
	}
	begun := time.Now()
	var c daybook.Checker
	for last := int64(0); ; {
		list, err := s.EntriesAfter(ctx, record.EntryFilter{}, last, 1000)
		if err != nil {
			return err
		}
		for _, e := range list {
			if err := c.Add(e.Linked()); err != nil {
				return err
			}
			last = e.Seq
		}
		if len(list) < 1000 {
			break
		}
	}
	checked, _ := c.Head()
	took := time.Since(begun)
	begun = time.Now()
	var count int
	if err := s.Pool().QueryRow(
		ctx,
		"SELECT count(*) FROM (SELECT seq, sentence, details, about, hash FROM daybook ORDER BY seq) x WHERE sentence <> ''",
	).Scan(&count); err != nil {
		return err
	}
	read := time.Since(begun)
	fmt.Printf(
		"| going through a daybook of %d entries | %.1f s, %.0f µs each; the database alone reads them in %.2f s |\n",
		checked, took.Seconds(), float64(took.Microseconds())/float64(checked), read.Seconds(),
	)
	_, err = s.Pool().Exec(ctx, "DROP TABLE unchained")
	return err
}

// limitsAlone fills a database first.
func limitsAlone(ctx context.Context, dir, database string) error {
	s, err := startServiceWith(dir, database, "-cloud", "http://127.0.0.1:1")
	if err == nil {
		err = s.process.Stop(10 * time.Second)
	}
	if err != nil {
		return err
	}
	if _, err := fill(ctx, database); err != nil {
		return err
	}
	if s, err = startServiceWith(dir, database, "-cloud", "http://127.0.0.1:1"); err != nil {
		return err
	}
	defer s.process.Stop(10 * time.Second)
	return limits(ctx, s, dir)
}

// limits measures the same calls by an admin and by somebody who is limited to a fortieth of
// the instances.
func limits(ctx context.Context, s *service, dir string) error {
	word := filepath.Join(dir, "word")
	if err := os.WriteFile(word, []byte(password), 0o600); err != nil {
		return err
	}
	add := exec.CommandContext(
		ctx, "bin/plumlatch", "operator", "add", "limited", "-role", "operator", "-limit", "team=3", "-password-file",
		word, "-confirm-file", word,
	)
	add.Env = append(os.Environ(), "HOME="+dir, "PLUMLATCH_URL="+s.url, "PLUMLATCH_TOKEN="+s.token)
	if out, err := add.CombinedOutput(); err != nil {
		return fmt.Errorf("add somebody limited: %w: %s", err, out)
	}
	all := s.token
	defer func() { s.token = all }()
	for _, c := range []struct{ what, path string }{
		{"instance list, first page", "/api/v1/instances"},
		{"instance list, searched", "/api/v1/instances?q=node-00"},
	} {
		s.token = all
		free, err := s.measure(c.path, `"items"`)
		if err != nil {
			return err
		}
		if s.token, err = s.signedIn(dir, "limited"); err != nil {
			return err
		}
		limited, err := s.measure(c.path, `"items"`)
		if err != nil {
			return err
		}
		f, l := free[len(free)/2], limited[len(limited)/2]
		fmt.Printf(
			"| %s, without a limit and limited to a fortieth | median %.1f ms and %.1f ms, %.1f times |\n", c.what,
			ms(f), ms(l), float64(l)/float64(f),
		)
	}
	return nil
}
