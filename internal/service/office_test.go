package service

import (
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/store"
)

// office is a service without a cloud, with two admins and a clock that the test sets.
type office struct {
	*Service
	t           *testing.T
	at          time.Time
	ines, marek Actor
	safeFile    string
	owner       string // the URL of the database's owner
}

const officePassword = "guillemot ledge"

func newOffice(t *testing.T) *office {
	t.Helper()
	owner, service := pgtest.Databases(t)
	s, err := store.Open(t.Context(), service)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	c, err := cloud.Connect("http://127.0.0.1:0", "", time.Second)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	o := &office{
		Service:  New(s, c, runs.New(s, log), log),
		t:        t,
		at:       time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC),
		safeFile: filepath.Join(t.TempDir(), "safe.key"),
		owner:    owner,
	}
	o.now = func() time.Time { return o.at }
	if err := safe.Make(o.safeFile); err != nil {
		t.Fatal(err)
	}
	if o.Safe, err = safe.Open(o.safeFile); err != nil {
		t.Fatal(err)
	}
	o.ines, o.marek = o.known("ines"), o.hire("marek", Admin, nil)
	return o
}

func (o *office) hire(name string, role Role, limits map[string]string) Actor {
	o.t.Helper()
	err := o.AddOperator(
		o.t.Context(),
		Actor{Name: "setup", Via: "service"},
		IdempotencyKey{},
		NewOperator{Name: name, Password: officePassword, Role: role, Limits: limits},
	)
	if err != nil {
		o.t.Fatal(err)
	}
	return o.known(name)
}

// known is somebody who has an account.
func (o *office) known(name string) Actor {
	o.t.Helper()
	op, err := o.store.OperatorNamed(o.t.Context(), name)
	if err != nil {
		o.t.Fatal(err)
	}
	return actorOf(op)
}

// keep has the service make a key pair whose private half is in the safe.
func (o *office) keep(name, keeper string, labels map[string]string) store.Key {
	o.t.Helper()
	k, sealed, err := o.newKept(o.t.Context(), o.store, o.ines, NewKey{Name: name, Labels: labels}, keypair.Spec{}, name)
	if err != nil {
		o.t.Fatal(err)
	}
	whose, err := o.store.KeeperNamed(o.t.Context(), keeper)
	if err != nil {
		o.t.Fatal(err)
	}
	k.KeeperID = &whose.ID
	if err := o.store.InTx(
		o.t.Context(),
		func(tx *store.Store) error { return addKept(o.t.Context(), tx, &k, sealed) },
	); err != nil {
		o.t.Fatal(err)
	}
	return k
}

func codeOf(err error) string {
	var p *Problem
	if errors.As(err, &p) {
		return p.Code
	}
	return fmt.Sprint(err)
}

func (o *office) wants(what string, err error, code string) {
	o.t.Helper()
	if got := codeOf(err); err == nil && code != "" || err != nil && got != code {
		o.t.Errorf("%s: got %q (%v), want %q", what, got, err, code)
	}
}

func (o *office) signIn(name, password, code, address string) (string, error) {
	_, secret, err := o.SignIn(
		o.t.Context(),
		SignIn{Name: name, Password: password, Code: code, Via: "console", Address: address},
	)
	return secret, err
}

func TestAThousandWrongPasswordsAreSlowedDownAndSayNothing(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	if _, err := o.signIn("ines", officePassword, "", "192.0.2.1"); err != nil {
		t.Fatal(err)
	}
	looked := map[string]int{} // how many of the tries were looked at
	texts := map[string]map[string]bool{}
	for n := range 1000 {
		o.at = o.at.Add(60 * time.Millisecond) // a minute in all
		for _, name := range []string{"ines", "nobody"} {
			_, err := o.signIn(name, fmt.Sprint("wrong ", n), "", "192.0.2.66")
			var p *Problem
			if !errors.As(err, &p) {
				t.Fatal(err)
			}
			if texts[name] == nil {
				texts[name] = map[string]bool{}
			}
			texts[name][p.Code+p.Detail] = true
			if p.Code == "wrong-name-or-password" {
				looked[name]++
			}
		}
	}
	for name, n := range looked {
		if n > 12 {
			t.Errorf("%d tries at %s were looked at", n, name)
		}
	}
	for text := range texts["ines"] {
		if !texts["nobody"][text] {
			t.Errorf("only a known name gets the answer %q", text)
		}
	}
	// The right password from there waits too, from where she was before it does not.
	_, err := o.signIn("ines", officePassword, "", "192.0.2.66")
	o.wants("from the guesser's address", err, "too-many-tries")
	_, err = o.signIn("ines", officePassword, "", "192.0.2.1")
	o.wants("from her own address", err, "")
	o.at = o.at.Add(2 * longestWait)
	_, err = o.signIn("ines", officePassword, "", "192.0.2.66")
	o.wants("after the wait", err, "")
}

