package people

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

// The roles, each of which may do what those before it may.
const (
	Viewer   Role = "viewer"
	Operator Role = "operator"
	Admin    Role = "admin"
)

// NewOperator says what an account will be.
type NewOperator struct {
	Name, Title string
	// Password is "" for somebody who signs in by the issuer alone.
	Password string
	Role     Role
	Limits   map[string]string
	// IssuerName is what the OpenID Connect issuer calls the person.
	IssuerName string
	// Machine is whether it is for a machine: with no password and no issuer, by tokens alone.
	Machine bool
}

func checkPassword(field, password string) error {
	if len(password) < 10 || len(password) > 1024 {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-password",
			Field:  field,
			Detail: "a password has 10 to 1024 characters",
		}
	}
	return nil
}

func checkLimits(role Role, limits map[string]string) error {
	if err := problem.CheckLabels(limits); err != nil {
		return err
	}
	if role == Admin && len(limits) > 0 {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "admin-with-limits",
			Field:  "limits",
			Detail: "an admin can change every limit, so an admin cannot be limited",
			Remedy: "Give the role operator or viewer",
		}
	}
	return nil
}

func checkRole(role Role) error {
	if !role.May(Viewer) {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-role",
			Field:  "role",
			Detail: "the role is viewer, operator or admin",
		}
	}
	return nil
}

// AddOperator makes an account, and its holder, so that keys can be theirs.
func (s *Service) AddOperator(ctx context.Context, actor Actor, once journal.IdempotencyKey, in NewOperator) error {
	made, err := s.newOperator(ctx, in)
	if err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.journal.Once(ctx, tx, actor.ID, once, in.Name)
		if err != nil || earlier != "" {
			return err
		}
		return s.addOperator(ctx, tx, actor, made)
	})
}

// madeOperator is an account that was checked, whose password is hashed.
type madeOperator struct {
	record.Operator
	title string
}

// newOperator checks what an account will be and hashes its password, which takes a while and
// so is done outside transactions.
func (s *Service) newOperator(ctx context.Context, in NewOperator) (made madeOperator, err error) {
	if in.Title == "" {
		in.Title = in.Name
	}
	if err := errors.Join(
		problem.CheckName("name", in.Name), problem.CheckText("title", in.Title), checkRole(in.Role),
		checkLimits(in.Role, in.Limits), problem.CheckText("issuer_name", in.IssuerName),
	); err != nil {
		return made, problem.First(err)
	}
	if in.Machine && (in.Password != "" || in.IssuerName != "" || in.Role == Admin) {
		return made, &problem.Problem{
			Kind: problem.Invalid, Code: "bad-machine", Field: "machine",
			Detail: "a machine has tokens alone: no password, no name at an issuer, and it is no admin",
			Remedy: "Give it the role viewer or operator, and make it a token: plumlatch token new NAME -for " + in.Name,
		}
	}
	o := record.Operator{
		ID:         store.NewID(),
		Machine:    in.Machine,
		Name:       in.Name,
		Role:       string(in.Role),
		CreatedAt:  s.now(),
		Limits:     in.Limits,
		IssuerName: in.IssuerName,
	}
	if !in.Machine && (in.Password != "" || in.IssuerName == "") {
		if err := checkPassword("password", in.Password); err != nil {
			return made, err
		}
		if o.PasswordHash, err = hashPassword(ctx, in.Password); err != nil {
			return made, err
		}
	}
	return madeOperator{o, in.Title}, nil
}

func (s *Service) addOperator(ctx context.Context, tx *store.Store, actor Actor, o madeOperator) error {
	if err := tx.AddOperator(ctx, o.Operator); err != nil {
		return personTaken(err, o.Name)
	}
	if err := tx.AddHolder(
		ctx, record.Holder{ID: store.NewID(), Name: o.Name, Kind: "person", Title: o.title, OperatorID: &o.ID},
	); err != nil {
		return personTaken(err, o.Name)
	}
	return tx.Note(ctx, s.journal.Entry(
		actor.By(), "operator.add", "operator", o.Name, "",
		journal.Facts{"role": o.Role, "limits": limitWords(o.Limits)},
	))
}

