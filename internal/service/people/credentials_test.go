package people_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"

	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/servicetest"
)

// TestATokenMakesNothingThatOutlivesIt is somebody with a stolen token, who wants more than it may do.
func TestATokenMakesNothingThatOutlivesIt(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	ctx := t.Context()
	signedIn, _, err := o.People.SignIn(
		ctx, people.SignIn{Name: "marek", Password: servicetest.OfficePassword, Via: "console", Address: "192.0.2.1"},
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := o.People.AddToken(
		ctx, signedIn, journal.IdempotencyKey{},
		people.NewToken{Name: "wide", Limits: map[string]string{"team": "field"}},
	); err == nil {
		t.Errorf("an admin's token with limits: %v", err)
	}
	_, secret, err := o.People.AddToken(
		ctx, signedIn, journal.IdempotencyKey{},
		people.NewToken{Name: "field", Role: people.Operator, Days: 1, Limits: map[string]string{"team": "field"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	thief, err := o.People.ByToken(ctx, secret)
	if err != nil || thief.Role != people.Operator || thief.Limits["team"] != "field" {
		t.Fatalf("%+v %v", thief, err)
	}
	_, _, err = o.People.AddToken(ctx, thief, journal.IdempotencyKey{}, people.NewToken{Name: "child", Days: 366})
	o.Wants("a token by a token", err, "session-needed")
	o.Wants("what is for the person by a token", o.People.Confirmed(thief), "session-needed")
	// A session whose person has not shown who they are of late.
	_, session, err := o.People.SignIn(
		ctx, people.SignIn{Name: "marek", Password: servicetest.OfficePassword, Via: "console", Address: "192.0.2.1"},
	)
	if err != nil {
		t.Fatal(err)
	}
	old, err := o.People.BySession(ctx, session)
	if err != nil || o.People.Confirmed(old) != nil {
		t.Fatal(err, o.People.Confirmed(old))
	}
	o.At = o.At.Add(11 * time.Minute)
	if old, err = o.People.BySession(ctx, session); err != nil {
		t.Fatal(err)
	}
	o.Wants("an open browser", o.People.Confirmed(old), "confirmation-needed")
	o.Wants("a wrong password", o.People.Confirm(ctx, old, "not it at all", ""), "wrong-confirmation")
	if err := o.People.Confirm(ctx, old, servicetest.OfficePassword, ""); err != nil {
		t.Fatal(err)
	}
	if old, err = o.People.BySession(ctx, session); err != nil || o.People.Confirmed(old) != nil {
		t.Errorf("confirmed: %v %v", err, o.People.Confirmed(old))
	}
}

// TestAnAdminWithLimitsCannotExist tries it by the service and, as whoever has its database, by SQL.
func TestAnAdminWithLimitsCannotExist(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	limits := map[string]string{"team": "field"}
	if err := o.People.AddOperator(
		t.Context(), o.Ines, journal.IdempotencyKey{},
		people.NewOperator{Name: "lena", Password: servicetest.OfficePassword, Role: people.Admin, Limits: limits},
	); err == nil {
		t.Error("an admin with limits was made")
	}
	if err := o.People.ChangeOperator(t.Context(), o.Ines, "marek", people.OperatorChange{Limits: &limits}); err == nil {
		t.Error("an admin was limited")
	}
	conn, err := pgx.Connect(t.Context(), o.Owner)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(
		t.Context(), `UPDATE operators SET limits = '{"team":"field"}' WHERE name = 'marek'`,
	); err == nil {
		t.Error("an admin was limited by SQL")
	}
}

// TestGuessesThatComeAtOnceAreCountedBeforeTheyAreLookedAt has the right password among many guesses.
func TestGuessesThatComeAtOnceAreCountedBeforeTheyAreLookedAt(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	var mu sync.Mutex
	got := map[string]int{}
	var all sync.WaitGroup
	for n := range 80 {
		all.Go(func() {
			password := fmt.Sprint("a guess, number ", n)
			_, _, err := o.People.SignIn(
				t.Context(),
				people.SignIn{Name: "marek", Password: password, Via: "console", Address: fmt.Sprint("192.0.2.", n)},
			)
			mu.Lock()
			defer mu.Unlock()
			got[servicetest.CodeOf(err)]++
		})
	}
	all.Wait()
	looked := 80 - got["too-many-tries"] - got["service-busy"]
	if looked > people.FreeGuesses+1 || looked == 0 || got["<nil>"] > 0 {
		t.Errorf("%d of 80 were looked at: %v", looked, got)
	}
	// It holds for another process, and after a restart.
	again := o.Beside(o.Store, o.Safe)
	_, _, err := again.People.SignIn(
		t.Context(),
		people.SignIn{Name: "marek", Password: servicetest.OfficePassword, Via: "console", Address: "198.51.100.9"},
	)
	if servicetest.CodeOf(err) != "too-many-tries" {
		t.Errorf("another process: %v", err)
	}
	o.At = o.At.Add(16 * time.Minute)
	if _, _, err := o.People.SignIn(
		t.Context(),
		people.SignIn{Name: "marek", Password: servicetest.OfficePassword, Via: "console", Address: "198.51.100.9"},
	); err != nil {
		t.Errorf("after the wait: %v", err)
	}
}

// TestSessionsEndWithAPasswordThatSomebodyElseSetsAndWithAFactor has marek signed in while things change.
func TestSessionsEndWithAPasswordThatSomebodyElseSetsAndWithAFactor(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	password := servicetest.OfficePassword
	signIn := func() string {
		_, secret, err := o.People.SignIn(
			t.Context(), people.SignIn{Name: "marek", Password: password, Via: "console", Address: "192.0.2.1"},
		)
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	over := func(what, secret string) {
		if _, err := o.People.BySession(t.Context(), secret); err == nil {
			t.Errorf("%s: the session of before holds", what)
		}
	}
	secret := signIn()
	password = "another ledge"
	if err := o.People.ChangeOperator(
		t.Context(), o.Ines, "marek", people.OperatorChange{Password: &password},
	); err != nil {
		t.Fatal(err)
	}
	over("a new password", secret)
	secret = signIn()
	own := signIn()
	me, err := o.People.BySession(t.Context(), own)
	if err != nil {
		t.Fatal(err)
	}
	f, err := o.People.BeginFactor(t.Context(), me)
	if err != nil {
		t.Fatal(err)
	}
	code, err := totp.GenerateCode(f.Secret, o.At)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.People.ConfirmFactor(t.Context(), me, code); err != nil {
		t.Fatal(err)
	}
	over("a second factor", secret)
	if _, err := o.People.BySession(t.Context(), own); err != nil {
		t.Errorf("the session in which it was added: %v", err)
	}
}
