package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/argon2"

	"plumlatch/internal/store"
)

// Role is what an operator or a token may do.
type Role string

// The roles, each of which may do what those before it may.
const (
	Viewer   Role = "viewer"
	Operator Role = "operator"
	Admin    Role = "admin"
)

var rank = map[Role]int{Viewer: 1, Operator: 2, Admin: 3}

// May reports whether r may do what needs the role least.
func (r Role) May(least Role) bool { return rank[r] > 0 && rank[least] > 0 && rank[r] >= rank[least] }

// Actor is who makes a call, and by which way.
type Actor struct {
	ID        uuid.UUID
	Name      string
	Role      Role
	Via       string // api, cli, console or service
	ByToken   bool
	RequestID string
}

// SessionLasts is the longest that a session holds.
const SessionLasts = 12 * time.Hour

const tokenPrefix = "plumlatch_"

// The cost of a password hash: argon2id with 46 MiB, one pass, one lane, as
// RFC 9106 and OWASP's list of 2023 allow.
const (
	argonMemory = 46 << 10 // KiB
	argonPasses = 1
)

func hashPassword(password string) string {
	var salt [16]byte
	rand.Read(salt[:])
	sum := argon2.IDKey([]byte(password), salt[:], argonPasses, argonMemory, 1, 32)
	enc := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonPasses, enc(salt[:]), enc(sum))
}

func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
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

// nobody is the hash that an unknown name is tried against, so that it takes
// as long as a known one.
var nobody = hashPassword(rand.Text())

func newSecret() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

func hashSecret(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// AddOperator makes an account, and its keeper, so that keys can be theirs.
func (s *Service) AddOperator(ctx context.Context, actor Actor, name, title, password string, role Role) error {
	if err := checkName("name", name); err != nil {
		return err
	}
	if !role.May(Viewer) {
		return &Problem{Kind: Invalid, Code: "bad-role", Field: "role", Detail: "the role is viewer, operator or admin"}
	}
	if len(password) < 10 || len(password) > 1024 {
		return &Problem{Kind: Invalid, Code: "bad-password", Field: "password", Detail: "a password has 10 to 1024 characters"}
	}
	hash := hashPassword(password)
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		o := store.Operator{ID: newID(), Name: name, Role: string(role), PasswordHash: hash, CreatedAt: s.now()}
		if err := tx.AddOperator(ctx, o); err != nil {
			return err
		}
		if err := tx.AddKeeper(ctx, store.Keeper{ID: newID(), Name: name, Kind: "person", Title: title, OperatorID: &o.ID}); err != nil {
			return err
		}
		return tx.Note(ctx, s.entry(actor, "operator.add", "operator", name, "", "%s gave %s an account with the role %s.", actor.Name, name, role))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		return &Problem{Kind: Conflict, Code: "name-taken", Field: "name", Detail: fmt.Sprintf("there is an operator or keeper named %s already", name)}
	}
	return err
}

// HasOperators reports whether there is any account.
func (s *Service) HasOperators(ctx context.Context) (bool, error) {
	n, err := s.store.CountOperators(ctx)
	return n > 0, err
}

// SignIn begins a console session and returns its secret. An unknown name and
// a wrong password get the same answer in the same time.
func (s *Service) SignIn(ctx context.Context, via, requestID, name, password string) (Actor, string, error) {
	o, err := s.store.OperatorNamed(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return Actor{}, "", err
	}
	hash := o.PasswordHash
	if err != nil {
		hash = nobody
	}
	if len(password) > 1024 || !passwordFits(hash, password) || err != nil {
		subject := name
		if err := checkName("name", name); err != nil {
			subject = "(not a name)"
		}
		refused := s.entry(Actor{Name: "(nobody)", Via: via, RequestID: requestID}, "sign-in", "operator", subject, "", "A sign-in as %s was refused.", subject)
		refused.Outcome = "refused"
		if err := s.store.Note(ctx, refused); err != nil {
			return Actor{}, "", err
		}
		return Actor{}, "", &Problem{Kind: Unauthenticated, Code: "wrong-name-or-password", Detail: "the name or the password is wrong"}
	}
	actor := Actor{ID: o.ID, Name: o.Name, Role: Role(o.Role), Via: via, RequestID: requestID}
	secret := newSecret()
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		n := store.Session{Hash: hashSecret(secret), OperatorID: o.ID, CreatedAt: s.now(), ExpiresAt: s.now().Add(SessionLasts)}
		if err := tx.AddSession(ctx, n); err != nil {
			return err
		}
		return tx.Note(ctx, s.entry(actor, "sign-in", "operator", o.Name, "", "%s signed in.", o.Name))
	})
	return actor, secret, err
}

