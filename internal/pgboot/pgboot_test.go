package pgboot

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

func folder(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "plumlatch-pgboot-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func start(t *testing.T, dir string) *Server {
	t.Helper()
	s, err := Start(t.Context(), Options{Dir: dir, Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func ask(t *testing.T, url, query string) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	var answer string
	if err := conn.QueryRow(t.Context(), query).Scan(&answer); err != nil {
		t.Fatal(err)
	}
	return answer
}

func TestDataOutlivesAStopAndOnlyLoopbackIsListenedOn(t *testing.T) {
	dir := folder(t)
	s := start(t, dir)
	conn, err := pgx.Connect(t.Context(), s.URL)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := conn.Exec(t.Context(), "CREATE TABLE kept AS SELECT 'a tern'::text AS bird"); err != nil {
		t.Fatal(err)
	}
	conn.Close(t.Context())
	if got := ask(t, s.URL, "SHOW listen_addresses"); got != "127.0.0.1" {
		t.Errorf("it listens on %s", got)
	}
	if err := s.Stop(); err != nil {
		t.Fatal(err)
	}
	s = start(t, dir)
	defer s.Stop()
	if got := ask(t, s.URL, "SELECT bird FROM kept"); got != "a tern" {
		t.Errorf("kept: %s", got)
	}
	info, err := os.Stat(filepath.Join(filepath.Dir(s.Cluster), "postgres.password"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the password file: %v %v", info, err)
	}
	if _, err := pgx.Connect(t.Context(), strings.Replace(s.URL, "plumlatch:", "plumlatch:wrong", 1)); err == nil {
		t.Error("a wrong password opens the database")
	}
}

func TestAnInitThatWasCutOffIsDoneAgain(t *testing.T) {
	dir := folder(t)
	if err := os.MkdirAll(filepath.Join(dir, "postgres.new", "base"), 0o700); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir)
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
}

func TestAFolderThatPostgresCannotReachGetsAClusterElsewhere(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs PostgreSQL as another user")
	}
	closed := folder(t)
	if err := os.Chmod(closed, 0o700); err != nil {
		t.Fatal(err)
	}
	s := start(t, filepath.Join(closed, "data"))
	defer os.RemoveAll(filepath.Dir(s.Cluster))
	if !strings.HasPrefix(s.Cluster, "/var/lib/plumlatch/") {
		t.Errorf("the cluster is in %s", s.Cluster)
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	select {
	case <-s.process.Done():
	case <-time.After(time.Second):
		t.Error("the server runs after Stop")
	}
}
