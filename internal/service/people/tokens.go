package people

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

const tokenPrefix = "plumlatch_"

// ByToken returns who has the token. A token may be weaker than its operator,
// never stronger.
func (s *Service) ByToken(ctx context.Context, secret string) (Actor, error) {
	t, o, err := s.store.TokenHolder(ctx, secrets.Hash(secret), s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, errUnauthenticated
	}
	actor := actorOf(o)
	actor.ByToken, actor.Only, actor.Limits = true, t.Only, both(o.Limits, t.Limits)
	actor.Charter, actor.Unsigned = t.Charter, t.Unsigned
	if Role(o.Role).May(Role(t.Role)) {
		actor.Role = Role(t.Role)
	}
	if actor.Role == Admin && len(actor.Limits) > 0 { // who could lift the limit
		actor.Role = Operator
	}
	return actor, err
}

func actorOf(o record.Operator) Actor {
	return Actor{ID: o.ID, Name: o.Name, Role: Role(o.Role), Limits: o.Limits, Machine: o.Machine}
}

// both returns the labels of two limits that hold together.
func both(a, b map[string]string) map[string]string {
	out := map[string]string{}
	for _, l := range []map[string]string{a, b} {
		for k, v := range l {
			if earlier, ok := out[k]; ok && earlier != v {
				v += "\x00" + earlier // no instance has both
			}
			out[k] = v
		}
	}
	return out
}

// NewToken says what a token will be.
type NewToken struct {
	Name string
	Role Role // "" for the actor's own
	Days int  // 0 for 90
	// Only is sweep, read, compare or settle; "" for all that the role may.
	Only string
	// Charter is the one that a token settles, with a signature by a person unless it is Unsigned.
	Charter  string
	Unsigned bool
	// For is the machine account that has it; "" for the actor.
	For string
	// Limits narrow what the token sees further than its owner's do.
	Limits map[string]string
}

// AddToken makes a token for the actor and returns its secret, which is kept nowhere.
func (s *Service) AddToken(
	ctx context.Context, actor Actor, once journal.IdempotencyKey, in NewToken,
) (record.Token, string, error) {
	if err := errors.Join(problem.CheckName("name", in.Name), problem.CheckLabels(in.Limits)); err != nil {
		return record.Token{}, "", problem.First(err)
	}
	owner, err := s.ownerOf(ctx, actor, in)
	if err != nil {
		return record.Token{}, "", err
	}
	if err := in.settle(actor, owner); err != nil {
		return record.Token{}, "", err
	}
	secret := tokenPrefix + secrets.New()
	t := record.Token{
		ID:         store.NewID(),
		Name:       in.Name,
		Hash:       secrets.Hash(secret),
		OperatorID: owner.ID,
		Role:       string(in.Role),
		Only:       in.Only,
		Charter:    in.Charter,
		Unsigned:   in.Unsigned,
		Limits:     in.Limits,
		CreatedAt:  s.now(),
		ExpiresAt:  new(s.now().AddDate(0, 0, in.Days)),
		Person:     owner.Name,
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, t.ID.String())
		if err != nil {
			return err
		}
		if earlier != "" {
			return &problem.Problem{
				Kind:   problem.Gone,
				Code:   "secret-shown",
				Detail: "this request made a token before, and its secret was shown then",
				Remedy: "Revoke that token and make another (plumlatch token list)",
			}
		}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "token.add", "token", in.Name, "",
			journal.Facts{
				"role": string(in.Role), "only": in.Only, "limits": limitWords(in.Limits), "days": in.Days, "for": in.For,
				"charter": in.Charter,
			},
		))
	})
	return t, secret, err
}

// ownerOf is who will have a token: the actor, or a machine for which an admin makes it.
func (s *Service) ownerOf(ctx context.Context, actor Actor, in NewToken) (Actor, error) {
	if in.For == "" {
		return actor, nil
	}
	if actor.Role != Admin {
		return Actor{}, &problem.Problem{
			Kind: problem.Forbidden, Code: "role-too-low", Field: "for", Detail: "an admin makes the tokens of machines",
			Remedy: "Ask an admin",
		}
	}
	o, err := s.OperatorNamed(ctx, s.store, in.For)
	if err != nil {
		return Actor{}, err
	}
	if !o.Machine || o.ClosedAt != nil {
		return Actor{}, &problem.Problem{
			Kind: problem.Forbidden, Code: "no-machine", Field: "for", Where: []string{in.For},
			Detail: in.For + " is no machine with an account; people make their own tokens",
			Remedy: "Add one: plumlatch operator add NAME -machine",
		}
	}
	return actorOf(o), nil
}