func personTaken(err error, name string) error {
	var taken *store.TakenError
	if !errors.As(err, &taken) {
		return err
	}
	if strings.Contains(taken.Constraint, "issuer") {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "issuer-name-taken",
			Field:  "issuer_name",
			Detail: "another account waits for somebody with that name at the issuer",
		}
	}
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "name-taken",
		Field:  "name",
		Detail: fmt.Sprintf("there is an operator or holder named %s already", name),
	}
}

func limitWords(limits map[string]string) []string {
	var parts []string
	for _, k := range slices.Sorted(maps.Keys(limits)) {
		parts = append(parts, k+"="+limits[k])
	}
	return parts
}

// HasOperators reports whether there is any account.
func (s *Service) HasOperators(ctx context.Context) (bool, error) {
	n, err := s.store.CountOperators(ctx)
	return n > 0, err
}

// Operators returns all accounts.
func (s *Service) Operators(ctx context.Context) ([]record.Operator, error) {
	return s.store.Operators(ctx, s.now())
}

// OperatorChange says what of an account changes; nil stays.
type OperatorChange struct {
	Role       *Role
	Limits     *map[string]string
	Password   *string
	IssuerName *string
	// Closed closes the account or opens it again.
	Closed *bool
	// ForgetFactor takes the second factor away from somebody who lost it.
	ForgetFactor bool
	Reason       string
	// Match is the tags of which the account must have one, as If-Match gives them
	// (RFC 9110, section 13.1.1); "" for whatever it has.
	Match string

	hash string // of the password
}

// OperatorTag stands for what an admin may know of an account and change, as an entity tag
// (RFC 9110, section 8.8.3).
func OperatorTag(o record.Operator) string {
	h := sha256.New()
	err := json.NewEncoder(h).Encode([]any{o.ID, o.Role, o.Limits, o.IssuerName, o.ClosedAt != nil})
	if err != nil {
		panic(err) // of nothing that has a text
	}
	return fmt.Sprintf(`"%x"`, h.Sum(nil)[:12])
}

// matches reports whether one of the entity tags that If-Match lists is the one that there is.
func matches(list, tag string) bool {
	for given := range strings.SplitSeq(list, ",") {
		if given = strings.TrimSpace(given); given == "*" || given == tag {
			return true
		}
	}
	return false
}

func (s *Service) OperatorNamed(ctx context.Context, tx *store.Store, name string) (record.Operator, error) {
	o, err := tx.OperatorNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		err = &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-operator",
			Where:  []string{name},
			Detail: fmt.Sprintf("there is no operator named %q", name),
			Remedy: "See who there is: plumlatch operator list",
		}
	}
	return o, err
}

// ChangeOperator changes an account. One admin always remains.
func (s *Service) ChangeOperator(ctx context.Context, actor Actor, name string, c OperatorChange) error {
	if err := problem.CheckText("reason", c.Reason); err != nil {
		return err
	}
	if c.Password != nil {
		err := checkPassword("password", *c.Password)
		if err != nil {
			return err
		}
		if c.hash, err = hashPassword(ctx, *c.Password); err != nil {
			return err
		}
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.LockPeople(ctx); err != nil {
			return err
		}
		o, err := s.OperatorNamed(ctx, tx, name)
		if err != nil {
			return err
		}
		now, err := tx.OperatorNamed(ctx, actor.Name) // the actor may have been changed while this waited
		if err == nil && (now.ClosedAt != nil || Role(now.Role) != Admin) {
			return &problem.Problem{Kind: problem.Forbidden, Code: "role-too-low", Detail: "you are no longer an admin"}
		}
		if c.Match != "" && !matches(c.Match, OperatorTag(o)) {
			return &problem.Problem{
				Kind:   problem.Changed,
				Code:   "changed-since",
				Where:  []string{name},
				Detail: "somebody else has changed the account of " + name + " since you read it; nothing was changed now",
				Remedy: "See it as it is now and change it again: plumlatch operator list",
			}
		}
		if o.Machine && (c.Password != nil || c.IssuerName != nil || c.Role != nil && *c.Role == Admin) {
			return &problem.Problem{
				Kind: problem.Invalid, Code: "bad-machine", Where: []string{name},
				Detail: name + " is a machine: it has no password and no name at an issuer, and is no admin",
			}
		}
		did, err := s.changeOperator(ctx, tx, &o, c)
		if err != nil {
			return err
		}
		if len(did) == 0 {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "nothing-to-change",
				Detail: "no changes were given",
			}
		}
		admins, err := tx.CountAdmins(ctx)
		if err != nil {
			return err
		}
		if admins == 0 {
			return &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "last-admin",
				Where:  []string{name},
				Detail: fmt.Sprintf("%s is the only admin; nobody could make another", name),
				Remedy: "Make somebody else an admin first: plumlatch operator change NAME -role admin",
			}
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "operator.change", "operator", name, c.Reason, did,
		))
	})
	return personTaken(err, name)
}

