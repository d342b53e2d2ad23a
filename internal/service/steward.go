package service

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/store"
)

// newSteward makes a steward key for the instance. Its private half is in the
// safe when tx ends, and nowhere else.
func (s *Service) newSteward(ctx context.Context, tx *store.Store, actor Actor, i store.Instance) (store.Key, error) {
	if s.Safe == nil {
		return store.Key{}, noSafe()
	}
	called := name.Suggest("steward-" + i.Name)
	if _, err := tx.KeyNamed(ctx, called); err == nil {
		called = name.Suggest(called[:min(len(called), name.MaxLength-7)] + "-" + strings.ToLower(rand.Text()[:6]))
	}
	k, sealed, err := s.newKept(
		ctx,
		tx,
		actor,
		NewKey{Name: called, Purpose: "the service's own key for " + i.Name},
		keypair.Spec{},
		"plum latch steward of "+i.Name,
	)
	if err != nil {
		return store.Key{}, err
	}
	k.StewardOf = &i.ID
	return k, addKept(ctx, tx, &k, sealed)
}

// newKept makes a pair whose private half is to be kept, and seals that.
func (s *Service) newKept(
	ctx context.Context,
	tx *store.Store,
	actor Actor,
	in NewKey,
	spec keypair.Spec,
	comment string,
) (k store.Key, sealed store.Secret, err error) {
	if s.Safe == nil {
		return k, sealed, noSafe()
	}
	pair, err := keypair.Make(rand.Reader, spec, comment)
	if err != nil {
		return k, sealed, err
	}
	k = s.newRecord(actor, in, pair.Public, "service")
	k.Custody = "kept"
	private, err := pair.OpenSSH(nil)
	if err != nil {
		return k, sealed, err
	}
	sealed, err = s.seal(ctx, tx, private, k.ID.String())
	clear(private)
	return k, sealed, err
}

func addKept(ctx context.Context, tx *store.Store, k *store.Key, sealed store.Secret) error {
	if err := tx.AddKey(ctx, k); err != nil {
		return err
	}
	return tx.KeepHalf(ctx, k.ID, sealed, k.CreatedAt)
}

func noSafe() *Problem {
	return &Problem{
		Kind:   Conflict,
		Code:   "no-safe",
		Detail: "the safe is switched off, so no private half can be kept",
		Remedy: "Start the service with -safe-key-file FILE",
	}
}

// lineFor is the line of a key in authorized_keys. A steward key's is limited to
// what it is for.
func (s *Service) lineFor(k store.Key) string {
	if k.StewardOf == nil {
		return lineOf(k)
	}
	options := "restrict"
	if s.StewardFrom != "" {
		options += `,from="` + s.StewardFrom + `"`
	}
	return options + " " + lineOf(k)
}

// Granted is a grant and what is being done about it.
type Granted struct {
	Key   store.Key
	Login store.Login
	// Name is the login's, user@instance.
	Name     string
	Line     string
	Instance store.Instance
	// Run places or removes the line; nil where the caller does that.
	Run *store.Run
}

// AddSteward makes a steward key for an instance that has none and grants it the
// instance's own login. The caller places the line from their own machine, in a run.
func (s *Service) AddSteward(ctx context.Context, actor Actor, instance string) (Granted, error) {
	l, i, err := s.loginNamed(ctx, instance)
	if err != nil {
		return Granted{}, err
	}
	out := Granted{Login: l, Name: loginName(l.OSUser, i.Name), Instance: i}
	var run store.Run
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if out.Key, err = s.newSteward(ctx, tx, actor, i); err != nil {
			return err
		}
		grant := store.Grant{
			ID:        newID(),
			KeyID:     out.Key.ID,
			LoginID:   l.ID,
			GrantedAt: s.now(),
			GrantedBy: actor.Name,
			Reason:    "steward key",
		}
		if err := tx.AddGrants(ctx, []store.Grant{grant}); err != nil {
			return err
		}
		run = s.newRun(
			actor,
			grantKind,
			i,
			"steward key",
			grantWork{Key: out.Key.ID, Login: l.ID, Added: true, Worker: actor.Name},
		)
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.entry(
				actor,
				"steward.add",
				"instance",
				i.Name,
				"",
				"%s had a steward key made for %s; its private half is in the safe.",
				actor.Name,
				i.Name,
			),
		)
	})
	var taken *store.TakenError
	if errors.As(err, &taken) && taken.Constraint != "runs_one_live" {
		return Granted{}, &Problem{
			Kind:   Conflict,
			Code:   "steward-there",
			Where:  []string{i.Name},
			Detail: i.Name + " has a steward key already",
			Remedy: "See it: plumlatch openers " + i.Name,
		}
	}
	out.Line = s.lineFor(out.Key)
	return s.startGranted(ctx, out, run, err)
}

