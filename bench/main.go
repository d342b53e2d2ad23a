// Command bench measures what the product promises about speed, on the machine
// that it runs on, and prints a table. It judges nothing. Each figure that has an
// everyday alternative is measured beside it in the same run.
package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"plumlatch/internal/child"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/pgboot"
	"plumlatch/internal/store"
)

const (
	many  = 100_000 // keys, and instances
	calls = 300     // of each kind

	sightingsEach = 5
)

func main() {
	only := flag.String(
		"only",
		"",
		"measure `this` alone: fleet, which is sweeps and rotations, restore, daybook, limits, past, clouds, "+
			"charters, or held, "+
			"which is a "+
			"viewer "+
			"who has many requests open",
	)
	flag.Parse()
	if err := run(context.Background(), *only); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, only string) error {
	dir, err := os.MkdirTemp("", "plumlatch-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	database, err := pgboot.Start(ctx, pgboot.Options{Dir: dir})
	if err != nil {
		return err
	}
	defer database.Stop()
	fmt.Println("| what | measured |\n| --- | --- |")
	if err := firstAdmin(dir, database.URL); err != nil {
		return err
	}
	switch only {
	case "fleet":
		return ofFleet(ctx, dir, database.URL)
	case "restore":
		return restores(ctx, dir, database.URL)
	case "daybook":
		return daybooks(ctx, database.URL)
	case "limits":
		return limitsAlone(ctx, dir, database.URL)
	case "held":
		return heldUp(ctx, dir, database.URL)
	case "past":
		return past(ctx, dir, database.URL)
	case "clouds":
		return readClouds(ctx, dir, database.URL)
	case "charters":
		return charters(ctx, dir, database.URL)
	}
	empty, err := startServiceWith(dir, database.URL, "-cloud", "http://127.0.0.1:1")
	if err != nil {
		return err
	}
	listed, err := importList(empty, dir)
	if err := errors.Join(err, empty.process.Stop(10*time.Second)); err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "recording %d keys and %d instances\n", many, many)
	blob, err := fill(ctx, database.URL)
	if err != nil {
		return err
	}
	s, err := startServiceWith(dir, database.URL, "-cloud", "http://127.0.0.1:1")
	if err != nil {
		return err
	}
	defer s.process.Stop(10 * time.Second)
	fmt.Printf("| service ready after its start, %d instances in the database | %.0f ms |\n", many, s.ready.Seconds()*1000)
	medians := map[string]time.Duration{}
	for _, c := range []struct{ what, path string }{
		{"key list, first page", "/api/v1/keys"},
		{"key list, a page from the middle", "/api/v1/keys?after=" + cursor("key-050000")},
		{"key list, searched", "/api/v1/keys?q=0777"},
		{"key list, by label, newest first", "/api/v1/keys?label=team%3D7&sort=-created"},
		{"instance list, first page", "/api/v1/instances"},
		{"openers of an instance", "/api/v1/instances/node-%06d/openers"},
		{"opens of a key", "/api/v1/keys/key-%06d/opens"},
	} {
		times, err := s.measure(c.path, `"items"`)
		if err != nil {
			return err
		}
		medians[c.what] = times[len(times)/2]
		fmt.Printf(
			"| %s, %d calls | median %.1f ms, 95 %% within %.1f ms |\n", c.what, calls, ms(times[len(times)/2]),
			ms(times[len(times)*95/100]),
		)
	}
	if err := reachOfAll(ctx, s); err != nil {
		return err
	}
	if err := limits(ctx, s, dir); err != nil {
		return err
	}
	grep, err := searchFiles(dir, blob)
	if err != nil {
		return err
	}
	fmt.Printf(
		"| the same as \"opens of a key\" with grep over %d authorized_keys files on this disk | %.0f ms, %.0f times as "+
			"long |\n",
		many,
		ms(grep),
		float64(grep)/float64(medians["opens of a key"]),
	)
	if err := traceAmong(ctx, s, dir, database.URL, listed); err != nil {
		return err
	}
	if err := s.process.Stop(10 * time.Second); err != nil {
		return err
	}
	if err := ofFleet(ctx, dir, database.URL); err != nil {
		return err
	}
	if err := restores(ctx, dir, database.URL); err != nil {
		return err
	}
	if err := daybooks(ctx, database.URL); err != nil {
		return err
	}
	if err := heldUp(ctx, dir, database.URL); err != nil {
		return err
	}
	if err := past(ctx, dir, database.URL); err != nil {
		return err
	}
	if err := readClouds(ctx, dir, database.URL); err != nil {
		return err
	}
	if err := charters(ctx, dir, database.URL); err != nil {
		return err
	}
	size, err := firstLoad()
	if err != nil {
		return err
	}
	fmt.Printf("| the console's built files, gzip, all of them | %.0f kB |\n", float64(size)/1000)
	return nil
}

