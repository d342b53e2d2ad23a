package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/store"
)

// most is the number of keys among which one is traced.
const most = 1_000_000

// importList measures the import of a list of keys into an empty inventory, and
// returns what ssh-keygen prints of the same file.
func importList(s *service, dir string) ([]byte, error) {
	path := filepath.Join(dir, "list.pub")
	var text strings.Builder
	for n := range many {
		text.WriteString(numbered('l', n).Line() + "\n")
	}
	if err := os.WriteFile(path, []byte(text.String()), 0o600); err != nil {
		return nil, err
	}
	begun := time.Now()
	listed, err := exec.Command("ssh-keygen", "-l", "-f", path).Output()
	if err != nil {
		return nil, fmt.Errorf("ssh-keygen -l: %w", err)
	}
	print := time.Since(begun)
	fmt.Fprintf(os.Stderr, "importing %d keys\n", many)
	cmd := exec.Command("bin/plumlatch", "key", "import", "listed", "-list", path, "-yes")
	cmd.Env = append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME=", "PLUMLATCH_URL="+s.url, "PLUMLATCH_TOKEN="+s.token)
	begun = time.Now()
	out, err := cmd.CombinedOutput()
	took := time.Since(begun)
	if err != nil || !bytes.Contains(out, fmt.Appendf(nil, "%d recorded", many)) {
		return nil, fmt.Errorf("import: %w: %s", err, out)
	}
	fmt.Printf(
		"| import of %d keys from one file by the client, into an empty inventory | %.1f s, %.0f keys a second |\n",
		many, took.Seconds(), many/took.Seconds(),
	)
	fmt.Printf(
		"| only printing the fingerprints of the same file with ssh-keygen -l, recording nothing | %.1f s |\n",
		print.Seconds(),
	)
	return listed, nil
}

// traceAmong measures a trace with the inventory grown to a million keys.
func traceAmong(ctx context.Context, s *service, dir, database string, listed []byte) error {
	if err := grow(ctx, database); err != nil {
		return err
	}
	return traces(s, dir, listed)
}

// grow brings the inventory to most keys, beside those of the list.
func grow(ctx context.Context, database string) error {
	fmt.Fprintf(os.Stderr, "recording %d keys more\n", most-many)
	st, err := store.Open(ctx, database)
	if err != nil {
		return err
	}
	defer st.Close()
	now := time.Now()
	if _, err := st.Pool().CopyFrom(
		ctx,
		pgx.Identifier{"keys"},
		keyColumns,
		pgx.CopyFromSlice(most-many, func(n int) ([]any, error) { return keyRow(many+n, now), nil }),
	); err != nil {
		return err
	}
	_, err = st.Pool().Exec(ctx, "ANALYZE")
	return err
}

// traces measures a trace by each notation, and the search for a fingerprint in
// a text file of as many lines, as ssh-keygen -l prints them.
func traces(s *service, dir string, listed []byte) error {
	for _, notation := range []struct {
		name string
		text func(keypair.Public) string
	}{
		{"its SHA-256 fingerprint", func(p keypair.Public) string { return keypair.FormatSHA256(p.SHA256()) }},
		{"the MD5 of its SPKI DER", func(p keypair.Public) string { return keypair.FormatHex(p.SPKIMD5()) }},
		{"its public key", keypair.Public.Line},
	} {
		var times []time.Duration
		for n := range calls {
			body, err := json.Marshal(map[string]string{"text": notation.text(numbered('k', n*3331%most))})
			if err != nil {
				return err
			}
			r, err := http.NewRequest("POST", s.url+"/api/v1/traces", bytes.NewReader(body))
			if err != nil {
				return err
			}
			r.Header.Set("Authorization", "Bearer "+s.token)
			r.Header.Set("Content-Type", "application/json")
			begun := time.Now()
			resp, err := http.DefaultClient.Do(r)
			if err != nil {
				return err
			}
			found, err := io.ReadAll(resp.Body)
			resp.Body.Close()
			if err != nil || !bytes.Contains(found, fmt.Appendf(nil, `"key-%06d"`, n*3331%most)) {
				return fmt.Errorf("trace %s: %s %s %w", body, resp.Status, found, err)
			}
			times = append(times, time.Since(begun))
		}
		slices.Sort(times)
		fmt.Printf(
			"| trace of a key among %d by %s, %d calls | median %.1f ms, 95 %% within %.1f ms |\n", most+many,
			notation.name, calls, ms(times[len(times)/2]), ms(times[len(times)*95/100]),
		)
	}
	path := filepath.Join(dir, "fingerprints.txt")
	if err := os.WriteFile(path, bytes.Repeat(listed, most/many), 0o600); err != nil {
		return err
	}
	begun := time.Now()
	exec.Command("grep", "-F", "no such fingerprint", path).Run() // status 1: found nothing, having read everything
	fmt.Printf(
		"| searching a prepared text file of %d fingerprints with grep, one notation only | %.1f ms |\n", most,
		ms(time.Since(begun)),
	)
	return nil
}
