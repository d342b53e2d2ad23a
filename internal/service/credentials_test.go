package service

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/pquerna/otp/totp"
)

// TestATokenMakesNothingThatOutlivesIt is somebody with a stolen token, who wants more than it may do.
func TestATokenMakesNothingThatOutlivesIt(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	ctx := t.Context()
	signedIn, _, err := o.SignIn(
		ctx,
		SignIn{Name: "marek", Password: officePassword, Via: "console", Address: "192.0.2.1"},
	)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := o.AddToken(
		ctx,
		signedIn,
		IdempotencyKey{},
		NewToken{Name: "wide", Limits: map[string]string{"team": "field"}},
	); err == nil {
		t.Errorf("an admin's token with limits: %v", err)
	}
	_, secret, err := o.AddToken(
		ctx,
		signedIn,
		IdempotencyKey{},
		NewToken{Name: "field", Role: Operator, Days: 1, Limits: map[string]string{"team": "field"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	thief, err := o.ByToken(ctx, secret)
	if err != nil || thief.Role != Operator || thief.Limits["team"] != "field" {
		t.Fatalf("%+v %v", thief, err)
	}
	_, _, err = o.AddToken(ctx, thief, IdempotencyKey{}, NewToken{Name: "child", Days: 366})
	o.wants("a token by a token", err, "session-needed")
	o.wants("what is for the person by a token", o.Confirmed(thief), "session-needed")
	// A session whose person has not shown who they are of late.
	_, session, err := o.SignIn(ctx, SignIn{Name: "marek", Password: officePassword, Via: "console", Address: "192.0.2.1"})
	if err != nil {
		t.Fatal(err)
	}
	old, err := o.BySession(ctx, session)
	if err != nil || o.Confirmed(old) != nil {
		t.Fatal(err, o.Confirmed(old))
	}
	o.at = o.at.Add(11 * time.Minute)
	if old, err = o.BySession(ctx, session); err != nil {
		t.Fatal(err)
	}
	o.wants("an open browser", o.Confirmed(old), "confirmation-needed")
	o.wants("a wrong password", o.Confirm(ctx, old, "not it at all", ""), "wrong-confirmation")
	if err := o.Confirm(ctx, old, officePassword, ""); err != nil {
		t.Fatal(err)
	}
	if old, err = o.BySession(ctx, session); err != nil || o.Confirmed(old) != nil {
		t.Errorf("confirmed: %v %v", err, o.Confirmed(old))
	}
}

// TestAnAdminWithLimitsCannotExist tries it by the service and, as whoever has its database, by SQL.
func TestAnAdminWithLimitsCannotExist(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	limits := map[string]string{"team": "field"}
	if err := o.AddOperator(
		t.Context(),
		o.ines,
		IdempotencyKey{},
		NewOperator{Name: "lena", Password: officePassword, Role: Admin, Limits: limits},
	); err == nil {
		t.Error("an admin with limits was made")
	}
	if err := o.ChangeOperator(t.Context(), o.ines, "marek", OperatorChange{Limits: &limits}); err == nil {
		t.Error("an admin was limited")
	}
	conn, err := pgx.Connect(t.Context(), o.owner)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(
		t.Context(),
		`UPDATE operators SET limits = '{"team":"field"}' WHERE name = 'marek'`,
	); err == nil {
		t.Error("an admin was limited by SQL")
	}
}

// TestGuessesThatComeAtOnceAreCountedBeforeTheyAreLookedAt has the right password among many guesses.
func TestGuessesThatComeAtOnceAreCountedBeforeTheyAreLookedAt(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	var mu sync.Mutex
	got := map[string]int{}
	var all sync.WaitGroup
	for n := range 80 {
		all.Go(func() {
			password := fmt.Sprint("a guess, number ", n)
			_, _, err := o.SignIn(
				t.Context(),
				SignIn{Name: "marek", Password: password, Via: "console", Address: fmt.Sprint("192.0.2.", n)},
			)
			mu.Lock()
			defer mu.Unlock()
			got[codeOf(err)]++
		})
	}
	all.Wait()
	looked := 80 - got["too-many-tries"] - got["service-busy"]
	if looked > freeGuesses+1 || looked == 0 || got["<nil>"] > 0 {
		t.Errorf("%d of 80 were looked at: %v", looked, got)
	}
	// It holds for another process, and after a restart.
	again := &Service{store: o.store, now: o.now, log: o.log, Safe: o.Safe}
	_, _, err := again.SignIn(
		t.Context(),
		SignIn{Name: "marek", Password: officePassword, Via: "console", Address: "198.51.100.9"},
	)
	if codeOf(err) != "too-many-tries" {
		t.Errorf("another process: %v", err)
	}
	o.at = o.at.Add(16 * time.Minute)
	if _, _, err := o.SignIn(
		t.Context(),
		SignIn{Name: "marek", Password: officePassword, Via: "console", Address: "198.51.100.9"},
	); err != nil {
		t.Errorf("after the wait: %v", err)
	}
}

// TestSessionsEndWithAPasswordThatSomebodyElseSetsAndWithAFactor has marek signed in while things change.
func TestSessionsEndWithAPasswordThatSomebodyElseSetsAndWithAFactor(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	password := officePassword
	signIn := func() string {
		_, secret, err := o.SignIn(
			t.Context(),
			SignIn{Name: "marek", Password: password, Via: "console", Address: "192.0.2.1"},
		)
		if err != nil {
			t.Fatal(err)
		}
		return secret
	}
	over := func(what, secret string) {
		if _, err := o.BySession(t.Context(), secret); err == nil {
			t.Errorf("%s: the session of before holds", what)
		}
	}
	secret := signIn()
	password = "another ledge"
	if err := o.ChangeOperator(t.Context(), o.ines, "marek", OperatorChange{Password: &password}); err != nil {
		t.Fatal(err)
	}
	over("a new password", secret)
	secret = signIn()
	own := signIn()
	me, err := o.BySession(t.Context(), own)
	if err != nil {
		t.Fatal(err)
	}
	f, err := o.BeginFactor(t.Context(), me)
	if err != nil {
		t.Fatal(err)
	}
	code, err := totp.GenerateCode(f.Secret, o.at)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.ConfirmFactor(t.Context(), me, code); err != nil {
		t.Fatal(err)
	}
	over("a second factor", secret)
	if _, err := o.BySession(t.Context(), own); err != nil {
		t.Errorf("the session in which it was added: %v", err)
	}
}