// ofFleet measures what is done over SSH to stand-in instances.
func ofFleet(ctx context.Context, dir, database string) error {
	f, err := launchFleet(ctx, dir, database)
	if f != nil {
		defer f.stop()
	}
	if err != nil {
		return err
	}
	if err := f.sweeps(ctx); err != nil {
		return err
	}
	return f.rotations(ctx, dir)
}

func ms(d time.Duration) float64 { return d.Seconds() * 1000 }

// cursor is what a page gives as next when its last key has the name.
func cursor(name string) string { return encode(`["` + name + `"]`) }

func id(kind byte, n int) uuid.UUID {
	var u uuid.UUID
	u[0], u[6], u[8] = kind, 0x70, 0x80
	binary.BigEndian.PutUint32(u[12:], uint32(n))
	return u
}

// numbered is the made-up key n of a family.
func numbered(family byte, n int) keypair.Public {
	sum := sha256.Sum256(binary.BigEndian.AppendUint32([]byte{family}, uint32(n)))
	var blob []byte
	for _, p := range [][]byte{[]byte("ssh-ed25519"), sum[:]} {
		blob = append(binary.BigEndian.AppendUint32(blob, uint32(len(p))), p...)
	}
	return keypair.Public{
		Type:      keypair.Ed25519,
		Algorithm: "ssh-ed25519",
		Bits:      256,
		Blob:      blob,
		Comment:   fmt.Sprintf("person%d@laptop", n%500),
	}
}

var keyColumns = []string{
	"id",
	"name",
	"type",
	"algorithm",
	"bits",
	"blob",
	"sha256",
	"md5",
	"spki_md5",
	"comment",
	"purpose",
	"labels",
	"custody",
	"origin",
	"state",
	"created_at",
	"created_by",
}

func keyRow(n int, now time.Time) []any {
	p := numbered('k', n)
	return []any{
		id(1, n),
		fmt.Sprintf("key-%06d", n),
		p.Type,
		p.Algorithm,
		p.Bits,
		p.Blob,
		p.SHA256(),
		p.MD5(),
		p.SPKIMD5(),
		p.Comment,
		"bench",
		fmt.Sprintf(`{"team":"%d"}`, n%40),
		"holder",
		"import",
		"active",
		now.Add(-time.Duration(n) * time.Minute),
		"bench",
	}
}

// fillTable is rows of a table, one for each number.
type fillTable struct {
	table   string
	columns []string
	row     func(n int) []any
}

// fill records the keys and instances; key n is granted on the instances n and n+1.
func fill(ctx context.Context, url string) ([]byte, error) {
	s, err := store.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if _, err := s.Pool().Exec(ctx, "TRUNCATE keys CASCADE"); err != nil { // those of the list
		return nil, err
	}
	now := time.Now()
	copies := []fillTable{
		{"keys", keyColumns, func(n int) []any { return keyRow(n, now) }},
		{
			"instances",
			[]string{
				"id",
				"name",
				"cloud_id",
				"state",
				"image",
				"size",
				"zone",
				"region",
				"login_user",
				"private_address",
				"public_address",
				"ssh_port",
				"static_address",
				"temporary_gib",
				"key_label",
				"labels",
				"created_at",
				"created_by",
			},
			func(n int) []any {
				return []any{
					id(2, n),
					fmt.Sprintf("node-%06d", n),
					fmt.Sprint("i-", n),
					"running",
					"debian-12",
					"small",
					"north-shore-a",
					"north-shore",
					"debian",
					"10.0.0.1",
					fmt.Sprintf("198.51.%d.%d", n/256%256, n%256),
					22,
					false,
					0,
					"",
					fmt.Sprintf(`{"team":"%d"}`, n%40),
					now.Add(-time.Duration(n) * time.Minute),
					"bench",
				}
			},
		},
		{
			"logins",
			[]string{"id", "instance_id", "os_user"},
			func(n int) []any { return []any{id(3, n), id(2, n), "debian"} },
		},
		{"grants", []string{"id", "key_id", "login_id", "granted_at", "granted_by", "reason"}, func(n int) []any {
			return []any{id(4, n), id(1, n), id(3, n), now, "bench", "bench"}
		}},
		{"grants", []string{"id", "key_id", "login_id", "granted_at", "granted_by", "reason"}, func(n int) []any {
			return []any{id(5, n), id(1, n), id(3, (n+1)%many), now, "bench", "bench"}
		}},
	}
	// Five sightings for each login: of its two granted keys, and of three that nobody granted.
	for k := range sightingsEach {
		copies = append(
			copies,
			fillTable{"sightings", []string{"login_id", "key_id", "seen_at", "method", "present"}, func(n int) []any {
				return []any{id(3, n), id(1, (n+many-1+k)%many), now, "bench", true}
			}},
		)
	}
	for _, c := range copies {
		if _, err := s.Pool().CopyFrom(
			ctx,
			pgx.Identifier{c.table},
			c.columns,
			pgx.CopyFromSlice(many, func(n int) ([]any, error) { return c.row(n), nil }),
		); err != nil {
			return nil, fmt.Errorf("%s: %w", c.table, err)
		}
	}
	_, err = s.Pool().Exec(ctx, "ANALYZE")
	return numbered('k', many/2).Blob, err
}

