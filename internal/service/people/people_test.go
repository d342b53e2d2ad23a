package people_test

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/servicetest"
	"plumlatch/internal/store"
)

func TestAThousandWrongPasswordsAreSlowedDownAndSayNothing(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	if _, err := o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1"); err != nil {
		t.Fatal(err)
	}
	looked := map[string]int{} // how many of the tries were looked at
	texts := map[string]map[string]bool{}
	for n := range 1000 {
		o.At = o.At.Add(60 * time.Millisecond) // a minute in all
		for _, name := range []string{"ines", "nobody"} {
			_, err := o.SignIn(name, fmt.Sprint("wrong ", n), "", "192.0.2.66")
			var p *problem.Problem
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
	_, err := o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.66")
	o.Wants("from the guesser's address", err, "too-many-tries")
	_, err = o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	o.Wants("from her own address", err, "")
	o.At = o.At.Add(2 * people.LongestWait)
	_, err = o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.66")
	o.Wants("after the wait", err, "")
}

func TestManyAddressesTogetherDoNotGetPastTheWaitOfAnAccount(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	looked := 0
	for n := range 100 {
		_, err := o.SignIn("ines", "wrong", "", fmt.Sprintf("192.0.2.%d", n))
		if servicetest.CodeOf(err) == "wrong-name-or-password" {
			looked++
		}
	}
	if looked > people.FreeGuesses {
		t.Errorf("%d of 100 tries were looked at", looked)
	}
}

func TestOneAdminAlwaysRemains(t *testing.T) {
	t.Parallel()
	for round := range 2 {
		o := servicetest.NewOffice(t)
		change := people.OperatorChange{Role: new(people.Viewer)}
		if round%2 == 1 {
			change = people.OperatorChange{Closed: new(true)}
		}
		var both sync.WaitGroup
		both.Go(func() { _ = o.People.ChangeOperator(t.Context(), o.Ines, "marek", change) })
		both.Go(func() { _ = o.People.ChangeOperator(t.Context(), o.Marek, "ines", change) })
		both.Wait()
		n, err := o.Store.CountAdmins(t.Context())
		if err != nil || n != 1 {
			t.Fatalf("%d admins remain, %v", n, err)
		}
	}
	o := servicetest.NewOffice(t)
	o.Wants(
		"the first", o.People.ChangeOperator(t.Context(), o.Ines, "marek", people.OperatorChange{Closed: new(true)}),
		"",
	)
	o.Wants(
		"herself",
		o.People.ChangeOperator(t.Context(), o.Ines, "ines", people.OperatorChange{Role: new(people.Operator)}),
		"last-admin",
	)
	o.Wants(
		"her own account",
		o.People.ChangeOperator(t.Context(), o.Ines, "ines", people.OperatorChange{Closed: new(true)}), "last-admin",
	)
	_, err := o.Leaving.BeginLeaving(t.Context(), o.Ines, "ines", "marek", "")
	o.Wants("her own leaving", err, "holder-left")
}

func TestASecondFactorIsAskedForAndEachCodeTakenOnce(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	f, err := o.People.BeginFactor(t.Context(), o.Ines)
	if err != nil {
		t.Fatal(err)
	}
	digits := func() string {
		c, err := totp.GenerateCode(f.Secret, o.At)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	_, err = o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	o.Wants("before it is confirmed", err, "")
	_, err = o.People.ConfirmFactor(t.Context(), o.Ines, "000000")
	o.Wants("a wrong code", err, "wrong-code")
	codes, err := o.People.ConfirmFactor(t.Context(), o.Ines, digits())
	if err != nil || len(codes) != people.RecoveryCodes {
		t.Fatal(codes, err)
	}
	_, err = o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	o.Wants("without a code", err, "code-needed")
	_, err = o.SignIn("ines", "wrong", digits(), "192.0.2.1")
	o.Wants("with a wrong password", err, "wrong-name-or-password")
	_, err = o.SignIn("ines", servicetest.OfficePassword, digits(), "192.0.2.1")
	o.Wants("the code that confirmed", err, "wrong-code")
	o.At = o.At.Add(people.FactorStep)
	_, err = o.SignIn("ines", servicetest.OfficePassword, digits(), "192.0.2.1")
	o.Wants("the next one", err, "")
	_, err = o.SignIn("ines", servicetest.OfficePassword, digits(), "192.0.2.1")
	o.Wants("the next one again", err, "wrong-code")
	_, err = o.SignIn("ines", servicetest.OfficePassword, strings.ToUpper(codes[3]), "192.0.2.1")
	o.Wants("a recovery code", err, "")
	_, err = o.SignIn("ines", servicetest.OfficePassword, codes[3], "192.0.2.1")
	o.Wants("a recovery code again", err, "wrong-code")
	_, err = o.People.BeginFactor(t.Context(), o.Ines)
	o.Wants("a second one", err, "factor-there")

	kept := o.Service
	o.Service = o.Beside(o.Store, nil)
	o.At = o.At.Add(people.FactorStep)
	_, err = o.SignIn("ines", servicetest.OfficePassword, digits(), "192.0.2.1")
	o.Wants("with the safe switched off", err, "no-safe")
	_, err = o.SignIn("ines", servicetest.OfficePassword, codes[4], "192.0.2.1")
	o.Wants("a recovery code with the safe switched off", err, "")
	o.Service = kept
	o.Wants("given up", o.People.RemoveFactor(t.Context(), o.Ines, digits()), "")
	_, err = o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	o.Wants("afterwards", err, "")
}

func TestSessionsEndByTimeByDisuseAndByHand(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	hold := func(secret string) bool {
		_, err := o.People.BySession(t.Context(), secret)
		return err == nil
	}
	idle, err := o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	if err != nil {
		t.Fatal(err)
	}
	used, err := o.SignIn("ines", servicetest.OfficePassword, "", "192.0.2.1")
	if err != nil {
		t.Fatal(err)
	}
	for range 25 {
		o.At = o.At.Add(o.People.SessionIdle / 2)
		if !hold(used) {
			break
		}
	}
	if hold(idle) || hold(used) {
		t.Errorf("after %s: idle %v, used %v", o.People.SessionLasts, hold(idle), hold(used))
	}
	other, err := o.SignIn("marek", servicetest.OfficePassword, "", "192.0.2.2")
	if err != nil {
		t.Fatal(err)
	}
	runa := o.Hire("runa", people.Operator, nil)
	all, err := o.People.Sessions(t.Context(), o.Ines, true)
	if err != nil || len(all) != 1 || all[0].Person != "marek" {
		t.Fatalf("%+v %v", all, err)
	}
	_, err = o.People.Sessions(t.Context(), runa, true)
	o.Wants("everybody's, by an operator", err, "role-too-low")
	o.Wants("another's, by an operator", o.People.EndSession(t.Context(), runa, all[0].ID), "no-such-session")
	o.Wants("another's, by an admin", o.People.EndSession(t.Context(), o.Ines, all[0].ID), "")
	if hold(other) {
		t.Error("it holds after its end")
	}
}

func TestATokenMayLessThanItsOwnerAndNeverMore(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	runa := o.Hire("runa", people.Operator, map[string]string{"team": "cameras"})
	for name, c := range map[string]struct {
		in   people.NewToken
		code string
	}{
		"admin of an operator": {people.NewToken{Name: "a", Role: people.Admin}, "role-too-high"},
		"beyond the limit":     {people.NewToken{Name: "b", Limits: map[string]string{"team": "web"}}, "beyond-your-limit"},
		"for something else":   {people.NewToken{Name: "c", Only: "launch"}, "bad-only"},
		"too long":             {people.NewToken{Name: "d", Days: 400}, "bad-days"},
		"sweeps":               {people.NewToken{Name: "e", Only: "sweep"}, ""},
	} {
		_, _, err := o.People.AddToken(t.Context(), runa, journal.IdempotencyKey{}, c.in)
		o.Wants(name, err, c.code)
	}
	_, secret, err := o.People.AddToken(
		t.Context(), runa, journal.IdempotencyKey{},
		people.NewToken{Name: "narrow", Limits: map[string]string{"site": "north"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	actor, err := o.People.ByToken(t.Context(), secret)
	if err != nil || actor.Limits["team"] != "cameras" || actor.Limits["site"] != "north" {
		t.Fatalf("%+v %v", actor, err)
	}
	// Its owner's loss is the token's.
	o.Wants(
		"a lower role",
		o.People.ChangeOperator(
			t.Context(), o.Ines, "runa",
			people.OperatorChange{Role: new(people.Viewer), Limits: &map[string]string{"team": "web"}},
		),
		"",
	)
	if actor, err = o.People.ByToken(t.Context(), secret); err != nil || actor.Role != people.Viewer ||
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
		if _, err := o.People.ByToken(t.Context(), bad); servicetest.CodeOf(err) != "not-signed-in" {
			t.Errorf("%q: %v", bad, err)
		}
	}
	o.Wants("closing", o.People.ChangeOperator(t.Context(), o.Ines, "runa", people.OperatorChange{Closed: new(true)}), "")
	_, err = o.People.ByToken(t.Context(), secret)
	o.Wants("of a closed account", err, "not-signed-in")
	o.Wants(
		"an admin with a limit",
		o.People.ChangeOperator(
			t.Context(), o.Ines, "marek", people.OperatorChange{Limits: &map[string]string{"team": "web"}},
		),
		"admin-with-limits",
	)
}

func TestAnAccountThatSomebodyElseHasChangedIsNotChangedByWhatWasReadBefore(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	runa := o.Hire("runa", people.Operator, map[string]string{"team": "cameras"})
	tag := func() string {
		t.Helper()
		r, err := o.Store.OperatorNamed(t.Context(), "runa")
		if err != nil {
			t.Fatal(err)
		}
		return people.OperatorTag(r)
	}
	change := func(who people.Actor, match, team string) error {
		return o.People.ChangeOperator(
			t.Context(), who, "runa", people.OperatorChange{Limits: &map[string]string{"team": team}, Match: match},
		)
	}
	read := tag()
	o.Wants("the first", change(o.Marek, read, "web"), "")
	o.Wants("the second", change(o.Ines, read, "tides"), "changed-since")
	o.Wants("of a list", change(o.Ines, `"0", `+tag(), "tides"), "")
	o.Wants("of any", change(o.Ines, "*", "web"), "")
	o.Wants("without", change(o.Ines, "", "tides"), "")
	o.Wants("what is no tag", change(o.Ines, "web", "web"), "changed-since")
	before := tag()
	if err := o.People.ChangePassword(t.Context(), runa, "", servicetest.OfficePassword, "kittiwake ledge"); err != nil ||
		tag() != before {
		t.Errorf("a new password of their own makes it another account: %v", err)
	}
	// Of two at once with the same reading, one changes it.
	var both sync.WaitGroup
	results := make([]error, 2)
	for n, who := range []people.Actor{o.Ines, o.Marek} {
		both.Go(func() { results[n] = change(who, before, who.Name) })
	}
	both.Wait()
	if (results[0] == nil) == (results[1] == nil) {
		t.Errorf("%v", results)
	}
}

func TestTheSetUpSecretMakesOneAdminOnce(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	secret, err := o.People.SetUpSecret(t.Context())
	if err != nil || secret != "" || toBeSetUp(o) {
		t.Fatalf("where there are accounts: %q %v", secret, err)
	}
	empty, _ := pgtest.Empty(t)
	s, err := store.Open(t.Context(), empty)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	n := o.Beside(s, nil)
	if secret, err = n.People.SetUpSecret(t.Context()); err != nil || secret == "" {
		t.Fatal(secret, err)
	}
	in := func(name string) people.SignIn {
		return people.SignIn{Name: name, Password: servicetest.OfficePassword, Via: "cli", Address: "192.0.2.9"}
	}
	o.Wants("a wrong secret", n.People.SetUp(t.Context(), in("eve"), "x"+secret[1:], ""), "wrong-set-up-secret")
	bad := in("ines")
	bad.Password = "short"
	o.Wants("a bad password", n.People.SetUp(t.Context(), bad, secret, ""), "bad-password")
	var both sync.WaitGroup
	for _, name := range []string{"ines", "marek"} {
		both.Go(func() { _ = n.People.SetUp(t.Context(), in(name), secret, "") })
	}
	both.Wait()
	all, err := n.People.Operators(t.Context())
	if err != nil || len(all) != 1 || all[0].Role != "admin" {
		t.Fatalf("%+v %v", all, err)
	}
	o.Wants("again", n.People.SetUp(t.Context(), in("eve"), secret, ""), "set-up-over")
}

func toBeSetUp(o *servicetest.Office) bool {
	o.T.Helper()
	yes, err := o.People.ToBeSetUp(o.T.Context())
	if err != nil {
		o.T.Fatal(err)
	}
	return yes
}
