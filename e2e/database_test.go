package e2e

import (
	"net/url"
	"os"
	"strconv"
	"testing"

	"plumlatch/internal/pgboot"
)

// database is a PostgreSQL of one test's own, to be stopped and started again
// at the same address.
type database struct {
	*pgboot.Server
	options pgboot.Options
}

func startDatabase(t *testing.T) *database {
	t.Helper()
	dir, err := os.MkdirTemp("", "plumlatch-database-*")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	d := &database{options: pgboot.Options{Dir: dir, Fast: true}}
	d.start(t)
	t.Cleanup(func() { d.stop(t) })
	u, err := url.Parse(d.URL)
	if err != nil {
		t.Fatal(err)
	}
	if d.options.Port, err = strconv.Atoi(u.Port()); err != nil {
		t.Fatal(err)
	}
	return d
}

// house is a house on the database, in which ines is signed in.
func (d *database) house(t *testing.T, latency string) *house {
	t.Helper()
	if err := makeFirstAdmin(t.Context(), d.URL, d.ServiceURL); err != nil {
		t.Fatal(err)
	}
	h := newHouseOn(t, latency, d.URL, d.ServiceURL)
	h.token = h.signIn("ines", password)
	return h
}

func (d *database) start(t *testing.T) {
	t.Helper()
	var err error
	if d.Server, err = pgboot.Start(t.Context(), d.options); err != nil {
		t.Fatal(err)
	}
}

func (d *database) stop(t *testing.T) {
	t.Helper()
	if err := d.Stop(); err != nil {
		t.Fatal(err)
	}
}
