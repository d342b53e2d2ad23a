package store

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/daybook"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
)

// TestWhatEarlierVersionsKeptOfAPrivateKeyIsRemoved has a database from before the bounds with
// a pasted private key in a version of a file and in the daybook.
func TestWhatEarlierVersionsKeptOfAPrivateKeyIsRemoved(t *testing.T) {
	ctx := t.Context()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "warden")
	if err != nil {
		t.Fatal(err)
	}
	secret := string(pem.EncodeToMemory(block))
	lines := strings.Split(strings.TrimSpace(secret), "\n")
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	public := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))

	url, _ := pgtest.Empty(t)
	pool, err := connect(ctx, url, 2, false)
	if err != nil {
		t.Fatal(err)
	}
	earlier, err := schema(pool)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := earlier.UpTo(ctx, 13); err != nil {
		t.Fatal(err)
	}
	entries := make([]record.Entry, 5)
	for n := range entries {
		entries[n] = record.Entry{
			At:          time.Now(),
			Person:      "ines",
			Via:         "service",
			Action:      "login.changed",
			SubjectKind: "login",
			Subject:     "warden@hide-cam-2",
			Outcome:     "done",
			Sentence:    "The file is not as it was.",
			Details:     map[string]any{"came": []any{public}, "went": []any{}},
		}
	}
	came := []any{}
	for _, l := range lines {
		came = append(came, l)
	}
	entries[2].Details["came"] = came
	if err := link(record.Entry{}, entries); err != nil {
		t.Fatal(err)
	}
	instance, login := uuid.Must(uuid.NewV7()), uuid.Must(uuid.NewV7())
	for _, e := range entries {
		details, err := json.Marshal(e.Details)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := pool.Exec(ctx, `INSERT INTO daybook (seq, at, person, via, action, subject_kind, subject, about, why,
			outcome, sentence, details, request_id, prev_hash, hash)
			VALUES ($1, $2, $3, $4, $5, $6, $7, '[]', '', $8, $9, $10, '', $11,
				$12)`, e.Seq, e.At, e.Person, e.Via, e.Action, e.SubjectKind, e.Subject,
			e.Outcome, e.Sentence, string(details), e.PrevHash, e.Hash); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := pool.Exec(ctx, `INSERT INTO instances (id, name, cloud_id, state, image, size, zone, region, login_user,
		private_address, public_address, ssh_port, static_address, temporary_gib, key_label, labels, created_at, created_by)
		VALUES ($1, 'hide-cam-2', '', 'running', '', '', '', '', 'warden', '', '', 22, false, 0, '', '{}', now(),
			'ines')`, instance); err != nil {
		t.Fatal(err)
	}
	if _, err := pool.Exec(
		ctx, "INSERT INTO logins (id, instance_id, os_user) VALUES ($1, $2, 'warden')", login, instance,
	); err != nil {
		t.Fatal(err)
	}
	for n, content := range []string{public + "\n", public + "\n" + secret} {
		if _, err := pool.Exec(ctx, `INSERT INTO file_versions (id, login_id, path, there, content, mode, method, seen_at,
			seen_until)
			VALUES ($1, $2, '/home/warden/.ssh/authorized_keys', true, $3, 384, '', now() + $4 * interval '1 hour',
				now())`, uuid.Must(uuid.NewV7()), login, []byte(content), n); err != nil {
			t.Fatal(err)
		}
	}
	pool.Close()

	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	versions, err := s.Versions(ctx, login, 10)
	if err != nil || len(versions) != 2 {
		t.Fatalf("%d versions are left, want 2: %v", len(versions), err)
	}
	if string(versions[1].Content) != public+"\n" || len(versions[1].Exposed) != 0 {
		t.Errorf("a version without a private key became %q with %v", versions[1].Content, versions[1].Exposed)
	}
	if want := ssh.FingerprintSHA256(signer.PublicKey()); len(versions[0].Exposed) != 1 ||
		versions[0].Exposed[0].Public != want {
		t.Errorf("exposed are %+v, want the key %s", versions[0].Exposed, want)
	}
	all, err := s.EntriesAfter(ctx, record.EntryFilter{}, 0, 100)
	if err != nil || len(all) != 6 {
		t.Fatalf("the daybook has %d entries, want 6: %v", len(all), err)
	}
	var c daybook.Checker
	for _, e := range all {
		if err := c.Add(e.Linked()); err != nil {
			t.Fatal(err)
		}
	}
	if err := c.End(); err != nil || !slices.Equal(c.Redacted(), []int64{3}) {
		t.Errorf("the check says %v and redacted %v, want nil and entry 3", err, c.Redacted())
	}
	for _, table := range []string{"file_versions", "daybook"} {
		var found int
		for _, l := range lines[1 : len(lines)-1] {
			part := l[:min(len(l), 20)]
			if len(part) < 20 {
				continue // a few letters are in anything
			}
			var n int
			if err := s.Pool().QueryRow(
				ctx,
				"SELECT count(*) FROM "+table+" t WHERE t::text LIKE '%' || $1 || '%' OR position($2 IN t::text) > 0", part,
				hexOf(part),
			).Scan(&n); err != nil {
				t.Fatal(err)
			}
			found += n
		}
		if found > 0 {
			t.Errorf("%d rows of %s still hold a part of the private key", found, table)
		}
	}
	if _, err := s.Pool().Exec(ctx, "UPDATE daybook SET sentence = 'x' WHERE seq = 1"); err == nil {
		t.Error("the daybook can be changed after the migration")
	}
	if kept, exposed := authorizedkeys.Parse(versions[0].Content).Keep(); len(exposed) != 0 ||
		string(kept) != string(versions[0].Content) {
		t.Errorf("what is kept is found again as exposed: %v", exposed)
	}
}

func hexOf(s string) string {
	const digits = "0123456789abcdef"
	var b strings.Builder
	for i := range len(s) {
		b.WriteByte(digits[s[i]>>4])
		b.WriteByte(digits[s[i]&15])
	}
	return b.String()
}
