package people

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Holders returns all persons and teams.
func (s *Service) Holders(ctx context.Context) ([]record.Holder, error) { return s.store.Holders(ctx) }

// AddTeam makes a team, that can keep keys.
func (s *Service) AddTeam(ctx context.Context, actor Actor, once journal.IdempotencyKey, name, title string) error {
	if title == "" {
		title = name
	}
	if err := errors.Join(problem.CheckName("name", name), problem.CheckText("title", title)); err != nil {
		return problem.First(err)
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, name)
		if err != nil || earlier != "" {
			return err
		}
		if err := tx.AddHolder(ctx, record.Holder{ID: store.NewID(), Name: name, Kind: "team", Title: title}); err != nil {
			return err
		}
		return tx.Note(
			ctx, s.journal.Entry(actor.By(), "team.add", "team", name, "", nil),
		)
	})
	return personTaken(err, name)
}

func (s *Service) teamNamed(ctx context.Context, tx *store.Store, name string) (record.Holder, error) {
	k, err := tx.HolderNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && k.Kind != "team" {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-team",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no team named %q", name),
			Remedy: "See them: plumlatch holder list",
		}
	}
	return k, err
}

// SetTeamMember puts a person into a team or takes them out.
func (s *Service) SetTeamMember(ctx context.Context, actor Actor, team, person string, in bool) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		t, err := s.teamNamed(ctx, tx, team)
		if err != nil {
			return err
		}
		o, err := s.OperatorNamed(ctx, tx, person)
		if err != nil {
			return err
		}
		if in && o.ClosedAt != nil {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "account-closed",
				Where:  []string{person},
				Detail: "the account of " + person + " is closed",
			}
		}
		change, told := tx.JoinTeam, "team.join"
		if !in {
			change, told = tx.PartTeam, "team.part"
		}
		did, err := change(ctx, t.ID, o.ID)
		if err != nil || !did {
			return err
		}
		e := s.journal.Entry(actor.By(), told, "team", team, "", journal.Facts{"member": person})
		e.About = append(e.About, "operator:"+person)
		return tx.Note(ctx, e)
	})
}

// DeleteTeam ends a team that holds no key.
func (s *Service) DeleteTeam(ctx context.Context, actor Actor, name string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		t, err := s.teamNamed(ctx, tx, name)
		if err != nil {
			return err
		}
		n, err := tx.KeysOfHolder(ctx, t.ID)
		if err != nil {
			return err
		}
		if n > 0 {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "team-holds-keys",
				Where:  []string{name},
				Detail: fmt.Sprintf("the team %s holds %s", name, text.Counted(int(n), "key")),
				Remedy: "Hand them over first: plumlatch key hand-over KEY HOLDER",
			}
		}
		if err := tx.DeleteHolder(ctx, t.ID); err != nil {
			return err
		}
		return tx.Note(
			ctx, s.journal.Entry(actor.By(), "team.delete", "team", name, "", nil),
		)
	})
}

// HolderFor returns the named holder, or the actor's own.
func (s *Service) HolderFor(ctx context.Context, actor Actor, name string) (*record.Holder, error) {
	if name == "" {
		k, err := s.store.HolderOf(ctx, actor.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil
		}
		return &k, err
	}
	k, err := s.store.HolderNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-such-holder",
			Field:  "holder",
			Detail: fmt.Sprintf("there is no holder %q", name),
			Remedy: "See who there is: plumlatch holder list",
		}
	}
	return &k, err
}
