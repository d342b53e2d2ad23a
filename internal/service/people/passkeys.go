package people

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Passkeys are credentials of WebAuthn (W3C, level 3) that the browser or a hardware key keeps for the host name of
// the console. Each sign-in asks for a check of the person on the device, so that one stands for a password and a
// second factor.

const (
	// passkeysEach is how many a person may have.
	passkeysEach = 20
	// challengeLasts is for how long a browser may take to sign.
	challengeLasts = 5 * time.Minute
)

// PasskeyAnswer is what a browser signed: to which challenge, and the credential as its toJSON has it.
type PasskeyAnswer struct {
	Challenge  uuid.UUID
	Credential []byte
}

// PasskeyChallenge is what a browser is asked to sign, with the options as its parse…OptionsFromJSON take them.
type PasskeyChallenge struct {
	ID      uuid.UUID
	Options any
}

// passkeyUser is a person as the library asks for one.
type passkeyUser struct {
	record.Operator
	passkeys []record.Passkey
	has      []webauthn.Credential
}

func (u passkeyUser) WebAuthnID() []byte                         { return u.ID[:] }
func (u passkeyUser) WebAuthnName() string                       { return u.Name }
func (u passkeyUser) WebAuthnDisplayName() string                { return u.Name }
func (u passkeyUser) WebAuthnCredentials() []webauthn.Credential { return u.has }

// passkeysAt is the library for a console that is open at an origin.
func passkeysAt(origin string) (*webauthn.WebAuthn, string, error) {
	at, err := url.Parse(origin)
	if err != nil || at.Hostname() == "" || at.Scheme != "https" && at.Hostname() != "localhost" {
		return nil, "", noPasskeys("the console is not open over TLS")
	}
	host := at.Hostname()
	if net.ParseIP(host) != nil {
		return nil, "", noPasskeys("the console is open at an address, not at a host name")
	}
	w, err := webauthn.New(&webauthn.Config{RPID: host, RPDisplayName: "Plum Latch", RPOrigins: []string{origin}})
	return w, host, err
}

func noPasskeys(why string) error {
	return &problem.Problem{
		Kind:   problem.Conflict,
		Code:   "no-passkeys-here",
		Detail: "passkeys are for a host name over TLS, and " + why,
		Remedy: "Open it by its name, or use your password and a second factor",
	}
}

// passkeyUserOf reads a person with the passkeys that are for the host.
func (s *Service) passkeyUserOf(ctx context.Context, o record.Operator, host string) (passkeyUser, error) {
	u := passkeyUser{Operator: o}
	all, err := s.store.Passkeys(ctx, o.ID)
	if err != nil {
		return u, err
	}
	for _, p := range all {
		if p.Host != host {
			continue
		}
		var c webauthn.Credential
		if err := json.Unmarshal(p.Credential, &c); err != nil {
			return u, fmt.Errorf("read the passkey %s of %s: %w", p.Name, o.Name, err)
		}
		u.passkeys, u.has = append(u.passkeys, p), append(u.has, c)
	}
	return u, nil
}

// Passkeys returns the actor's passkeys.
func (s *Service) Passkeys(ctx context.Context, actor Actor) ([]record.Passkey, error) {
	return s.store.Passkeys(ctx, actor.ID)
}

// challenge keeps what a browser is asked to sign.
func (s *Service) challenge(
	ctx context.Context, operator *uuid.UUID, session *webauthn.SessionData, options any,
) (PasskeyChallenge, error) {
	text, err := json.Marshal(session)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	c := record.PasskeyChallenge{
		ID: store.NewID(), OperatorID: operator, Session: text, ExpiresAt: s.now().Add(challengeLasts),
	}
	kept, err := s.store.AddPasskeyChallenge(ctx, c, s.now())
	if err == nil && !kept {
		err = &problem.Problem{
			Kind: problem.Unavailable, Code: "too-many-sign-ins", After: 60,
			Detail: "too many sign-ins by passkey are under way", Remedy: "Wait a minute, or use your password",
		}
	}
	return PasskeyChallenge{ID: c.ID, Options: options}, err
}