// SignOut ends the session with the secret.
func (s *Service) SignOut(ctx context.Context, secret string) error {
	return s.store.EndSession(ctx, hashSecret(secret))
}

var errUnauthenticated = &Problem{Kind: Unauthenticated, Code: "not-signed-in", Detail: "this needs a token or a session, and there is none that holds", Remedy: "Sign in: plumlatch sign-in"}

// BySession returns who has the session.
func (s *Service) BySession(ctx context.Context, secret string) (Actor, error) {
	o, err := s.store.OperatorWithSession(ctx, hashSecret(secret), s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, errUnauthenticated
	}
	return Actor{ID: o.ID, Name: o.Name, Role: Role(o.Role)}, err
}

// ByToken returns who has the token. A token may be weaker than its operator,
// never stronger.
func (s *Service) ByToken(ctx context.Context, secret string) (Actor, error) {
	t, o, err := s.store.TokenHolder(ctx, hashSecret(secret), s.now())
	if errors.Is(err, store.ErrNotFound) {
		return Actor{}, errUnauthenticated
	}
	role := Role(t.Role)
	if !Role(o.Role).May(role) {
		role = Role(o.Role)
	}
	return Actor{ID: o.ID, Name: o.Name, Role: role, ByToken: true}, err
}

// AddToken makes a token for the actor and returns its secret, which is kept nowhere.
func (s *Service) AddToken(ctx context.Context, actor Actor, once IdempotencyKey, name string, role Role, days int) (store.Token, string, error) {
	if err := checkName("name", name); err != nil {
		return store.Token{}, "", err
	}
	if role == "" {
		role = actor.Role
	}
	if !actor.Role.May(role) {
		return store.Token{}, "", &Problem{Kind: Forbidden, Code: "role-too-high", Field: "role", Detail: fmt.Sprintf("a token of yours can have at most the role %s", actor.Role)}
	}
	if days == 0 {
		days = 90
	}
	if days < 1 || days > 366 {
		return store.Token{}, "", &Problem{Kind: Invalid, Code: "bad-days", Field: "days", Detail: "a token holds for 1 to 366 days"}
	}
	secret := tokenPrefix + newSecret()
	t := store.Token{ID: newID(), Name: name, Hash: hashSecret(secret), OperatorID: actor.ID, Role: string(role), CreatedAt: s.now(), ExpiresAt: new(s.now().AddDate(0, 0, days))}
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		earlier, err := s.once(ctx, tx, actor, once, t.ID.String())
		if err != nil {
			return err
		}
		if earlier != "" {
			return &Problem{Kind: Gone, Code: "secret-shown", Detail: "this request made a token before, and its secret was shown then", Remedy: "Revoke that token and make another (plumlatch token list)"}
		}
		if err := tx.AddToken(ctx, t); err != nil {
			return err
		}
		return tx.Note(ctx, s.entry(actor, "token.add", "token", name, "", "%s made the token %s with the role %s, good for %d days.", actor.Name, name, role, days))
	})
	return t, secret, err
}

// Tokens returns the actor's tokens that hold.
func (s *Service) Tokens(ctx context.Context, actor Actor) ([]store.Token, error) {
	return s.store.Tokens(ctx, actor.ID, s.now())
}

// RevokeToken ends one of the actor's tokens at once.
func (s *Service) RevokeToken(ctx context.Context, actor Actor, id string) error {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return &Problem{Kind: Invalid, Code: "bad-id", Field: "token", Detail: "the token's id is not a UUID", Remedy: "See the ids: plumlatch token list"}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		t, err := tx.RevokeToken(ctx, actor.ID, parsed, s.now())
		if err != nil {
			return err
		}
		return tx.Note(ctx, s.entry(actor, "token.revoke", "token", t.Name, "", "%s revoked the token %s.", actor.Name, t.Name))
	})
	if errors.Is(err, store.ErrNotFound) {
		return &Problem{Kind: NotFound, Code: "no-such-token", Detail: "you have no such token that holds", Remedy: "See yours: plumlatch token list"}
	}
	return err
}

// Keepers returns all persons and teams.
func (s *Service) Keepers(ctx context.Context) ([]store.Keeper, error) { return s.store.Keepers(ctx) }

// keeperFor returns the named keeper, or the actor's own.
func (s *Service) keeperFor(ctx context.Context, actor Actor, name string) (*store.Keeper, error) {
	if name == "" {
		k, err := s.store.KeeperOf(ctx, actor.ID)
		if errors.Is(err, store.ErrNotFound) {
			return nil, nil
		}
		return &k, err
	}
	k, err := s.store.KeeperNamed(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &Problem{Kind: Invalid, Code: "no-such-keeper", Field: "keeper", Detail: fmt.Sprintf("there is no keeper %q", name), Remedy: "See who there is: plumlatch keeper list"}
	}
	return &k, err
}