// settle fills in what was left out, and refuses what would be wider, longer or higher than its maker and its owner.
func (in *NewToken) settle(actor, owner Actor) error {
	if in.Role == "" {
		in.Role = owner.Role
	}
	if (in.Charter != "") != (in.Only == "settle") || in.Unsigned && in.Only != "settle" {
		return &problem.Problem{
			Kind: problem.Invalid, Code: "bad-charter", Field: "charter",
			Detail: "a token that settles is for the charter of one name, and no other is for any",
			Remedy: "Give both: -only settle -charter NAME",
		}
	}
	switch in.Only {
	case "":
	case "read", "compare":
		in.Role = Viewer
	case "sweep", "settle":
		in.Role = Operator
	default:
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-only",
			Field:  "only",
			Detail: "a token can be for sweep, read, compare or settle alone",
		}
	}
	if !actor.Role.May(in.Role) || !owner.Role.May(in.Role) {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "role-too-high",
			Field:  "role",
			Detail: fmt.Sprintf("a token of %s can have at most the role %s", owner.Name, owner.Role),
		}
	}
	// The HTTP interface lets no token come here (Confirmed). What is made is within the
	// maker all the same.
	limits := both(actor.Limits, in.Limits)
	if in.Role == Admin && len(limits) > 0 {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "admin-with-limits",
			Field:  "limits",
			Detail: "an admin can change every limit, so an admin cannot be limited",
			Remedy: "Give the role operator or viewer",
		}
	}
	if actor.ByToken {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "session-needed",
			Detail: "a token makes no other",
			Remedy: "Let the client ask for your password, or use the console",
		}
	}
	if in.Days == 0 {
		in.Days = 90
	}
	if in.Days < 1 || in.Days > 366 {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-days",
			Field:  "days",
			Detail: "a token is valid for 1 to 366 days",
		}
	}
	for k, v := range in.Limits {
		if own, ok := actor.Limits[k]; ok && own != v {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "beyond-your-limit",
				Field:  "limits",
				Detail: fmt.Sprintf("you see instances with %s=%s alone, so a token for %s=%s would see none", k, own, k, v),
			}
		}
	}
	return nil
}

// whose is the actor, or nobody in particular where an admin asks for all.
func whose(actor Actor, all bool) (*uuid.UUID, error) {
	if !all {
		return &actor.ID, nil
	}
	if actor.Role != Admin {
		return nil, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "role-too-low",
			Field:  "all",
			Detail: "those of others are for admins",
		}
	}
	return nil, nil
}

// Tokens returns the actor's tokens that hold, or everybody's.
func (s *Service) Tokens(ctx context.Context, actor Actor, all bool) ([]record.Token, error) {
	of, err := whose(actor, all)
	if err != nil {
		return nil, err
	}
	return s.store.Tokens(ctx, of, s.now())
}

// RevokeToken ends a token at once: one of the actor's own, or for an admin anybody's.
func (s *Service) RevokeToken(ctx context.Context, actor Actor, id string) error {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-id",
			Field:  "token",
			Detail: "the token's id is not a UUID",
			Remedy: "See the ids: plumlatch token list",
		}
	}
	of, err := whose(actor, actor.Role == Admin)
	if err != nil {
		return err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		t, err := tx.RevokeToken(ctx, of, parsed, s.now())
		if err != nil {
			return err
		}
		owner := ""
		if t.OperatorID != actor.ID {
			owner = t.Person
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "token.revoke", "token", t.Name, "",
			journal.Facts{"owner": owner},
		))
	})
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-token",
			Detail: "you have no such token",
			Remedy: "See yours: plumlatch token list",
		}
	}
	return err
}
