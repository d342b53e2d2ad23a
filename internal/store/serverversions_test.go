package store_test

import (
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reading"
	"plumlatch/internal/record"
)

// mostVersions is how many are kept of a login.
const mostVersions = 500

// TestSettingsAreKeptAsTheyWereBeforeTheyChanged puts the settings of a server as they were read time and again.
func TestSettingsAreKeptAsTheyWereBeforeTheyChanged(t *testing.T) {
	ctx := t.Context()
	s := open(t)
	_, l := addInstance(t, s, "door")
	login := l.ID
	begin := time.Now().AddDate(0, 0, -20).Truncate(time.Second)
	day := func(n int) time.Time { return begin.AddDate(0, 0, n) }
	put := func(n int, program string) {
		t.Helper()
		err := s.PutServers(ctx, []record.LoginServer{
			{LoginID: login, Server: reading.Server{KeysCommand: program}, ReadAt: day(n)},
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	put(0, "")
	put(1, "")
	put(2, "/opt/names")
	put(1, "/too/late") // a reading that was slow
	put(3, "/opt/names")
	put(4, "")
	all, err := s.AllServers(ctx, []uuid.UUID{login})
	if err != nil {
		t.Fatal(err)
	}
	want := []struct {
		program     string
		since, read int
	}{{"", 0, 1}, {"/opt/names", 2, 3}, {"", 4, 4}}
	if len(all[login]) != len(want) {
		t.Fatalf("%d versions, want %d: %+v", len(all[login]), len(want), all[login])
	}
	for n, w := range want {
		if v := all[login][n]; v.Server.KeysCommand != w.program || !v.Since.Equal(day(w.since)) ||
			!v.ReadAt.Equal(day(w.read)) {
			t.Errorf("version %d is %+v, want %+v", n, v, w)
		}
	}
	// A machine that is another each time fills nothing.
	for n := range mostVersions + 20 {
		put(5+n, string(rune('a'+n%2)))
	}
	if all, err = s.AllServers(ctx, []uuid.UUID{login}); err != nil || len(all[login]) != mostVersions+1 {
		t.Errorf("%d versions are kept: %v", len(all[login]), err)
	}
	if _, err := s.ForgetReadings(ctx, day(5+mostVersions), 1000); err != nil {
		t.Fatal(err)
	}
	if all, err = s.AllServers(ctx, []uuid.UUID{login}); err != nil || len(all[login]) != 20 {
		t.Errorf("%d versions are left of those that are to be kept: %v", len(all[login]), err)
	}
}