// changeOperator makes the changes and returns what was done, for the daybook.
func (s *Service) changeOperator(
	ctx context.Context, tx *store.Store, o *record.Operator, c OperatorChange,
) (did journal.Facts, err error) {
	did = journal.Facts{}
	var columns []string
	if c.Role != nil && Role(o.Role) != *c.Role {
		if err := checkRole(*c.Role); err != nil {
			return nil, err
		}
		o.Role = string(*c.Role)
		columns, did["role"] = append(columns, "role"), o.Role
	}
	if c.Limits != nil {
		o.Limits = *c.Limits
		if o.Limits == nil {
			o.Limits = map[string]string{}
		}
		columns, did["limits"], did["unlimited"] = append(columns, "limits"), limitWords(o.Limits), len(o.Limits) == 0
	}
	if err := checkLimits(Role(o.Role), o.Limits); err != nil {
		return nil, err
	}
	if c.Password != nil {
		o.PasswordHash = c.hash
		columns, did["password"] = append(columns, "password_hash"), true
		if err := tx.EndOtherSessions(ctx, o.ID, nil); err != nil {
			return nil, err
		}
	}
	if c.IssuerName != nil {
		o.IssuerName, o.IssuerSubject = *c.IssuerName, ""
		columns, did["issuer"] = append(columns, "issuer_name", "issuer_subject"), true
	}
	if len(columns) > 0 {
		if err := tx.ChangeOperator(ctx, o.ID, *o, columns...); err != nil {
			return nil, err
		}
	}
	if c.ForgetFactor && o.FactorEncrypted != nil {
		if err := tx.SetFactor(ctx, o.ID, record.Secret{}); err != nil {
			return nil, err
		}
		if err := tx.EndOtherSessions(ctx, o.ID, nil); err != nil {
			return nil, err
		}
		did["factor"] = true
	}
	// Somebody else may have signed in as this person and added one.
	if c.Password != nil || c.ForgetFactor || c.Closed != nil && *c.Closed {
		removed, err := tx.RemovePasskeys(ctx, o.ID)
		if err != nil {
			return nil, err
		}
		if removed > 0 {
			did["passkeys"] = removed
		}
	}
	switch {
	case c.Closed == nil || *c.Closed == (o.ClosedAt != nil):
	case *c.Closed:
		did["closed"] = true
		return did, tx.CloseOperator(ctx, o.ID, s.now())
	default:
		did["opened"] = true
		return did, tx.OpenOperator(ctx, o.ID)
	}
	return did, nil
}

// ChangePassword changes the actor's own password; their other sessions end.
func (s *Service) ChangePassword(ctx context.Context, actor Actor, secret, old, password string) error {
	if err := checkPassword("new_password", password); err != nil {
		return err
	}
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return err
	}
	try, err := s.attempt(ctx, "password of "+o.Name, "")
	if err != nil {
		return err
	}
	fits, err := passwordFits(ctx, o.PasswordHash, old)
	if err != nil {
		return err
	}
	if !fits {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "wrong-password",
			Field:  "password",
			Detail: "that is not your password",
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return err
	}
	if o.PasswordHash, err = hashPassword(ctx, password); err != nil {
		return err
	}
	return s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ChangeOperator(ctx, o.ID, o, "password_hash"); err != nil {
			return err
		}
		if err := tx.EndOtherSessions(ctx, o.ID, secrets.Hash(secret)); err != nil {
			return err
		}
		return tx.Note(
			ctx,
			s.journal.Entry(actor.By(), "operator.password", "operator", o.Name, "", nil),
		)
	})
}