type service struct {
	process *child.Process
	url     string
	token   string
	ready   time.Duration
}

// firstAdmin makes the account that the bench signs in with, and the cloud's token.
func firstAdmin(dir, database string) error {
	if err := os.WriteFile(filepath.Join(dir, "cloud.token"), []byte(rand.Text()), 0o600); err != nil {
		return err
	}
	admin := exec.Command("bin/plumlatchd", "-database", database, "-first-admin", "bench")
	admin.Stdin = strings.NewReader(password)
	if out, err := admin.CombinedOutput(); err != nil {
		return fmt.Errorf("first admin: %w: %s", err, out)
	}
	return nil
}

// password is the bench's own, new for each run.
var password = rand.Text()

func startServiceWith(dir, database string, settings ...string) (*service, error) {
	begun := time.Now()
	process, url, err := startProgram(exec.Command(
		"bin/plumlatchd",
		append(
			[]string{
				"-database",
				database,
				"-cloud-token-file",
				filepath.Join(dir, "cloud.token"),
				"-listen",
				"127.0.0.1:0",
				"-allow-local-targets",
				"-requests-per-second",
				"0",
			},
			settings...)...))
	if err != nil {
		return nil, err
	}
	s := &service{process: process, url: url}
	resp, err := http.Get(s.url + "/readyz")
	if err != nil {
		return nil, err
	}
	resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("/readyz: %s", resp.Status)
	}
	s.ready = time.Since(begun)
	s.token, err = s.signedIn(dir, "bench")
	return s, err
}

// signedIn signs in and returns the token.
func (s *service) signedIn(dir, name string) (string, error) {
	signIn := exec.Command("bin/plumlatch", "sign-in", name, "-server", s.url)
	signIn.Env = append(os.Environ(), "HOME="+dir, "XDG_CONFIG_HOME=")
	signIn.Stdin = strings.NewReader(password)
	if out, err := signIn.CombinedOutput(); err != nil {
		return "", fmt.Errorf("sign in: %w: %s", err, out)
	}
	kept, err := os.ReadFile(filepath.Join(dir, ".config/plumlatch/sign-in.json"))
	return string(regexp.MustCompile(`plumlatch_[\w-]+`).Find(kept)), err
}

// reachOfAll measures the first page of the reach of all logins.
func reachOfAll(ctx context.Context, s *service) error {
	var times []time.Duration
	for range 9 {
		begun := time.Now()
		var page struct{ Total int }
		if err := s.get(ctx, "/api/v1/reach", &page); err != nil {
			return err
		}
		if page.Total != many {
			return fmt.Errorf("the reach is of %d logins", page.Total)
		}
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	fmt.Printf(
		"| reach of %d logins with %d sightings, first page by the API, %d calls | median %.2f s, all within %.2f s |\n",
		many, many*sightingsEach, len(times), times[len(times)/2].Seconds(), times[len(times)-1].Seconds(),
	)
	return nil
}

// measure makes the calls one after another, each for another number where the
// path has a place for one, and returns how long they took, in order. Each answer has to hold the text.
func (s *service) measure(path, holds string) ([]time.Duration, error) {
	var times []time.Duration
	for n := range calls {
		p := path
		if strings.Contains(p, "%06d") {
			p = fmt.Sprintf(p, (n*331)%many)
		}
		r, err := http.NewRequest("GET", s.url+p, nil)
		if err != nil {
			return nil, err
		}
		r.Header.Set("Authorization", "Bearer "+s.token)
		begun := time.Now()
		resp, err := http.DefaultClient.Do(r)
		if err != nil {
			return nil, err
		}
		body, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		if err != nil || resp.StatusCode != http.StatusOK || !bytes.Contains(body, []byte(holds)) {
			return nil, fmt.Errorf("%s: %s %s %w", p, resp.Status, body, err)
		}
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	return times, nil
}

// searchFiles does by hand what opens answers: it looks for a key in a copy of
// every authorized_keys file.
func searchFiles(dir string, blob []byte) (time.Duration, error) {
	root := filepath.Join(dir, "files")
	for n := range many {
		d := filepath.Join(root, fmt.Sprint(n/1000))
		if n%1000 == 0 {
			if err := os.MkdirAll(d, 0o755); err != nil {
				return 0, err
			}
		}
		text := fmt.Sprintf("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI%032d person%d@laptop\n", n, n)
		if err := os.WriteFile(filepath.Join(d, fmt.Sprintf("node-%06d", n)), []byte(text), 0o644); err != nil {
			return 0, err
		}
	}
	needle := keypair.Public{Algorithm: "ssh-ed25519", Blob: blob}.Line()
	var times []time.Duration
	for range 3 {
		begun := time.Now()
		exec.Command("grep", "-rlF", needle, root).Run() // status 1: found nothing, having read everything
		times = append(times, time.Since(begun))
	}
	slices.Sort(times)
	return times[1], nil
}
