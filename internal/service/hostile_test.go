package service

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
	"plumlatch/internal/sshio/sshdtest"
	"plumlatch/internal/store"
)

// adopt brings a machine in, with a steward key that it takes like any other.
func (r *rig) adopt(name string, m *sshdtest.Hostile) {
	r.t.Helper()
	a := Adopted{
		Name:      name,
		Address:   m.Address,
		Port:      m.Port,
		LoginUser: "warden",
		HostKeys:  []string{strings.TrimSpace(string(ssh.MarshalAuthorizedKey(m.HostKey)))},
	}
	if _, err := r.Adopt(r.t.Context(), r.ines, a); err != nil {
		r.t.Fatal(err)
	}
	granted, err := r.AddSteward(r.t.Context(), r.ines, name)
	if err != nil {
		r.t.Fatal(err)
	}
	for _, step := range []string{"place", "ask"} {
		if _, err := r.ReportStep(r.t.Context(), r.ines, granted.Run.ID, step, "placed", ""); err != nil {
			r.t.Fatal(err)
		}
	}
}

// rowsWith returns the tables in which a row holds the text, as it is or as bytes.
func (r *rig) rowsWith(text string) (tables []string) {
	r.t.Helper()
	rows, err := r.store.Pool().
		Query(
			r.t.Context(),
			"SELECT format('%I.%I', schemaname, tablename) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', "+
				"'information_schema')",
		)
	if err != nil {
		r.t.Fatal(err)
	}
	all, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		r.t.Fatal(err)
	}
	for _, table := range all {
		var n int
		if err := r.store.Pool().QueryRow(
			r.t.Context(),
			"SELECT count(*) FROM "+table+" t WHERE position($1 IN t::text) > 0 OR position($2 IN t::text) > 0",
			text,
			hex.EncodeToString([]byte(text)),
		).Scan(&n); err != nil {
			r.t.Fatal(err)
		}
		if n > 0 {
			tables = append(tables, table)
		}
	}
	return tables
}

// sweepOf has instances swept and returns how many logins came to each state.
func (r *rig) sweepOf(names ...string) SweepState {
	r.t.Helper()
	w, err := r.StartSweep(r.t.Context(), r.ines, SweepWanted{Instances: names})
	if err != nil {
		r.t.Fatal(err)
	}
	r.until("the sweep", func() bool {
		w, err = r.Sweep(r.t.Context(), w.ID)
		return err == nil && w.EndedAt != nil
	})
	return w
}

// TestHostileMachinesAreSweptWithinBoundsAndSaid has machines that would have the service panic,
// fill its memory or never end, beside one that is as it should be.
func TestHostileMachinesAreSweptWithinBoundsAndSaid(t *testing.T) {
	r := newRig(t)
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
		r.adopt(name, sshdtest.StartHostile(t, harm))
		names = append(names, name)
	}
	for n := range 40 { // as much as is taken from each
		name := "full-" + string(rune('a'+n%26)) + string(rune('a'+n/26))
		r.adopt(
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
	w := r.sweepOf(names...)
	close(stop)
	if got := <-most; got > 200<<20 {
		t.Errorf("%d MiB were in use meanwhile, want under 200", got>>20)
	}
	if w.Counts[sweepFailed] != len(machines) || w.Counts[sweepAsBefore] != 40 {
		t.Errorf("the sweep came to %v, want %d failed and 40 read", w.Counts, len(machines))
	}
	items, err := r.SweepItems(t.Context(), w.ID, sweepFailed, store.Page{Limit: 50})
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range items.Items {
		if i.Outcome == "" || strings.ContainsAny(i.Outcome, "\x1b\x07") || len(i.Outcome) > 1000 {
			t.Errorf("of %s it says %q", i.InstanceName, i.Outcome)
		}
	}
	l, err := r.Login(t.Context(), "warden@full-aa")
	if err != nil || len(l.Files) != 2 || l.Files[0].Bytes != len(full) || len(l.Files[0].Content) > 260<<10 {
		t.Errorf("of a full file %d of %d bytes are kept, %v", len(l.Files[0].Content), l.Files[0].Bytes, err)
	}
}

// TestAPrivateKeyInAFileIsFoundAndKeptNowhere has somebody append the wrong file.
func TestAPrivateKeyInAFileIsFoundAndKeptNowhere(t *testing.T) {
	r := newRig(t)
	r.madeKey("ines-main", keypair.Spec{})
	r.launch("hide-cam-2", "ines-main")
	r.sweepOf("hide-cam-2")
	_, private, err := r.MakeKey(t.Context(), r.ines, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: "wrong-file"}})
	if err != nil {
		t.Fatal(err)
	}
	file := r.keysPath("hide-cam-2")
	if err := os.WriteFile(file, append([]byte(r.keysFile("hide-cam-2")), private...), 0o600); err != nil {
		t.Fatal(err)
	}
	if w := r.sweepOf("hide-cam-2"); w.Counts[sweepChanged] != 1 {
		t.Errorf("the sweep came to %v, want one changed", w.Counts)
	}
	l, err := r.Login(t.Context(), "hide-cam-2")
	if err != nil {
		t.Fatal(err)
	}
	key, err := r.Key(t.Context(), "wrong-file")
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
	if entries, err := r.Daybook(
		t.Context(),
		store.EntryFilter{Action: "key.exposed", About: []string{"key:wrong-file"}},
		store.Page{Limit: 5},
	); err != nil ||
		len(entries.Items) != 1 {
		t.Errorf("%d entries of the daybook tell of it, %v, want 1", len(entries.Items), err)
	}
	body := strings.Split(strings.TrimSpace(string(private)), "\n")[2]
	if rows := r.rowsWith(body[:20]); len(rows) > 0 {
		t.Errorf("a part of the private key is in %v", rows)
	}
	r.sweepOf("hide-cam-2") // and is told of once
	if entries, err := r.Daybook(
		t.Context(),
		store.EntryFilter{Action: "key.exposed"},
		store.Page{Limit: 5},
	); err != nil ||
		len(entries.Items) != 1 {
		t.Errorf("after another look %d entries tell of it, %v, want 1", len(entries.Items), err)
	}
}

// TestALoginAtWhichTheServiceDiesIsGivenUp has the service end within the reading of one of
// several logins, again and again.
func TestALoginAtWhichTheServiceDiesIsGivenUp(t *testing.T) {
	r := newRig(t)
	r.madeKey("ines-main", keypair.Spec{})
	for _, name := range []string{"a1", "a2", "a3"} {
		r.launch(name, "ines-main")
	}
	r.stop()
	w, err := r.StartSweep(t.Context(), r.ines, SweepWanted{All: true})
	if err != nil {
		t.Fatal(err)
	}
	taken := 0
	for range 20 { // each time the service dies before any is recorded, the poisoned one last
		items, err := r.store.TakeSweepItems(t.Context(), sweepBatch, sweepBatchAgain, 1)
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
	r.start()
	r.until("the sweep", func() bool {
		w, err = r.Sweep(t.Context(), w.ID)
		return err == nil && w.EndedAt != nil
	})
	if w.Counts[sweepFailed] != 3 {
		t.Errorf("the sweep came to %v, want the three given up", w.Counts)
	}
	l, err := r.Login(t.Context(), "a1")
	if err != nil || !strings.Contains(l.SweepError, "given up") {
		t.Errorf("of the login it says %q, %v", l.SweepError, err)
	}
}
