package main

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/store"
)

// A charter of so many keys over so many logins, each of which so many of them open.
const (
	charteredKeys   = 500
	charteredLogins = 10_000
	keysEach        = 10
)

// charters measures how long the service takes to compare a charter with what there is, beside the time in which a
// script only fetches the grants that it would have to compare by itself.
func charters(ctx context.Context, dir, database string) error {
	if err := fillChartered(ctx, database); err != nil {
		return err
	}
	s, err := startServiceWith(dir, database, "-cloud", "http://127.0.0.1:1")
	if err != nil {
		return err
	}
	defer s.process.Stop(20 * time.Second)
	var file strings.Builder
	file.WriteString("charter: all\naccess:\n")
	for n := range charteredKeys {
		fmt.Fprintf(
			&file,
			"- who: {keys: key-%06d}\n  logins: [\"debian@node-*%03d\", \"debian@node-*%03d\"]\n",
			n,
			n,
			(n+1)%1000,
		)
	}
	body := map[string]any{"files": []map[string]string{{"path": "all.yaml", "content": file.String()}}}
	var took []time.Duration
	changes := 0
	for range 5 {
		var c struct {
			Changes []struct{} `json:"changes"`
			Flaws   []struct{} `json:"flaws"`
		}
		begun := time.Now()
		if err := s.post(ctx, "/api/v1/charter-comparisons", body, &c); err != nil {
			return err
		}
		took = append(took, time.Since(begun))
		if changes = len(c.Changes); changes == 0 || len(c.Flaws) > 0 {
			return fmt.Errorf("%d changes, %d flaws", changes, len(c.Flaws))
		}
	}
	begun, fetched := time.Now(), 0
	for after := ""; ; {
		var page struct {
			Items []struct{} `json:"items"`
			Next  string     `json:"next"`
		}
		if err := s.get(ctx, "/api/v1/grants?limit=500&after="+url.QueryEscape(after), &page); err != nil {
			return err
		}
		fetched += len(page.Items)
		if after = page.Next; after == "" {
			break
		}
	}
	bare := time.Since(begun)
	slices.Sort(took)
	fmt.Printf(
		"| a charter of %d keys compared with %d logins and %d grants by the API, %d changes, 5 times | %.2f to %.2f s |\n",
		charteredKeys, charteredLogins, fetched, changes, took[0].Seconds(), took[len(took)-1].Seconds(),
	)
	fmt.Printf(
		"| fetching the %d grants page by page, as a script would before it compares | %.2f s, %.1f times as long |\n",
		fetched, bare.Seconds(), bare.Seconds()/took[len(took)/2].Seconds(),
	)
	return nil
}

// fillChartered records keys, logins and grants of their own, in the place of what is there.
func fillChartered(ctx context.Context, database string) error {
	s, err := store.Open(ctx, database)
	if err != nil {
		return err
	}
	defer s.Close()
	now := time.Now()
	if _, err := s.Pool().Exec(ctx, "TRUNCATE keys, instances CASCADE"); err != nil {
		return err
	}
	if _, err := s.Pool().CopyFrom(
		ctx, pgx.Identifier{"keys"}, keyColumns,
		pgx.CopyFromSlice(charteredKeys, func(n int) ([]any, error) { return keyRow(n, now), nil }),
	); err != nil {
		return err
	}
	for _, q := range []string{
		fmt.Sprintf(`INSERT INTO instances (id, name, cloud_id, state, image, size, zone, region, login_user, private_address,
				public_address, ssh_port, static_address, temporary_gib, key_label, labels, created_at, created_by)
			SELECT gen_random_uuid(), 'node-' || lpad(n::text, 6, '0'), 'i-' || n, 'running', 'debian-12', 'small', 'a', 'a',
				'debian', '10.0.0.1', '198.51.100.1', 22, false, 0, '', '{}', now(), 'bench'
			FROM generate_series(0, %d) n`, charteredLogins-1),
		`INSERT INTO logins (id, instance_id, os_user, swept_at) 
			SELECT gen_random_uuid(), id, 'debian', now() FROM instances`,
		fmt.Sprintf(`INSERT INTO grants (id, key_id, login_id, granted_at, granted_by, reason)
			SELECT gen_random_uuid(), k.id, l.id, now(), 'bench', 'bench' FROM logins l
			JOIN instances i ON i.id = l.instance_id, generate_series(0, %d) g
			JOIN keys k ON true WHERE k.name = 'key-' || lpad((((substr(i.name, 6)::int) * 7 + g) %% %d)::text, 6, '0')`,
			keysEach-1, charteredKeys),
		`INSERT INTO sightings (login_id, key_id, seen_at, method, present)
			SELECT login_id, key_id, now(), 'bench', true FROM grants`,
		"ANALYZE",
	} {
		if _, err := s.Pool().Exec(ctx, q); err != nil {
			return fmt.Errorf("%.60s: %w", q, err)
		}
	}
	return nil
}
