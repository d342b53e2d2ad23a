package servicetest

import (
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/safe"
	"plumlatch/internal/service"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/store"
)

// Office is a service without a cloud, with two admins and a clock that the test sets.
type Office struct {
	*service.Service
	Store       *store.Store
	Safe        *safe.Safe
	T           *testing.T
	At          time.Time
	Ines, Marek people.Actor
	SafeFile    string
	Owner       string // the URL of the database's owner
}

const OfficePassword = "guillemot ledge"

func NewOffice(t *testing.T) *Office {
	t.Helper()
	owner, service := pgtest.Databases(t)
	s, err := store.Open(t.Context(), service)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	o := &Office{
		Store:    s,
		T:        t,
		At:       time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC),
		SafeFile: filepath.Join(t.TempDir(), "safe.key"),
		Owner:    owner,
	}
	if err := safe.Make(o.SafeFile); err != nil {
		t.Fatal(err)
	}
	o.Restart()
	o.Ines, o.Marek = o.known("ines"), o.Hire("marek", people.Admin, nil)
	return o
}

// Restart has the service come up again with the safe as its file is now.
func (o *Office) Restart() {
	o.T.Helper()
	var err error
	if o.Safe, err = safe.Open(o.SafeFile); err != nil {
		o.T.Fatal(err)
	}
	o.Service = o.Beside(o.Store, o.Safe)
}

// Beside is another process of the service, on a database and with a safe, which is nil for one that is
// switched off.
func (o *Office) Beside(on *store.Store, with *safe.Safe) *service.Service {
	o.T.Helper()
	c, err := cloud.Connect("http://127.0.0.1:0", "", time.Second)
	if err != nil {
		o.T.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	return service.New(on, c, runs.New(on, log), log, service.Options{Safe: with, Now: o.Now})
}

func (o *Office) Now() time.Time { return o.At }

func (o *Office) Hire(name string, role people.Role, limits map[string]string) people.Actor {
	o.T.Helper()
	err := o.People.AddOperator(
		o.T.Context(), people.Actor{Name: "setup", Via: "service"}, journal.IdempotencyKey{},
		people.NewOperator{Name: name, Password: OfficePassword, Role: role, Limits: limits},
	)
	if err != nil {
		o.T.Fatal(err)
	}
	return o.known(name)
}

// known is somebody who has an account.
func (o *Office) known(name string) people.Actor {
	o.T.Helper()
	op, err := o.Store.OperatorNamed(o.T.Context(), name)
	if err != nil {
		o.T.Fatal(err)
	}
	return people.Actor{ID: op.ID, Name: op.Name, Role: people.Role(op.Role), Limits: op.Limits}
}

// Keep has the service make a key pair whose private key is in the safe.
func (o *Office) Keep(name, holder string, labels map[string]string) record.Key {
	o.T.Helper()
	k, encrypted, err := o.Keys.NewKept(
		o.T.Context(), o.Store, o.Ines, keys.NewKey{Name: name, Labels: labels}, keypair.Spec{}, name,
	)
	if err != nil {
		o.T.Fatal(err)
	}
	whose, err := o.Store.HolderNamed(o.T.Context(), holder)
	if err != nil {
		o.T.Fatal(err)
	}
	k.HolderID = &whose.ID
	if err := o.Store.InTx(
		o.T.Context(),
		func(tx *store.Store) error { return keys.AddKept(o.T.Context(), tx, &k, encrypted) },
	); err != nil {
		o.T.Fatal(err)
	}
	return k
}

func (o *Office) Wants(what string, err error, code string) {
	o.T.Helper()
	if got := CodeOf(err); err == nil && code != "" || err != nil && got != code {
		o.T.Errorf("%s: got %q (%v), want %q", what, got, err, code)
	}
}

func (o *Office) SignIn(name, password, code, address string) (string, error) {
	_, secret, err := o.People.SignIn(
		o.T.Context(), people.SignIn{Name: name, Password: password, Code: code, Via: "console", Address: address},
	)
	return secret, err
}

// Prove has the actor sign a challenge with the private key.
func (o *Office) Prove(actor people.Actor, key string, private []byte) error {
	o.T.Helper()
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		o.T.Fatal(err)
	}
	c, err := o.Access.Challenge(o.T.Context(), actor, key, nil)
	if err != nil {
		return err
	}
	text, err := signature.Sign(signer, signature.Namespace, []byte(c.Text))
	if err != nil {
		o.T.Fatal(err)
	}
	_, err = o.Access.Prove(o.T.Context(), actor, key, c.ID, text)
	return err
}
