// Package pgtest gives tests a real PostgreSQL: one server for a test binary,
// one database for a test.
package pgtest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/pgboot"
)

var (
	server *pgboot.Server
	count  atomic.Int64
	// model is the database that others are copied from.
	model string
)

// Main runs the tests of a package with a server, on which prepare readies a database once:
// each test gets a copy. Call it from TestMain.
func Main(m *testing.M, prepare func(ctx context.Context, owner, service string) error) {
	if err := run(m, prepare); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(m *testing.M, prepare func(ctx context.Context, owner, service string) error) error {
	// The user postgres must be able to reach the folder.
	dir, err := os.MkdirTemp("", "plumlatch-test-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	if server, err = pgboot.Start(context.Background(), pgboot.Options{Dir: dir, Fast: true}); err != nil {
		return err
	}
	defer server.Stop()
	ctx := context.Background()
	owner, service, err := newDatabase(ctx, "")
	if err == nil {
		err = prepare(ctx, owner, service)
	}
	if err != nil {
		return err
	}
	u, err := url.Parse(owner)
	if err != nil {
		return err
	}
	model = strings.TrimPrefix(u.Path, "/")
	m.Run() // whoever calls TestMain exits with what it gave
	return nil
}

// Database makes a copy of the prepared database and returns its owner's URL.
func Database(t testing.TB) string {
	owner, _ := Databases(t)
	return owner
}

// Databases makes a copy of the prepared database and returns the URLs for its owner and for
// the role of a service.
func Databases(t testing.TB) (owner, service string) {
	t.Helper()
	return databases(t, model)
}

// Empty makes an empty database and returns the URLs for its owner and for the role of a
// service.
func Empty(t testing.TB) (owner, service string) {
	t.Helper()
	return databases(t, "")
}

func databases(t testing.TB, from string) (owner, service string) {
	t.Helper()
	Turn(t)
	owner, service, err := newDatabase(t.Context(), from)
	if err != nil {
		t.Fatal(err)
	}
	return owner, service
}

func newDatabase(ctx context.Context, from string) (owner, service string, err error) {
	conn, err := pgx.Connect(ctx, server.URL)
	if err != nil {
		return "", "", err
	}
	defer conn.Close(ctx)
	name := fmt.Sprintf("test_%d", count.Add(1))
	statement := "CREATE DATABASE " + name
	if from != "" {
		statement += " TEMPLATE " + from
	}
	if _, err := conn.Exec(ctx, statement); err != nil {
		return "", "", err
	}
	var urls []string
	for _, of := range []string{server.URL, server.ServiceURL} {
		u, err := url.Parse(of)
		if err != nil {
			return "", "", err
		}
		u.Path = "/" + name
		urls = append(urls, u.String())
	}
	return urls[0], urls[1], nil
}
