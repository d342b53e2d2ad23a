package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"time"

	"plumlatch/internal/store"
)

// The generated year: a daily reading of each login, whose file changed so often, and has so many keys each time.
const (
	changesAYear = 12
	keysInAFile  = 5
)

// past measures what a year of daily readings of all logins takes on the disk, and how long a question about a date
// takes.
func past(ctx context.Context, dir, database string) error {
	if _, err := fill(ctx, database); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "generating a year of readings of %d logins\n", many)
	size, err := aYear(ctx, database)
	if err != nil {
		return err
	}
	fmt.Printf(
		"| the database with %d logins, each read daily for a year, with %d changes of a file of %d keys | %.2f GB |\n",
		many, changesAYear, keysInAFile, float64(size)/1e9,
	)
	s, err := startServiceWith(dir, database, "-cloud", "http://127.0.0.1:1")
	if err != nil {
		return err
	}
	defer s.process.Stop(10 * time.Second)
	at := strings.ReplaceAll(url.QueryEscape(time.Now().AddDate(0, 0, -200).UTC().Format(time.RFC3339)), "%", "%%")
	for _, c := range []struct{ what, path string }{
		{"who could open a login 200 days ago", "/api/v1/past?login=node-%06d&at=" + at},
		{"what a key opened 200 days ago", "/api/v1/past?key=key-%06d&at=" + at},
	} {
		times, err := s.measure(c.path, `"keys"`)
		if err != nil {
			return err
		}
		fmt.Printf(
			"| %s, %d calls | median %.1f ms, 95 %% within %.1f ms |\n", c.what, calls, ms(times[len(times)/2]),
			ms(times[len(times)*95/100]),
		)
	}
	return nil
}

// aYear records the year, and returns the size of the database in bytes. A version of a file is recorded once, with
// the first and the last reading that saw it, as sweeps do.
func aYear(ctx context.Context, database string) (size int64, err error) {
	s, err := store.Open(ctx, database)
	if err != nil {
		return 0, err
	}
	defer s.Close()
	conn, err := s.Pool().Acquire(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Release()
	for _, statement := range []string{
		"SET statement_timeout = 0",
		"UPDATE instances SET created_at = now() - interval '400 days'",
		fmt.Sprintf(`INSERT INTO file_versions
			(id, login_id, path, there, content, digest, bytes, exposed, mode, method, seen_at, seen_until)
		SELECT gen_random_uuid(), l.id, '/home/debian/.ssh/authorized_keys', true, f.content, sha256(f.content),
			length(f.content), '[]', 384, 'bench', now() - (365 - v * 365 / %[1]d) * interval '1 day',
			now() - (366 - (v + 1) * 365 / %[1]d) * interval '1 day'
		FROM logins l, generate_series(0, %[1]d - 1) v,
			LATERAL (SELECT convert_to(string_agg('ssh-ed25519 ' || encode(
				decode('0000000b7373682d6564323535313900000020', 'hex') || sha256((l.id::text || k)::bytea), 'base64'
			) || ' key-' || k, E'\n'), 'UTF8') AS content FROM generate_series(v, v + %[2]d - 1) k) f`,
			changesAYear, keysInAFile),
		"VACUUM ANALYZE",
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return 0, fmt.Errorf("%.40s: %w", statement, err)
		}
	}
	err = conn.QueryRow(ctx, "SELECT pg_database_size(current_database())").Scan(&size)
	return size, err
}
