package store

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
)

// oldLogin records an instance and its login, as the version of the schema before former lines has them.
const oldLogin = `INSERT INTO instances (id, name, cloud_id, state, image, size, zone, region, login_user,
		private_address, public_address, ssh_port, static_address, temporary_gib, key_label, labels, created_at, created_by)
	VALUES ($1, 'door', 'i-1', 'running', 'debian-12', 'small', 'z', 'r', 'debian', '', '192.0.2.1', 22, false, 0, '',
		'{}', now(), 'ines')`

// TestKeysThatWereGoneBeforeTheUpgradeAreFoundAfterIt has versions of a file, with lines that are no keys among them.
func TestKeysThatWereGoneBeforeTheUpgradeAreFoundAfterIt(t *testing.T) {
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
	if _, err := earlier.UpTo(ctx, 28); err != nil {
		t.Fatal(err)
	}
	blob := func(n byte) []byte {
		return append([]byte("\x00\x00\x00\x0bssh-ed25519\x00\x00\x00\x20"), append(make([]byte, 31), n)...)
	}
	line := func(n byte) string { return "ssh-ed25519 " + base64.StdEncoding.EncodeToString(blob(n)) }
	login := uuid.New()
	instance := uuid.New()
	if _, err := pool.Exec(ctx, oldLogin, instance); err != nil {
		t.Fatal(err)
	}
	if _, err := pool.Exec(
		ctx, "INSERT INTO logins (id, instance_id, os_user) VALUES ($1, $2, 'debian')", login, instance,
	); err != nil {
		t.Fatal(err)
	}
	begin := time.Now().AddDate(0, 0, -10).Truncate(time.Second)
	for n, content := range []string{
		line(1) + " mallory\n" + line(2) + "\n\xff\xfe AAAA= AAA AAAAA x AAAA===\nssh-rsa AAAAB3\n",
		line(2) + " stays\n",
	} {
		at := begin.AddDate(0, 0, n)
		if _, err := pool.Exec(
			ctx, `INSERT INTO file_versions (id, login_id, path, there, content, digest, bytes, exposed, mode, method, seen_at,
				seen_until) VALUES ($1, $2, '/k', true, $3, '', 0, '[]', 384, 'm', $4, $4)`,
			uuid.New(), login, []byte(content), at,
		); err != nil {
			t.Fatal(err)
		}
	}
	pool.Close()
	s, err := Open(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	sum, other := sha256.Sum256(blob(1)), md5.Sum(blob(1))
	for kind, digest := range map[string][]byte{"sha256": sum[:], "md5": other[:]} {
		found, err := s.FormerLinesWith(ctx, kind, digest, 10)
		if err != nil || len(found) != 1 || found[0].InstanceName != "door" || !found[0].SeenAt.Equal(begin) ||
			!found[0].GoneBy.Equal(begin.AddDate(0, 0, 1)) {
			t.Errorf("by %s: %+v %v", kind, found, err)
		}
	}
	stays := sha256.Sum256(blob(2))
	if found, err := s.FormerLinesWith(ctx, "sha256", stays[:], 10); err != nil || len(found) != 0 {
		t.Errorf("a key that stays: %+v %v", found, err)
	}
	// A machine whose file is another at each reading does not fill the database.
	for part := range 3 {
		lines := make([]record.FormerLine, FormerLinesKept)
		for n := range lines {
			digest := sha256.Sum256(binary.BigEndian.AppendUint32(nil, uint32(part*FormerLinesKept+n)))
			lines[n] = record.FormerLine{
				LoginID: login, Path: fmt.Sprintf("/k%d", n%3), SHA256: digest[:], MD5: digest[:16],
				SeenAt: begin, GoneBy: begin.AddDate(0, 0, 5+part),
			}
		}
		if err := s.PutFormerLines(ctx, lines); err != nil {
			t.Fatal(err)
		}
	}
	var kept int
	var first time.Time
	if err := s.Pool().QueryRow(
		ctx, "SELECT count(*), min(gone_by) FROM former_lines WHERE login_id = $1", login,
	).Scan(&kept, &first); err != nil || kept != FormerLinesKept || !first.Equal(begin.AddDate(0, 0, 7)) {
		t.Errorf("%d are kept, the first gone by %s: %v", kept, first, err)
	}
}