func TestManyAddressesTogetherDoNotGetPastTheWaitOfAnAccount(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	looked := 0
	for n := range 100 {
		_, err := o.signIn("ines", "wrong", "", fmt.Sprintf("192.0.2.%d", n))
		if codeOf(err) == "wrong-name-or-password" {
			looked++
		}
	}
	if looked > freeGuesses {
		t.Errorf("%d of 100 tries were looked at", looked)
	}
}

func TestOneAdminAlwaysRemains(t *testing.T) {
	t.Parallel()
	for round := range 2 {
		o := newOffice(t)
		change := OperatorChange{Role: new(Viewer)}
		if round%2 == 1 {
			change = OperatorChange{Closed: new(true)}
		}
		var both sync.WaitGroup
		both.Go(func() { _ = o.ChangeOperator(t.Context(), o.ines, "marek", change) })
		both.Go(func() { _ = o.ChangeOperator(t.Context(), o.marek, "ines", change) })
		both.Wait()
		n, err := o.store.CountAdmins(t.Context())
		if err != nil || n != 1 {
			t.Fatalf("%d admins remain, %v", n, err)
		}
	}
	o := newOffice(t)
	o.wants("the first", o.ChangeOperator(t.Context(), o.ines, "marek", OperatorChange{Closed: new(true)}), "")
	o.wants("herself", o.ChangeOperator(t.Context(), o.ines, "ines", OperatorChange{Role: new(Operator)}), "last-admin")
	o.wants(
		"her own account",
		o.ChangeOperator(t.Context(), o.ines, "ines", OperatorChange{Closed: new(true)}),
		"last-admin",
	)
	_, err := o.BeginLeaving(t.Context(), o.ines, "ines", "marek", "")
	o.wants("her own leaving", err, "keeper-left")
}

