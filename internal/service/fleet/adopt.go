package fleet

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Adopted says which machine will be brought in.
type Adopted struct {
	Name, Address, LoginUser string
	Port                     int // 0 means 22
	HostKeys                 []string
	Learnt                   string
	Labels                   map[string]string
	// Via is the instance by way of which it is reached; "" for what the jump rules say.
	Via string
	// Logins are other OS users of it that are logins from the start.
	Logins []string
}

func noUser(user string) bool { return name.CheckUser(user) != nil }

// mostLogins is how many logins a machine is adopted with, beside its first.
const mostLogins = 100

// Adopt records a machine that was not launched here, with the host keys that
// the caller saw.
func (s *Service) Adopt(ctx context.Context, actor people.Actor, a Adopted) (record.Instance, error) {
	var err error
	if a.Labels, err = actor.Labelled(a.Labels); err != nil {
		return record.Instance{}, err
	}
	if err := errors.Join(
		problem.CheckName("name", a.Name), problem.CheckLabels(a.Labels), problem.CheckText("learnt", a.Learnt),
	); err != nil {
		return record.Instance{}, err
	}
	if a.Port == 0 {
		a.Port = 22
	}
	bad := func(field, detail, remedy string) (record.Instance, error) {
		return record.Instance{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-" + field,
			Field:  field,
			Detail: detail,
			Remedy: remedy,
		}
	}
	if err := checkAddress(a.Address, a.Port); err != nil {
		return record.Instance{}, err
	}
	switch {
	case name.CheckUser(a.LoginUser) != nil:
		return bad("login_user", name.ErrUser.Error(), "Give the OS user to log in as")
	case len(a.Logins) > mostLogins || slices.ContainsFunc(a.Logins, noUser):
		return bad("logins", fmt.Sprintf("at most %d OS users are taken; %s", mostLogins, name.ErrUser), "")
	case len(a.HostKeys) == 0 || len(a.HostKeys) > 16:
		return bad(
			"host_keys", "1 to 16 host keys are needed",
			"The client reads them from the machine: plumlatch instance adopt",
		)
	}
	i := record.Instance{
		ID:            store.NewID(),
		Name:          a.Name,
		State:         machines.Running,
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
	pins, err := s.pinsOf(i, a)
	if err != nil {
		return record.Instance{}, err
	}
	facts := journal.Facts{
		"login":    a.LoginUser,
		"address":  a.Address,
		"port":     a.Port,
		"host_key": keypair.FormatSHA256(pins[0].SHA256),
		"learnt":   string(a.Learnt),
	}
	if a.Via != "" {
		host, err := s.Instance(ctx, a.Via)
		if err != nil {
			return record.Instance{}, err
		}
		i.Via, facts["via"] = &host.ID, host.Name
	}
	users := append([]string{a.LoginUser}, a.Logins...)
	slices.Sort(users)
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddInstance(ctx, &i); err != nil {
			return err
		}
		for _, user := range slices.Compact(users) {
			l := record.Login{ID: store.NewID(), InstanceID: i.ID, OSUser: user}
			if err := tx.AddLogin(ctx, l); err != nil {
				return err
			}
		}
		if err := tx.PinHostKeys(ctx, pins); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance.adopt", "instance", a.Name, "", facts,
		))
	})
	if err != nil {
		return record.Instance{}, TakenInstance(err, a.Name)
	}
	return s.store.InstanceByID(ctx, i.ID)
}

// pinsOf reads the host keys that an instance is adopted with.
func (s *Service) pinsOf(i record.Instance, a Adopted) ([]record.HostKey, error) {
	var pins []record.HostKey
	for _, line := range a.HostKeys {
		k, err := keypair.ReadLine(line)
		if err != nil {
			return nil, problem.FromRefusal("host_keys", err)
		}
		pins = append(pins, record.HostKey{
			ID:         store.NewID(),
			InstanceID: i.ID,
			Algorithm:  k.Algorithm,
			Blob:       k.Blob,
			SHA256:     k.SHA256(),
			Learnt:     a.Learnt,
			PinnedAt:   s.now(),
		})
	}
	return pins, nil
}

// release forgets an adopted instance: nothing on the machine is touched.
func (s *Service) release(ctx context.Context, actor people.Actor, i record.Instance, reason string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := s.Forget(ctx, tx, i.ID); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "instance.release", "instance", i.Name, reason, nil,
		))
	})
}

// Forget ends what is recorded of an instance that is gone: its grants and its steward key.
func (s *Service) Forget(ctx context.Context, tx *store.Store, instance uuid.UUID) error {
	if err := tx.WithdrawGrantsOf(ctx, instance, s.now(), "service"); err != nil {
		return err
	}
	if err := tx.RetireSteward(ctx, instance); err != nil {
		return err
	}
	return tx.ChangeInstance(ctx, instance, record.InstanceChange{GoneAt: new(s.now()), State: machines.Deleted})
}
