package reading_test

import (
	"encoding/hex"
	"math"
	"os"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/sshio/sshdtest"
)

// adopt brings a machine in, with a steward key that it takes like any other.
func adopt(r *servicetest.Rig, name string, m *sshdtest.Hostile) {
	r.T.Helper()
	a := fleet.Adopted{
		Name:      name,
		Address:   m.Address,
		Port:      m.Port,
		LoginUser: "warden",
		HostKeys:  []string{strings.TrimSpace(string(ssh.MarshalAuthorizedKey(m.HostKey)))},
	}
	if _, err := r.Fleet.Adopt(r.T.Context(), r.Ines, a); err != nil {
		r.T.Fatal(err)
	}
	granted, err := r.Access.AddSteward(r.T.Context(), r.Ines, name, "")
	if err != nil {
		r.T.Fatal(err)
	}
	for _, step := range []string{"place", "ask"} {
		if _, err := r.Runs.ReportStep(r.T.Context(), r.Ines, granted.Run.ID, step, "placed", ""); err != nil {
			r.T.Fatal(err)
		}
	}
}

// rowsWith returns the tables in which a row holds the text, as it is or as bytes.
func rowsWith(r *servicetest.Rig, text string) (tables []string) {
	r.T.Helper()
	rows, err := r.Store.Pool().
		Query(
			r.T.Context(),
			"SELECT format('%I.%I', schemaname, tablename) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', "+
				"'information_schema')",
		)
	if err != nil {
		r.T.Fatal(err)
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		r.T.Fatal(err)
	}
	for _, table := range all {
		var n int
		if err := r.Store.Pool().QueryRow(
			r.T.Context(),
			"SELECT count(*) FROM "+table+" t WHERE position($1 IN t::text) > 0 OR position($2 IN t::text) > 0", text,
			hex.EncodeToString([]byte(text)),
		).Scan(&n); err != nil {
			r.T.Fatal(err)
		}
		if n > 0 {
			tables = append(tables, table)
		}
	}
	return tables
}

// sweepOf has instances swept and returns how many logins came to each state.
func sweepOf(r *servicetest.Rig, names ...string) reading.SweepState {
	r.T.Helper()
	w, err := r.Reading.StartSweep(r.T.Context(), r.Ines, reading.SweepWanted{Instances: names})
	if err != nil {
		r.T.Fatal(err)
	}
	r.Until("the sweep", func() bool {
		w, err = r.Reading.Sweep(r.T.Context(), w.ID)
		return err == nil && w.EndedAt != nil
	})
	return w
}

