package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

// SignIn is what somebody gives to sign in, and from where.
type SignIn struct {
	Name, Password string
	// Code is of the second factor, or a recovery code; "" for none.
	Code           string
	Via, RequestID string
	// Address is the caller's.
	Address string
}

const knownAddresses = 5 // kept of each person

// account is the name under which wrong tries are counted. Somebody at an address that they
// have signed in from is counted apart, so that a stranger's tries do not
// keep them out.
func (in SignIn) account(o record.Operator) string {
	if in.Address != "" && slices.Contains(o.KnownAddresses, in.Address) {
		return in.Name + " at " + in.Address
	}
	return in.Name
}

// SignIn begins a console session and returns its secret. An unknown name and
// a wrong password get the same answer in the same time.
func (s *Service) SignIn(ctx context.Context, in SignIn) (Actor, string, error) {
	if len(in.Name) > 128 {
		in.Name = in.Name[:128]
	}
	o, err := s.store.OperatorNamed(ctx, in.Name)
	unknown := errors.Is(err, store.ErrNotFound)
	if err != nil && !unknown {
		return Actor{}, "", err
	}
	try, err := s.attempt(ctx, in.account(o), in.Address)
	if err != nil {
		return Actor{}, "", err
	}
	fits, err := passwordFits(ctx, o.PasswordHash, in.Password)
	if err != nil {
		return Actor{}, "", err
	}
	if !fits || unknown || o.ClosedAt != nil {
		return Actor{}, "", s.refuseSignIn(ctx, in, &problem.Problem{
			Kind:   problem.Unauthenticated,
			Code:   "wrong-name-or-password",
			Detail: "the name or the password is wrong",
		})
	}
	if o.FactorAt != nil {
		if in.Code == "" {
			if err := try.succeeded(ctx); err != nil { // the password was right
				return Actor{}, "", err
			}
			return Actor{}, "", &problem.Problem{
				Kind:   problem.Unauthenticated,
				Code:   "code-needed",
				Field:  "code",
				Detail: "this account has a second factor, and no code was given",
				Remedy: "Give the six digits that your authenticator shows, or a recovery code",
			}
		}
		ok, err := s.codeFits(ctx, o, in.Code)
		if err != nil {
			return Actor{}, "", err
		}
		if !ok {
			return Actor{}, "", s.refuseSignIn(ctx, in, &problem.Problem{
				Kind:   problem.Unauthenticated,
				Code:   "wrong-code",
				Field:  "code",
				Detail: "the code is wrong, or was used before",
				Remedy: "Wait for the next one; the clock of this service says " + s.now().UTC().Format("15:04:05 UTC"),
			})
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return Actor{}, "", err
	}
	return s.beginSession(ctx, o, in, "sign-in", false)
}

// beginSession begins a session of somebody who has shown who they are, or who has yet to give
// a code for that.
func (s *Service) beginSession(
	ctx context.Context, o record.Operator, in SignIn, told string, awaitsCode bool,
) (Actor, string, error) {
	actor := actorOf(o)
	actor.Via, actor.RequestID = in.Via, in.RequestID
	secret := secrets.New()
	if in.Address != "" && !slices.Contains(o.KnownAddresses, in.Address) {
		o.KnownAddresses = append(o.KnownAddresses, in.Address)
		o.KnownAddresses = o.KnownAddresses[max(0, len(o.KnownAddresses)-knownAddresses):]
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		n := record.Session{
			ID:         store.NewID(),
			Hash:       secrets.Hash(secret),
			OperatorID: o.ID,
			CreatedAt:  s.now(),
			SeenAt:     s.now(),
			ExpiresAt:  s.now().Add(s.SessionLasts),
			Via:        in.Via,
			Address:    in.Address,
			AwaitsCode: awaitsCode,
		}
		if !awaitsCode {
			n.ConfirmedAt = &n.CreatedAt
		}
		actor.Session, actor.AwaitsCode = n.ID, awaitsCode
		if err := tx.AddSession(ctx, n); err != nil || awaitsCode {
			return err
		}
		if err := tx.ChangeOperator(ctx, o.ID, o, "known_addresses"); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(actor.By(), told, "operator", o.Name, "", nil))
	})
	return actor, secret, err
}

