package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/argon2"

	"plumlatch/internal/store"
)

// The cost of a password hash: argon2id with 46 MiB, one pass, one lane, as
// RFC 9106 and OWASP's list of 2023 allow.
const (
	argonMemory = 46 << 10 // KiB
	argonPasses = 1
)

func hashPassword(password string) string {
	var salt [16]byte
	rand.Read(salt[:])
	return encodeHash(salt[:], argon2.IDKey([]byte(password), salt[:], argonPasses, argonMemory, 1, 32))
}

func encodeHash(salt, sum []byte) string {
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonPasses, enc(salt), enc(sum))
}

// nobody is what an unknown name is tried against, so that it takes as long as a known one.
// It is the hash of no password that anybody knows.
var nobody = func() string {
	var b [48]byte
	rand.Read(b[:])
	return encodeHash(b[:16], b[16:])
}()

// hashers is how many passwords are looked at together, as each takes 46 MiB.
var hashers = make(chan struct{}, 4)

func (s *Service) passwordFits(hash, password string) bool {
	hashers <- struct{}{}
	defer func() { <-hashers }()
	if hash == "" {
		hash = nobody
	}
	return passwordFits(hash, password) && hash != nobody
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || len(password) > 1024 {
		return false
	}
	var memory, passes uint32
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=1", &memory, &passes); err != nil {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(want) != 32 {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, passes, memory, 1, 32), want) == 1
}

func newSecret() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

func hashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

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
func (in SignIn) account(o store.Operator) string {
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
	account := in.account(o)
	if err := s.throttled(account, in.Address); err != nil {
		return Actor{}, "", err
	}
	if !s.passwordFits(o.PasswordHash, in.Password) || unknown || o.ClosedAt != nil {
		return Actor{}, "", s.refuseSignIn(ctx, in, account, &Problem{Kind: Unauthenticated, Code: "wrong-name-or-password", Detail: "the name or the password is wrong"})
	}
	if o.FactorAt != nil {
		if in.Code == "" {
			return Actor{}, "", &Problem{Kind: Unauthenticated, Code: "code-needed", Field: "code", Detail: "this account has a second factor, and no code was given", Remedy: "Give the six digits that your authenticator shows, or a recovery code"}
		}
		ok, err := s.codeFits(ctx, o, in.Code)
		if err != nil {
			return Actor{}, "", err
		}
		if !ok {
			return Actor{}, "", s.refuseSignIn(ctx, in, account, &Problem{Kind: Unauthenticated, Code: "wrong-code", Field: "code", Detail: "the code is wrong, or was used before", Remedy: "Wait for the next one; the clock of this service says " + s.now().UTC().Format("15:04:05 UTC")})
		}
	}
	s.guesses.passed(account)
	return s.beginSession(ctx, o, in, "")
}

// beginSession begins a session of somebody who has shown who they are.
func (s *Service) beginSession(ctx context.Context, o store.Operator, in SignIn, how string) (Actor, string, error) {
	actor := actorOf(o)
	actor.Via, actor.RequestID = in.Via, in.RequestID
	secret := newSecret()
	if in.Address != "" && !slices.Contains(o.KnownAddresses, in.Address) {
		o.KnownAddresses = append(o.KnownAddresses, in.Address)
		o.KnownAddresses = o.KnownAddresses[max(0, len(o.KnownAddresses)-knownAddresses):]
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		n := store.Session{ID: newID(), Hash: hashSecret(secret), OperatorID: o.ID, CreatedAt: s.now(), SeenAt: s.now(), ExpiresAt: s.now().Add(s.SessionLasts), Via: in.Via, Address: in.Address}
		actor.Session = n.ID
		return errors.Join(tx.AddSession(ctx, n), tx.ChangeOperator(ctx, o.ID, o, "known_addresses"),
			tx.Note(ctx, s.entry(actor, "sign-in", "operator", o.Name, "", "%s signed in%s.", o.Name, how)))
	})
	return actor, secret, err
}

// refuseSignIn counts and notes a wrong try and returns p.
func (s *Service) refuseSignIn(ctx context.Context, in SignIn, account string, p error) error {
	s.guesses.failed(s.now(), account, in.Address)
	subject := in.Name
	if err := checkName("name", in.Name); err != nil {
		subject = "(not a name)"
	}
	refused := s.entry(Actor{Name: "(nobody)", Via: in.Via, RequestID: in.RequestID}, "sign-in", "operator", subject, "", "A sign-in as %s was refused.", subject)
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
	return s.store.EndSession(ctx, hashSecret(secret))
}

var errUnauthenticated = &Problem{Kind: Unauthenticated, Code: "not-signed-in", Detail: "this needs a token or a session, and there is none that holds", Remedy: "Sign in: plumlatch sign-in"}

// BySession returns who has the session.
func (s *Service) BySession(ctx context.Context, secret string) (Actor, error) {
	n, o, err := s.store.SessionHolder(ctx, hashSecret(secret), s.now(), s.SessionIdle)
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, errUnauthenticated
	}
	actor := actorOf(o)
	actor.Session = n.ID
	return actor, err
}

// Sessions returns the actor's sessions that hold, or everybody's.
func (s *Service) Sessions(ctx context.Context, actor Actor, all bool) ([]store.Session, error) {
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
		return tx.Note(ctx, s.entry(actor, "session.end", "operator", n.Person, "", "%s ended a session of %s that was begun on %s.", actor.Name, n.Person, n.CreatedAt.UTC().Format("2 Jan 2006 at 15:04 UTC")))
	})
	if errors.Is(err, store.ErrNotFound) {
		return &Problem{Kind: NotFound, Code: "no-such-session", Detail: "there is no such session that holds", Remedy: "See them: plumlatch session list"}
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
	s.setUp.Store(new([32]byte(hashSecret(secret))))
	return secret, nil
}

// ToBeSetUp reports whether the first admin can be made by the set-up secret.
func (s *Service) ToBeSetUp() bool { return s.setUp.Load() != nil }

// SetUp makes the first admin.
func (s *Service) SetUp(ctx context.Context, in SignIn, secret, title string) error {
	if err := s.throttled("(set-up)", in.Address); err != nil {
		return err
	}
	want := s.setUp.Load()
	if want == nil {
		return &Problem{Kind: Gone, Code: "set-up-over", Detail: "there are accounts here already", Remedy: "Sign in; an admin makes further accounts"}
	}
	if subtle.ConstantTimeCompare(want[:], hashSecret(strings.TrimSpace(secret))) != 1 {
		s.guesses.failed(s.now(), "(set-up)", in.Address)
		return &Problem{Kind: Unauthenticated, Code: "wrong-set-up-secret", Field: "secret", Detail: "that is not the set-up secret", Remedy: "It is printed where the service was started, anew at each start until there is an account"}
	}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.LockPeople(ctx); err != nil {
			return err
		}
		if n, err := tx.CountOperators(ctx); err != nil || n > 0 {
			return errors.Join(err, &Problem{Kind: Gone, Code: "set-up-over", Detail: "there are accounts here already", Remedy: "Sign in; an admin makes further accounts"})
		}
		return s.addOperator(ctx, tx, Actor{Name: "setup", Via: in.Via, RequestID: in.RequestID}, NewOperator{Name: in.Name, Title: title, Password: in.Password, Role: Admin})
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