// TestHostileMachinesAreSweptWithinBoundsAndSaid has machines that would have the service panic,
// fill its memory or never end, beside one that is as it should be.
func TestHostileMachinesAreSweptWithinBoundsAndSaid(t *testing.T) {
	r := servicetest.NewRig(t)
	const file = "/home/warden/.ssh/authorized_keys"
	full := strings.Repeat("# "+strings.Repeat("x", 120)+"\n", 8000)
	machines := map[string]sshdtest.Harm{
		"huge-size": {Files: map[string]sshdtest.HostileFile{file: {Size: math.MinInt64, Mode: 0o600}}},
		"endless": {
			Files: map[string]sshdtest.HostileFile{file: {Size: 100, Mode: 0o600, Content: "# more\n", Endless: true}},
		},
		"many-files": {
			Config: "AuthorizedKeysFile " + strings.Repeat("/x/k ", 1),
			Files:  map[string]sshdtest.HostileFile{"/x/*": {Size: 8 << 20, Mode: 0o600, Content: "#\n", Endless: true}},
		},
		"steers": {Config: "AuthorizedKeysFile /x\x1b]0;pwned\x07"},
		"banner": {Banner: strings.Repeat("x", 100) + "\r\n"},
		"link":   {Files: map[string]sshdtest.HostileFile{file: {Mode: 0o777 | 1<<27}}},
	}
	var names []string
	for name, harm := range machines {
		adopt(r, name, sshdtest.StartHostile(t, harm))
		names = append(names, name)
	}
	for n := range 40 { // as much as is taken from each
		name := "full-" + string(rune('a'+n%26)) + string(rune('a'+n/26))
		adopt(r,
			name,
			sshdtest.StartHostile(t, sshdtest.Harm{Files: map[string]sshdtest.HostileFile{file: sshdtest.Text(full)}}),
		)
		names = append(names, name)
	}
	most, stop := make(chan uint64), make(chan bool)
	go func() {
		var m runtime.MemStats
		highest := uint64(0)
		for {
			runtime.ReadMemStats(&m)
			highest = max(highest, m.HeapInuse)
			select {
			case <-stop:
				most <- highest
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}()
	w := sweepOf(r, names...)
	close(stop)
	if got := <-most; got > 200<<20 {
		t.Errorf("%d MiB were in use meanwhile, want under 200", got>>20)
	}
	if w.Counts[reading.SweepFailed] != len(machines) || w.Counts[reading.SweepAsBefore] != 40 {
		t.Errorf("the sweep came to %v, want %d failed and 40 read", w.Counts, len(machines))
	}
	items, err := r.Reading.SweepItems(t.Context(), w.ID, reading.SweepFailed, record.Page{Limit: 50})
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range items.Items {
		if i.Outcome == "" || strings.ContainsAny(i.Outcome, "\x1b\x07") || len(i.Outcome) > 1000 {
			t.Errorf("of %s it says %q", i.InstanceName, i.Outcome)
		}
	}
	l, err := r.Access.Login(t.Context(), "warden@full-aa")
	if err != nil || len(l.Files) != 2 || l.Files[0].Bytes != len(full) || len(l.Files[0].Content) > 260<<10 {
		t.Errorf("of a full file %d of %d bytes are kept, %v", len(l.Files[0].Content), l.Files[0].Bytes, err)
	}
}

// TestAPrivateKeyInAFileIsFoundAndKeptNowhere has somebody append the wrong file.
func TestAPrivateKeyInAFileIsFoundAndKeptNowhere(t *testing.T) {
	r := servicetest.NewRig(t)
	r.MadeKey("ines-main", keypair.Spec{})
	r.Launch("hide-cam-2", "ines-main")
	sweepOf(r, "hide-cam-2")
	_, private, err := r.Keys.MakeKey(
		t.Context(), r.Ines, journal.IdempotencyKey{}, keys.MadeHere{NewKey: keys.NewKey{Name: "wrong-file"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	file := r.KeysPath("hide-cam-2")
	if err := os.WriteFile(file, append([]byte(r.KeysFile("hide-cam-2")), private...), 0o600); err != nil {
		t.Fatal(err)
	}
	if w := sweepOf(r, "hide-cam-2"); w.Counts[reading.SweepChanged] != 1 {
		t.Errorf("the sweep came to %v, want one changed", w.Counts)
	}
	l, err := r.Access.Login(t.Context(), "hide-cam-2")
	if err != nil {
		t.Fatal(err)
	}
	key, err := r.Keys.Key(t.Context(), "wrong-file")
	if err != nil {
		t.Fatal(err)
	}
	found := false
	for _, f := range l.Files {
		for _, x := range f.Exposed {
			found = found || x.Public == keypair.FormatSHA256(key.SHA256)
		}
	}
	if !found {
		t.Errorf("no file tells of the private key: %+v", l.Files)
	}
	if entries, err := r.Journal.List(
		t.Context(), record.EntryFilter{Action: "key.exposed", About: []string{"key:wrong-file"}},
		record.Page{Limit: 5},
	); err != nil ||
		len(entries.Items) != 1 {
		t.Errorf("%d entries of the daybook tell of it, %v, want 1", len(entries.Items), err)
	}
	body := strings.Split(strings.TrimSpace(string(private)), "\n")[2]
	if rows := rowsWith(r, body[:20]); len(rows) > 0 {
		t.Errorf("a part of the private key is in %v", rows)
	}
	sweepOf(r, "hide-cam-2") // and is told of once
	if entries, err := r.Journal.List(
		t.Context(), record.EntryFilter{Action: "key.exposed"}, record.Page{Limit: 5},
	); err != nil ||
		len(entries.Items) != 1 {
		t.Errorf("after another look %d entries tell of it, %v, want 1", len(entries.Items), err)
	}
}

// TestALoginAtWhichTheServiceDiesIsGivenUp has the service end within the reading of one of
// several logins, again and again.
func TestALoginAtWhichTheServiceDiesIsGivenUp(t *testing.T) {
	r := servicetest.NewRig(t)
	r.MadeKey("ines-main", keypair.Spec{})
	for _, name := range []string{"a1", "a2", "a3"} {
		r.Launch(name, "ines-main")
	}
	r.Down()
	w, err := r.Reading.StartSweep(t.Context(), r.Ines, reading.SweepWanted{All: true})
	if err != nil {
		t.Fatal(err)
	}
	taken := 0
	for range 20 { // each time the service dies before any is recorded, the poisoned one last
		items, err := r.Store.TakeSweepItems(t.Context(), reading.SweepBatch, reading.SweepBatchAgain, 1)
		if err != nil {
			t.Fatal(err)
		}
		if len(items) == 0 {
			break
		}
		taken++
	}
	if taken != 1+1+3 {
		t.Errorf("logins were taken %d times, want 5: all, all, and one by one", taken)
	}
	r.Up()
	r.Until("the sweep", func() bool {
		w, err = r.Reading.Sweep(t.Context(), w.ID)
		return err == nil && w.EndedAt != nil
	})
	if w.Counts[reading.SweepFailed] != 3 {
		t.Errorf("the sweep came to %v, want the three given up", w.Counts)
	}
	l, err := r.Access.Login(t.Context(), "a1")
	if err != nil || !strings.Contains(l.SweepError, "given up") {
		t.Errorf("of the login it says %q, %v", l.SweepError, err)
	}
}