// refuseSignIn notes a wrong try, which is counted, and returns p.
func (s *Service) refuseSignIn(ctx context.Context, in SignIn, p error) error {
	subject := in.Name
	if err := problem.CheckName("name", in.Name); err != nil {
		subject = "(not a name)"
	}
	refused := s.journal.Entry(
		journal.By{Name: "(nobody)", Via: in.Via, RequestID: in.RequestID}, "sign-in:refused", "operator", subject, "",
		nil,
	)
	refused.Outcome = "refused"
	if in.Address != "" {
		refused.Details = map[string]any{"address": in.Address}
	}
	if err := s.store.Note(ctx, refused); err != nil {
		return err
	}
	return p
}

// SignOut ends the session with the secret.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	return s.store.EndSession(ctx, secrets.Hash(secret))
}

var errUnauthenticated = &problem.Problem{
	Kind:   problem.Unauthenticated,
	Code:   "not-signed-in",
	Detail: "this needs a valid token or session",
	Remedy: "Sign in: plumlatch sign-in",
}

// BySession returns who has the session.
func (s *Service) BySession(ctx context.Context, secret string) (Actor, error) {
	n, o, err := s.store.SessionHolder(ctx, secrets.Hash(secret), s.now(), s.SessionIdle)
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, errUnauthenticated
	}
	actor := actorOf(o)
	actor.Session = n.ID
	if n.ConfirmedAt != nil {
		actor.ConfirmedAt = *n.ConfirmedAt
	}
	return actor, err
}

// confirmationHolds is for how long somebody counts as having just shown who they are.
const confirmationHolds = 10 * time.Minute

// Confirmed refuses who has not just given their password or a code in a session: making tokens,
// second factors, passwords and accounts is for the person, not for whoever found a token
// or an open browser.
func (s *Service) Confirmed(actor Actor) error {
	if actor.Session == uuid.Nil {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "session-needed",
			Detail: "this is done in a session of your own, not with a token",
			Remedy: "Let the client ask for your password, or use the console",
		}
	}
	if s.now().Sub(actor.ConfirmedAt) > confirmationHolds {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "confirmation-needed",
			Detail: "this needs your password, or a code of your second factor, given within the last 10 minutes",
			Remedy: "Give it again, and then repeat this",
		}
	}
	return nil
}

// Confirm takes the password of a session's person, or a code of their second factor, once more.
func (s *Service) Confirm(ctx context.Context, actor Actor, password, code string) error {
	if actor.Session == uuid.Nil {
		return s.Confirmed(actor)
	}
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return err
	}
	try, err := s.attempt(ctx, "confirmation of "+o.Name, "")
	if err != nil {
		return err
	}
	var fits bool
	switch {
	case code != "" && o.FactorAt != nil:
		fits, err = s.codeFits(ctx, o, code)
	case o.PasswordHash == "" && o.FactorAt == nil:
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "sign-in-needed",
			Detail: "this account has neither a password nor a second factor here",
			Remedy: "Sign out, sign in by the issuer again, and repeat this within 10 minutes",
		}
	default:
		fits, err = passwordFits(ctx, o.PasswordHash, password)
	}
	if err != nil {
		return err
	}
	if !fits {
		refused := s.journal.Entry(
			actor.By(), "session.confirm", "operator", o.Name, "", nil,
		)
		refused.Outcome = "refused"
		if err := s.store.Note(ctx, refused); err != nil {
			return err
		}
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "wrong-confirmation",
			Detail: "that is not your password, or not a current code",
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return err
	}
	return s.store.ConfirmSession(ctx, actor.Session, s.now())
}