// taken returns what a browser was asked to sign, once.
func (s *Service) taken(ctx context.Context, id uuid.UUID, operator *uuid.UUID) (webauthn.SessionData, error) {
	var session webauthn.SessionData
	c, err := s.store.TakePasskeyChallenge(ctx, id, s.now())
	if errors.Is(err, store.ErrNotFound) || err == nil && !sameOperator(c.OperatorID, operator) {
		return session, wrongPasskey("it took too long, or was used before")
	}
	if err != nil {
		return session, err
	}
	return session, json.Unmarshal(c.Session, &session)
}

func sameOperator(a, b *uuid.UUID) bool { return a == b || a != nil && b != nil && *a == *b }

func wrongPasskey(why string) error {
	return &problem.Problem{
		Kind:   problem.Unauthenticated,
		Code:   "wrong-passkey",
		Detail: "the passkey was not taken: " + why,
		Remedy: "Try again, or use your password",
	}
}

// BeginPasskey asks the actor's browser for a new passkey.
func (s *Service) BeginPasskey(ctx context.Context, actor Actor, origin string) (PasskeyChallenge, error) {
	w, host, err := passkeysAt(origin)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	u, err := s.passkeyUserOf(ctx, o, host)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	if len(u.has) >= passkeysEach {
		return PasskeyChallenge{}, &problem.Problem{
			Kind: problem.Conflict, Code: "too-many-passkeys", Detail: fmt.Sprintf("you have %d passkeys", len(u.has)),
			Remedy: "Remove one first",
		}
	}
	options, session, err := w.BeginRegistration(
		u,
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired,
		}),
		webauthn.WithExclusions(webauthn.Credentials(u.has).CredentialDescriptors()),
	)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	return s.challenge(ctx, &actor.ID, session, options.Response)
}

// AddPasskey keeps the passkey that the actor's browser has made.
func (s *Service) AddPasskey(
	ctx context.Context, actor Actor, origin, name string, answer PasskeyAnswer,
) (record.Passkey, error) {
	if err := problem.CheckName("name", name); err != nil {
		return record.Passkey{}, err
	}
	w, host, err := passkeysAt(origin)
	if err != nil {
		return record.Passkey{}, err
	}
	session, err := s.taken(ctx, answer.Challenge, &actor.ID)
	if err != nil {
		return record.Passkey{}, err
	}
	o, err := s.store.OperatorNamed(ctx, actor.Name)
	if err != nil {
		return record.Passkey{}, err
	}
	made, err := protocol.ParseCredentialCreationResponseBytes(answer.Credential)
	if err != nil {
		return record.Passkey{}, wrongPasskey("it is not what browsers write")
	}
	c, err := w.CreateCredential(passkeyUser{Operator: o}, session, made)
	if err != nil {
		return record.Passkey{}, wrongPasskey("it does not fit what was asked for")
	}
	text, err := json.Marshal(c)
	if err != nil {
		return record.Passkey{}, err
	}
	p := record.Passkey{
		ID: store.NewID(), OperatorID: o.ID, Name: name, CredentialID: c.ID, Credential: text, Host: host, CreatedAt: s.now(),
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddPasskey(ctx, p); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "passkey.add", "operator", o.Name, "", map[string]any{"passkey": name, "host": host},
		))
	})
	var taken *store.TakenError
	if errors.As(err, &taken) {
		err = &problem.Problem{
			Kind: problem.Conflict, Code: "name-taken", Field: "name", Where: []string{name},
			Detail: "you have a passkey of that name", Remedy: "Give it another one",
		}
	}
	return p, err
}

// RemovePasskey takes a passkey of the actor's away; nobody signs in with it from then on.
func (s *Service) RemovePasskey(ctx context.Context, actor Actor, name string) error {
	return s.store.InTx(ctx, func(tx *store.Store) error {
		there, err := tx.RemovePasskey(ctx, actor.ID, name)
		if err != nil {
			return err
		}
		if !there {
			return &problem.Problem{
				Kind: problem.NotFound, Code: "no-such-passkey", Where: []string{name},
				Detail: fmt.Sprintf("you have no passkey named %q", name), Remedy: "See them: plumlatch passkey list",
			}
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "passkey.remove", "operator", actor.Name, "", map[string]any{"passkey": name},
		))
	})
}

