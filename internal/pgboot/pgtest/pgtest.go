// Package pgtest gives tests a real PostgreSQL: one server for a test binary,
// one database for a test.
package pgtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/pgboot"
)

var (
	server *pgboot.Server
	count  atomic.Int64
)

// Main runs the tests of a package with a server. Call it from TestMain.
func Main(m *testing.M) {
	code, err := run(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 1
	}
	os.Exit(code)
}

func run(m *testing.M) (int, error) {
	// The user postgres must be able to reach the folder.
	dir, err := os.MkdirTemp("", "plumlatch-test-*")
	if err != nil {
		return 1, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return 1, err
	}
	if server, err = pgboot.Start(context.Background(), pgboot.Options{Dir: dir, Fast: true}); err != nil {
		return 1, err
	}
	defer server.Stop()
	return m.Run(), nil
}

// Database makes an empty database and returns its owner's URL.
func Database(t testing.TB) string {
	owner, _ := Databases(t)
	return owner
}

// Databases makes an empty database and returns the URLs for its owner and for the role
// of a service.
func Databases(t testing.TB) (owner, service string) {
	t.Helper()
	ctx := t.Context()
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("test_%d", count.Add(1))
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	var urls []string
	for _, of := range []string{server.URL, server.ServiceURL} {
		u, err := url.Parse(of)
		if err != nil {
			t.Fatal(err)
		}
		u.Path = "/" + name
		urls = append(urls, u.String())
	}
	return urls[0], urls[1]
}