func TestASecondFactorIsAskedForAndEachCodeTakenOnce(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	f, err := o.BeginFactor(t.Context(), o.ines)
	if err != nil {
		t.Fatal(err)
	}
	digits := func() string {
		c, err := totp.GenerateCode(f.Secret, o.at)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	_, err = o.signIn("ines", officePassword, "", "192.0.2.1")
	o.wants("before it is confirmed", err, "")
	_, err = o.ConfirmFactor(t.Context(), o.ines, "000000")
	o.wants("a wrong code", err, "wrong-code")
	codes, err := o.ConfirmFactor(t.Context(), o.ines, digits())
	if err != nil || len(codes) != recoveryCodes {
		t.Fatal(codes, err)
	}
	_, err = o.signIn("ines", officePassword, "", "192.0.2.1")
	o.wants("without a code", err, "code-needed")
	_, err = o.signIn("ines", "wrong", digits(), "192.0.2.1")
	o.wants("with a wrong password", err, "wrong-name-or-password")
	_, err = o.signIn("ines", officePassword, digits(), "192.0.2.1")
	o.wants("the code that confirmed", err, "wrong-code")
	o.at = o.at.Add(factorStep)
	_, err = o.signIn("ines", officePassword, digits(), "192.0.2.1")
	o.wants("the next one", err, "")
	_, err = o.signIn("ines", officePassword, digits(), "192.0.2.1")
	o.wants("the next one again", err, "wrong-code")
	_, err = o.signIn("ines", officePassword, strings.ToUpper(codes[3]), "192.0.2.1")
	o.wants("a recovery code", err, "")
	_, err = o.signIn("ines", officePassword, codes[3], "192.0.2.1")
	o.wants("a recovery code again", err, "wrong-code")
	_, err = o.BeginFactor(t.Context(), o.ines)
	o.wants("a second one", err, "factor-there")

	kept := o.Safe
	o.Safe = nil
	o.at = o.at.Add(factorStep)
	_, err = o.signIn("ines", officePassword, digits(), "192.0.2.1")
	o.wants("with the safe switched off", err, "no-safe")
	_, err = o.signIn("ines", officePassword, codes[4], "192.0.2.1")
	o.wants("a recovery code with the safe switched off", err, "")
	o.Safe = kept
	o.wants("given up", o.RemoveFactor(t.Context(), o.ines, digits()), "")
	_, err = o.signIn("ines", officePassword, "", "192.0.2.1")
	o.wants("afterwards", err, "")
}

func TestSessionsEndByTimeByDisuseAndByHand(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	hold := func(secret string) bool {
		_, err := o.BySession(t.Context(), secret)
		return err == nil
	}
	idle, err := o.signIn("ines", officePassword, "", "192.0.2.1")
	if err != nil {
		t.Fatal(err)
	}
	used, err := o.signIn("ines", officePassword, "", "192.0.2.1")
	if err != nil {
		t.Fatal(err)
	}
	for range 25 {
		o.at = o.at.Add(o.SessionIdle / 2)
		if !hold(used) {
			break
		}
	}
	if hold(idle) || hold(used) {
		t.Errorf("after %s: idle %v, used %v", o.SessionLasts, hold(idle), hold(used))
	}
	other, err := o.signIn("marek", officePassword, "", "192.0.2.2")
	if err != nil {
		t.Fatal(err)
	}
	runa := o.hire("runa", Operator, nil)
	all, err := o.Sessions(t.Context(), o.ines, true)
	if err != nil || len(all) != 1 || all[0].Person != "marek" {
		t.Fatalf("%+v %v", all, err)
	}
	_, err = o.Sessions(t.Context(), runa, true)
	o.wants("everybody's, by an operator", err, "role-too-low")
	o.wants("another's, by an operator", o.EndSession(t.Context(), runa, all[0].ID), "no-such-session")
	o.wants("another's, by an admin", o.EndSession(t.Context(), o.ines, all[0].ID), "")
	if hold(other) {
		t.Error("it holds after its end")
	}
}

func TestATokenMayLessThanItsOwnerAndNeverMore(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	runa := o.hire("runa", Operator, map[string]string{"team": "cameras"})
	for name, c := range map[string]struct {
		in   NewToken
		code string
	}{
		"admin of an operator": {NewToken{Name: "a", Role: Admin}, "role-too-high"},
		"beyond the limit":     {NewToken{Name: "b", Limits: map[string]string{"team": "web"}}, "beyond-your-limit"},
		"for something else":   {NewToken{Name: "c", Only: "launch"}, "bad-only"},
		"too long":             {NewToken{Name: "d", Days: 400}, "bad-days"},
		"sweeps":               {NewToken{Name: "e", Only: "sweep"}, ""},
	} {
		_, _, err := o.AddToken(t.Context(), runa, IdempotencyKey{}, c.in)
		o.wants(name, err, c.code)
	}
	_, secret, err := o.AddToken(
		t.Context(),
		runa,
		IdempotencyKey{},
		NewToken{Name: "narrow", Limits: map[string]string{"site": "north"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := o.ByToken(t.Context(), secret)
	if err != nil || actor.Limits["team"] != "cameras" || actor.Limits["site"] != "north" {
		t.Fatalf("%+v %v", actor, err)
	}
	// Its owner's loss is the token's.
	o.wants(
		"a lower role",
		o.ChangeOperator(
			t.Context(),
			o.ines,
			"runa",
			OperatorChange{Role: new(Viewer), Limits: &map[string]string{"team": "web"}},
		),
		"",
	)
	if actor, err = o.ByToken(t.Context(), secret); err != nil || actor.Role != Viewer ||
		actor.Limits["team"] == "cameras" {
		t.Errorf("%+v %v", actor, err)
	}
	for _, bad := range []string{
		"",
		secret[:len(secret)-1],
		secret + "x",
		"plumlatch_" + strings.Repeat("A", 43),
		strings.ToUpper(secret),
	} {
		if _, err := o.ByToken(t.Context(), bad); codeOf(err) != "not-signed-in" {
			t.Errorf("%q: %v", bad, err)
		}
	}
	o.wants("closing", o.ChangeOperator(t.Context(), o.ines, "runa", OperatorChange{Closed: new(true)}), "")
	_, err = o.ByToken(t.Context(), secret)
	o.wants("of a closed account", err, "not-signed-in")
	o.wants(
		"an admin with a limit",
		o.ChangeOperator(t.Context(), o.ines, "marek", OperatorChange{Limits: &map[string]string{"team": "web"}}),
		"admin-with-limits",
	)
}

func TestAnAccountThatSomebodyElseHasChangedIsNotChangedByWhatWasReadBefore(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	runa := o.hire("runa", Operator, map[string]string{"team": "cameras"})
	tag := func() string {
		t.Helper()
		r, err := o.store.OperatorNamed(t.Context(), "runa")
		if err != nil {
			t.Fatal(err)
		}
		return OperatorTag(r)
	}
	change := func(who Actor, match, team string) error {
		return o.ChangeOperator(
			t.Context(),
			who,
			"runa",
			OperatorChange{Limits: &map[string]string{"team": team}, Match: match},
		)
	}
	read := tag()
	o.wants("the first", change(o.marek, read, "web"), "")
	o.wants("the second", change(o.ines, read, "tides"), "changed-since")
	o.wants("of a list", change(o.ines, `"0", `+tag(), "tides"), "")
	o.wants("of any", change(o.ines, "*", "web"), "")
	o.wants("without", change(o.ines, "", "tides"), "")
	o.wants("what is no tag", change(o.ines, "web", "web"), "changed-since")
	before := tag()
	if err := o.ChangePassword(t.Context(), runa, "", officePassword, "kittiwake ledge"); err != nil || tag() != before {
		t.Errorf("a new password of their own makes it another account: %v", err)
	}
	// Of two at once with the same reading, one changes it.
	var both sync.WaitGroup
	results := make([]error, 2)
	for n, who := range []Actor{o.ines, o.marek} {
		both.Go(func() { results[n] = change(who, before, who.Name) })
	}
	both.Wait()
	if (results[0] == nil) == (results[1] == nil) {
		t.Errorf("%v", results)
	}
}

func TestTheSetUpSecretMakesOneAdminOnce(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	secret, err := o.SetUpSecret(t.Context())
	if err != nil || secret != "" || o.toBeSetUp() {
		t.Fatalf("where there are accounts: %q %v", secret, err)
	}
	empty, _ := pgtest.Empty(t)
	s, err := store.Open(t.Context(), empty)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	n := New(s, o.cloud, o.engine, o.log)
	if secret, err = n.SetUpSecret(t.Context()); err != nil || secret == "" {
		t.Fatal(secret, err)
	}
	in := func(name string) SignIn {
		return SignIn{Name: name, Password: officePassword, Via: "cli", Address: "192.0.2.9"}
	}
	o.wants("a wrong secret", n.SetUp(t.Context(), in("eve"), "x"+secret[1:], ""), "wrong-set-up-secret")
	bad := in("ines")
	bad.Password = "short"
	o.wants("a bad password", n.SetUp(t.Context(), bad, secret, ""), "bad-password")
	var both sync.WaitGroup
	for _, name := range []string{"ines", "marek"} {
		both.Go(func() { _ = n.SetUp(t.Context(), in(name), secret, "") })
	}
	both.Wait()
	all, err := n.Operators(t.Context())
	if err != nil || len(all) != 1 || all[0].Role != "admin" {
		t.Fatalf("%+v %v", all, err)
	}
	o.wants("again", n.SetUp(t.Context(), in("eve"), secret, ""), "set-up-over")
}

func TestWhatASafeCannotBeOpenedWithIsSaidAtOnce(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string, mode os.FileMode) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		return file
	}
	good := strings.Repeat("QUJDREVGR0hJSktMTU5PUFFSU1RVVldY", 1)
	for name, c := range map[string]struct{ file, says string }{
		"missing":        {filepath.Join(dir, "none"), "no such file"},
		"others read it": {write("open", good, 0o644), "chmod 600"},
		"empty":          {write("empty", "", 0o600), "holds none"},
		"short":          {write("short", "QUJD\n", 0o600), "not 32 bytes"},
		"half written":   {write("half", good[:20], 0o600), "not 32 bytes"},
	} {
		if _, err := safe.Open(c.file); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := safe.OpenCommand("/bin/false"); err == nil || strings.Contains(err.Error(), good) {
		t.Errorf("a command that fails: %v", err)
	}
}

func TestRekeyPutsEverythingUnderTheNewKeyAndCanBeCutOff(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	for n := range 30 {
		o.keep(fmt.Sprint("kept-", n), "ines", nil)
	}
	if _, err := o.BeginFactor(t.Context(), o.ines); err != nil {
		t.Fatal(err)
	}
	if _, err := o.DaybookHead(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := o.AddReceiver(
		t.Context(),
		o.ines,
		IdempotencyKey{},
		"pager",
		"https://hooks.example/x",
		nil,
	); err != nil {
		t.Fatal(err)
	}
	before, err := os.ReadFile(o.safeFile)
	if err != nil {
		t.Fatal(err)
	}
	// Cut off after a part: the new key is in the file, and some things are under it.
	if err := o.Safe.AddMaster(); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(
		o.store.WantMark(t.Context(), o.Safe.Mark()),
		o.store.UseMark(t.Context(), o.Safe.Mark()),
	); err != nil {
		t.Fatal(err)
	}
	things, err := o.store.SealedThings(t.Context(), nil, 7)
	if err != nil || len(things) != 7 {
		t.Fatal(len(things), err)
	}
	for _, x := range things {
		sealed, err := o.Safe.Reseal(o.Safe.Mark(), x.Sealed, x.Record)
		if err != nil {
			t.Fatal(err)
		}
		if err := o.store.Reseal(t.Context(), x, store.Secret{Sealed: sealed, Mark: o.Safe.Mark()}); err != nil {
			t.Fatal(err)
		}
	}
	// Another process comes up with the file as it is, and goes on.
	if o.Safe, err = safe.Open(o.safeFile); err != nil {
		t.Fatal(err)
	}
	if err := o.carryRekey(t.Context()); err != nil {
		t.Fatal(err)
	}
	state, err := o.SafeState(t.Context())
	if err != nil || state.Masters != 1 || state.Halves != 30 {
		t.Fatalf("%+v %v", state, err)
	}
	old := filepath.Join(t.TempDir(), "old.key")
	if err := os.WriteFile(old, before, 0o600); err != nil {
		t.Fatal(err)
	}
	oldSafe, err := safe.Open(old)
	if err != nil {
		t.Fatal(err)
	}
	count := 0
	var last *store.Sealed
	for {
		things, err := o.store.SealedThings(t.Context(), last, 10)
		if err != nil {
			t.Fatal(err)
		}
		if len(things) == 0 {
			break
		}
		for _, x := range things {
			count++
			if _, err := o.Safe.Open(x.Sealed, x.Record); err != nil {
				t.Errorf("%s: %v", x.Record, err)
			}
			if _, err := oldSafe.Open(x.Sealed, x.Record); err == nil {
				t.Errorf("%s still opens with the old master key", x.Record)
			}
			if _, err := o.Safe.Open(x.Sealed, "another record"); err == nil {
				t.Errorf("%s opens for another record", x.Record)
			}
		}
		last = &things[len(things)-1]
	}
	if count != 33 {
		t.Errorf("%d sealed things, want 33", count)
	}
	if state, err = o.Rekey(t.Context(), o.ines.By(), "again"); err != nil || state.Masters != 1 {
		t.Errorf("%+v %v", state, err)
	}
	text, err := os.ReadFile(o.safeFile)
	if info, errStat := os.Stat(o.safeFile); err != nil || errStat != nil || strings.Count(string(text), "\n") != 1 ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("%d lines, %v %v", strings.Count(string(text), "\n"), info.Mode(), errors.Join(err, errStat))
	}
}

func (o *office) toBeSetUp() bool {
	o.t.Helper()
	yes, err := o.ToBeSetUp(o.t.Context())
	if err != nil {
		o.t.Fatal(err)
	}
	return yes
}