// Adopted says which machine is to be brought in.
type Adopted struct {
	Name, Address, LoginUser string
	Port                     int // 0 means 22
	HostKeys                 []string
	Learnt                   string
	Labels                   map[string]string
}

// Adopt records a machine that was not launched here, with the host keys that
// the caller saw.
func (s *Service) Adopt(ctx context.Context, actor Actor, a Adopted) (store.Instance, error) {
	var err error
	if a.Labels, err = actor.labelled(a.Labels); err != nil {
		return store.Instance{}, err
	}
	if err := errors.Join(checkName("name", a.Name), checkLabels(a.Labels), checkText("learnt", a.Learnt)); err != nil {
		return store.Instance{}, err
	}
	if a.Port == 0 {
		a.Port = 22
	}
	bad := func(field, detail, remedy string) (store.Instance, error) {
		return store.Instance{}, &Problem{Kind: Invalid, Code: "bad-" + field, Field: field, Detail: detail, Remedy: remedy}
	}
	if err := checkAddress(a.Address, a.Port); err != nil {
		return store.Instance{}, err
	}
	switch {
	case name.CheckUser(a.LoginUser) != nil:
		return bad("login_user", name.ErrUser.Error(), "Give the OS user to log in as")
	case len(a.HostKeys) == 0 || len(a.HostKeys) > 16:
		return bad(
			"host_keys",
			"1 to 16 host keys are needed",
			"The client reads them from the machine: plumlatch instance adopt",
		)
	}
	i := store.Instance{
		ID:            newID(),
		Name:          a.Name,
		State:         "running",
		LoginUser:     a.LoginUser,
		PublicAddress: a.Address,
		SSHPort:       a.Port,
		Adopted:       true,
		Labels:        a.Labels, CreatedAt: s.now(), CreatedBy: actor.Name, StaticAddress: true,
	}
	if i.Labels == nil {
		i.Labels = map[string]string{}
	}
	if a.Learnt == "" {
		a.Learnt = "first contact"
	}
	var pins []store.HostKey
	for _, line := range a.HostKeys {
		k, err := keypair.ReadLine(line)
		if err != nil {
			return store.Instance{}, refusalProblem("host_keys", err)
		}
		pins = append(
			pins,
			store.HostKey{
				ID:         newID(),
				InstanceID: i.ID,
				Algorithm:  k.Algorithm,
				Blob:       k.Blob,
				SHA256:     k.SHA256(),
				Learnt:     a.Learnt,
				PinnedAt:   s.now(),
			},
		)
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddInstance(ctx, &i); err != nil {
			return err
		}
		if err := tx.AddLogin(ctx, store.Login{ID: newID(), InstanceID: i.ID, OSUser: a.LoginUser}); err != nil {
			return err
		}
		if err := tx.PinHostKeys(ctx, pins); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.entry(
				actor,
				"instance.adopt",
				"instance",
				a.Name,
				"",
				"%s adopted %s (%s@%s port %d) with the host key %s, learnt by %s.",
				actor.Name,
				a.Name,
				a.LoginUser,
				a.Address,
				a.Port,
				keypair.FormatSHA256(pins[0].SHA256),
				a.Learnt,
			),
		)
	})
	if err != nil {
		return store.Instance{}, takenInstance(err, a.Name)
	}
	return s.store.InstanceByID(ctx, i.ID)
}

// release forgets an adopted instance: nothing on the machine is touched.
func (s *Service) release(ctx context.Context, actor Actor, i store.Instance, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := s.forget(ctx, tx, i.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.entry(
				actor,
				"instance.release",
				"instance",
				i.Name,
				reason,
				"%s let %s go; nothing on the machine was changed.",
				actor.Name,
				i.Name,
			),
		)
	})
}

// forget ends what is recorded of an instance that is gone: its grants and its steward key.
func (s *Service) forget(ctx context.Context, tx *store.Store, instance uuid.UUID) error {
	if err := tx.WithdrawGrantsOf(ctx, instance, s.now(), "service"); err != nil {
		return err
	}
	if err := tx.RetireSteward(ctx, instance); err != nil {
		return err
	}
	return tx.ChangeInstance(ctx, instance, map[string]any{"gone_at": s.now(), "state": "terminated"})
}