// AskPasskey asks a browser to sign with any passkey that it has for the host. Whose it is, only the answer tells.
func (s *Service) AskPasskey(ctx context.Context, origin string) (PasskeyChallenge, error) {
	w, _, err := passkeysAt(origin)
	if err != nil {
		return PasskeyChallenge{}, err
	}
	options, session, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return PasskeyChallenge{}, err
	}
	return s.challenge(ctx, nil, session, options.Response)
}

// passkeyFits returns who answered with a passkey of theirs.
func (s *Service) passkeyFits(ctx context.Context, origin string, answer PasskeyAnswer) (record.Operator, error) {
	w, host, err := passkeysAt(origin)
	if err != nil {
		return record.Operator{}, err
	}
	session, err := s.taken(ctx, answer.Challenge, nil)
	if err != nil {
		return record.Operator{}, err
	}
	signed, err := protocol.ParseCredentialRequestResponseBytes(answer.Credential)
	if err != nil {
		return record.Operator{}, wrongPasskey("it is not what browsers write")
	}
	var who passkeyUser
	var failed error
	_, c, err := w.ValidatePasskeyLogin(func(_, handle []byte) (webauthn.User, error) {
		id, err := uuid.FromBytes(handle)
		if err != nil {
			return nil, err
		}
		o, err := s.store.OperatorByID(ctx, id)
		if err != nil {
			return nil, err
		}
		who, failed = s.passkeyUserOf(ctx, o, host)
		return who, failed
	}, session, signed)
	if failed != nil {
		return record.Operator{}, failed
	}
	if err != nil || who.ClosedAt != nil {
		return record.Operator{}, wrongPasskey("nobody here has it")
	}
	if c.Authenticator.CloneWarning {
		return record.Operator{}, wrongPasskey("its authenticator counts as if it had been copied")
	}
	for n, p := range who.passkeys {
		if string(who.has[n].ID) != string(c.ID) {
			continue
		}
		if p.Credential, err = json.Marshal(c); err != nil {
			return record.Operator{}, err
		}
		now := s.now()
		p.UsedAt = &now
		return who.Operator, s.store.UsePasskey(ctx, p)
	}
	return record.Operator{}, wrongPasskey("nobody here has it")
}

// SignInByPasskey begins a session of who answers with a passkey, which stands for a password and a second factor.
func (s *Service) SignInByPasskey(
	ctx context.Context, in SignIn, origin string, answer PasskeyAnswer,
) (Actor, string, error) {
	try, err := s.attempt(ctx, "passkey at "+in.Address, in.Address)
	if err != nil {
		return Actor{}, "", err
	}
	o, err := s.passkeyFits(ctx, origin, answer)
	if err != nil {
		return Actor{}, "", err
	}
	if err := try.succeeded(ctx); err != nil {
		return Actor{}, "", err
	}
	return s.beginSession(ctx, o, in, "sign-in.passkey", false)
}

// ConfirmByPasskey takes a passkey of a session's person once more.
func (s *Service) ConfirmByPasskey(ctx context.Context, actor Actor, origin string, answer PasskeyAnswer) error {
	if actor.Session == uuid.Nil {
		return s.Confirmed(actor)
	}
	o, err := s.passkeyFits(ctx, origin, answer)
	if err != nil {
		return err
	}
	if o.ID != actor.ID {
		return &problem.Problem{
			Kind: problem.Forbidden, Code: "wrong-confirmation", Detail: "that is the passkey of somebody else",
		}
	}
	return s.store.ConfirmSession(ctx, actor.Session, s.now())
}

// Sure refuses, in a session, who has not just shown that they are its person. A token is for what it
// may do.
func (s *Service) Sure(actor Actor) error {
	if actor.Session == uuid.Nil {
		return nil
	}
	return s.Confirmed(actor)
}