// GiveCode takes the code of the second factor that a session waits for.
func (s *Service) GiveCode(ctx context.Context, in SignIn, secret string) (Actor, error) {
	n, o, err := s.store.SessionAwaitingCode(ctx, secrets.Hash(secret), s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, &problem.Problem{
			Kind:   problem.Unauthenticated,
			Code:   "no-sign-in-begun",
			Detail: "no sign-in waits for a code here",
			Remedy: "Sign in again",
		}
	}
	if err != nil {
		return Actor{}, err
	}
	in.Name = o.Name
	try, err := s.attempt(ctx, in.account(o), in.Address)
	if err != nil {
		return Actor{}, err
	}
	ok, err := s.codeFits(ctx, o, in.Code)
	if err != nil {
		return Actor{}, err
	}
	if !ok {
		return Actor{}, s.refuseSignIn(ctx, in, wrongCode())
	}
	if err := try.succeeded(ctx); err != nil {
		return Actor{}, err
	}
	actor := actorOf(o)
	actor.Via, actor.RequestID, actor.Session, actor.ConfirmedAt = in.Via, in.RequestID, n.ID, s.now()
	return actor, s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.ConfirmSession(ctx, n.ID, s.now()); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "sign-in:issuer-code", "operator", o.Name, "", nil,
		))
	})
}

// Sessions returns the actor's sessions that hold, or everybody's.
func (s *Service) Sessions(ctx context.Context, actor Actor, all bool) ([]record.Session, error) {
	of, err := whose(actor, all)
	if err != nil {
		return nil, err
	}
	return s.store.Sessions(ctx, of, s.now(), s.SessionIdle)
}

// EndSession ends a session at once: one of the actor's own, or for an admin anybody's.
func (s *Service) EndSession(ctx context.Context, actor Actor, id uuid.UUID) error {
	of, err := whose(actor, actor.Role == Admin)
	if err != nil {
		return err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		n, err := tx.EndSessionByID(ctx, of, id)
		if err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "session.end", "operator", n.Person, "",
			journal.Facts{"began": n.CreatedAt.UTC().Format(time.RFC3339)},
		))
	})
	if errors.Is(err, store.ErrNotFound) {
		return &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-session",
			Detail: "there is no such session",
			Remedy: "See them: plumlatch session list",
		}
	}
	return err
}

// SetUpSecret returns the secret by which the first admin can be made, and "" where
// there are accounts already. It holds until the service ends or it was used.
func (s *Service) SetUpSecret(ctx context.Context) (string, error) {
	any, err := s.HasOperators(ctx)
	if err != nil || any {
		return "", err
	}
	secret := rand.Text()
	s.setUp.Store(new([32]byte(secrets.Hash(secret))))
	return secret, nil
}

// ToBeSetUp reports whether the first admin can be made by the set-up secret.
func (s *Service) ToBeSetUp(ctx context.Context) (bool, error) {
	if s.setUp.Load() == nil {
		return false, nil
	}
	there, err := s.HasOperators(ctx)
	if there { // made by another process
		s.setUp.Store(nil)
	}
	return !there, err
}

// SetUp makes the first admin.
func (s *Service) SetUp(ctx context.Context, in SignIn, secret, title string) error {
	try, err := s.attempt(ctx, "(set-up)", in.Address)
	if err != nil {
		return err
	}
	want := s.setUp.Load()
	if want == nil {
		return &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "set-up-over",
			Detail: "there are accounts here already",
			Remedy: "Sign in; an admin makes further accounts",
		}
	}
	if subtle.ConstantTimeCompare(want[:], secrets.Hash(strings.TrimSpace(secret))) != 1 {
		return &problem.Problem{
			Kind:   problem.Unauthenticated,
			Code:   "wrong-set-up-secret",
			Field:  "secret",
			Detail: "that is not the set-up secret",
			Remedy: "It is printed where the service was started, again at each start until there is an account",
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return err
	}
	made, err := s.newOperator(ctx, NewOperator{Name: in.Name, Title: title, Password: in.Password, Role: Admin})
	if err != nil {
		return err
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.LockPeople(ctx); err != nil {
			return err
		}
		n, err := tx.CountOperators(ctx)
		if err != nil {
			return err
		}
		if n > 0 {
			return &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "set-up-over",
				Detail: "there are accounts here already",
				Remedy: "Sign in; an admin makes further accounts",
			}
		}
		return s.addOperator(ctx, tx, Actor{Name: "setup", Via: in.Via, RequestID: in.RequestID}, made)
	})
	if err == nil {
		s.setUp.Store(nil)
	}
	return err
}

// How long a session holds in all, and without use, unless set.
const (
	defaultSessionLasts = 12 * time.Hour
	defaultSessionIdle  = time.Hour
)
