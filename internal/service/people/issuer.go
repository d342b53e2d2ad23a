package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"plumlatch/internal/core/text"
	"plumlatch/internal/outbound"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Issuer is an OpenID Connect issuer by which people sign in (OpenID Connect Core 1.0, the
// authorization code flow with PKCE, RFC 7636).
type Issuer struct {
	// Factors are values of acr and amr (OpenID Connect Core 1.0, section 2; RFC 8176) by which
	// the issuer says that it has asked for a second factor, which then counts for ours.
	Factors []string

	provider *oidc.Provider
	config   oauth2.Config
	client   *http.Client
}

const (
	issuerTimeout = 10 * time.Second
	// maxIssuerAnswer is the longest answer of an issuer that is read, in bytes.
	maxIssuerAnswer = 1 << 20
)

// OpenIssuer asks an issuer what it offers. back is the address of this service as
// browsers see it.
func OpenIssuer(ctx context.Context, url, clientID, clientSecret, back string) (*Issuer, error) {
	transport := &http.Transport{DialContext: outbound.Dialer(issuerTimeout).DialContext}
	client := &http.Client{Timeout: issuerTimeout, Transport: outbound.Bounded(transport, maxIssuerAnswer)}
	provider, err := oidc.NewProvider(oidc.ClientContext(ctx, client), url)
	if err != nil {
		return nil, fmt.Errorf("the issuer %s: %w", url, err)
	}
	return &Issuer{provider: provider, client: client, config: oauth2.Config{
		ClientID:     clientID,
		ClientSecret: clientSecret,
		Endpoint:     provider.Endpoint(),
		RedirectURL:  back + "/api/v1/session/issuer/answer",
		Scopes:       []string{oidc.ScopeOpenID, "email", "profile"},
	}}, nil
}

// Asked is what is remembered in the person's browser while the issuer asks them.
type Asked struct{ State, Nonce, Verifier string }

// AskIssuer returns where to send somebody who signs in by the issuer.
func (s *Service) AskIssuer() (Asked, string, error) {
	if s.Issuer == nil {
		return Asked{}, "", noIssuer()
	}
	a := Asked{State: rand.Text(), Nonce: rand.Text(), Verifier: oauth2.GenerateVerifier()}
	return a, s.Issuer.config.AuthCodeURL(a.State, oidc.Nonce(a.Nonce), oauth2.S256ChallengeOption(a.Verifier)), nil
}

func noIssuer() *problem.Problem {
	return &problem.Problem{
		Kind:   problem.NotFound,
		Code:   "no-issuer",
		Detail: "no OpenID Connect issuer is set up here",
		Remedy: "Sign in with a password",
	}
}

// SignInByIssuer takes the issuer's answer and begins a session. An answer that was not asked for by
// the same browser, that was tampered with, is out of date or is for somebody else is
// refused.
func (s *Service) SignInByIssuer(ctx context.Context, in SignIn, a Asked, state, code string) (Actor, string, error) {
	if s.Issuer == nil {
		return Actor{}, "", noIssuer()
	}
	try, err := s.attempt(ctx, "", in.Address)
	if err != nil {
		return Actor{}, "", err
	}
	refuse := func(name, detail, remedy string) (Actor, string, error) {
		in.Name = name
		return Actor{}, "", s.refuseSignIn(
			ctx, in,
			&problem.Problem{Kind: problem.Unauthenticated, Code: "issuer-refused", Detail: detail, Remedy: remedy},
		)
	}
	if a.State == "" || subtle.ConstantTimeCompare([]byte(a.State), []byte(state)) != 1 {
		return refuse("", "the issuer's answer is not to a question of this browser", "Sign in again")
	}
	id, err := s.Issuer.identify(ctx, a, code, s.now)
	var no *notIdentified
	if errors.As(err, &no) {
		s.log.Info("an issuer's answer was refused", "id", in.RequestID, "err", no.why)
		return refuse("", no.detail, no.remedy)
	}
	o, err := s.store.OperatorOfIssuer(ctx, id.subject, id.name)
	if errors.Is(err, store.ErrNotFound) || err == nil && o.ClosedAt != nil {
		name := text.Line(id.name, text.MaxLine)
		return refuse(
			"", fmt.Sprintf("no account here is that of %s", name),
			"Ask an admin for one: plumlatch operator add NAME -issuer-name "+name,
		)
	}
	if err != nil {
		return Actor{}, "", err
	}
	if o.IssuerSubject == "" { // from now on it is this one, whatever the name becomes
		o.IssuerSubject = id.subject
		if err := s.store.ChangeOperator(ctx, o.ID, o, "issuer_subject"); err != nil {
			return Actor{}, "", err
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return Actor{}, "", err
	}
	return s.beginSession(ctx, o, in, "sign-in:issuer", o.FactorAt != nil && !id.factor)
}

// identity is who an issuer says that somebody is.
type identity struct {
	// subject is the issuer's own name for them, which stays the same.
	subject string
	// name is the e-mail address that the issuer has verified, or the subject.
	name string
	// factor is whether the issuer has asked for a second factor that counts here.
	factor bool
}

// notIdentified is why an issuer's answer is not taken.
type notIdentified struct {
	why            error // for the log
	detail, remedy string
}

func (n *notIdentified) Error() string { return n.detail }

// identify exchanges a code for the issuer's word about a person. Its error is a *notIdentified.
func (i *Issuer) identify(ctx context.Context, a Asked, code string, now func() time.Time) (identity, error) {
	ctx = oidc.ClientContext(ctx, i.client)
	token, err := i.config.Exchange(ctx, code, oauth2.VerifierOption(a.Verifier))
	if err != nil {
		return identity{}, &notIdentified{plainOAuth(err), "the issuer did not confirm who you are", "Sign in again"}
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := i.provider.Verifier(&oidc.Config{ClientID: i.config.ClientID, Now: now}).Verify(ctx, raw)
	if err != nil {
		return identity{}, &notIdentified{err, "the issuer's statement about you is not valid", "Sign in again"}
	}
	if id.Nonce == "" || subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(a.Nonce)) != 1 {
		return identity{}, &notIdentified{
			errors.New("another nonce"),
			"what the issuer says of you was said before, for another sign-in",
			"Sign in again",
		}
	}
	var claims struct {
		Email    string   `json:"email"`
		Verified bool     `json:"email_verified"`
		ACR      string   `json:"acr"`
		AMR      []string `json:"amr"`
	}
	if err := id.Claims(&claims); err != nil {
		return identity{}, &notIdentified{err, "what the issuer says of you cannot be read", "Ask an admin"}
	}
	if id.Subject == "" {
		return identity{}, &notIdentified{errors.New("no subject"), "the issuer does not say who you are", "Ask an admin"}
	}
	who := identity{subject: id.Subject, name: id.Subject}
	if claims.Verified && claims.Email != "" {
		who.name = claims.Email
	}
	who.factor = slices.ContainsFunc(
		append(claims.AMR, claims.ACR),
		func(c string) bool { return slices.Contains(i.Factors, c) },
	)
	return who, nil
}

// plainOAuth leaves out the body of the issuer's answer, which may hold a secret.
func plainOAuth(err error) error {
	var r *oauth2.RetrieveError
	if errors.As(err, &r) {
		return errors.New("the issuer answered " + r.ErrorCode)
	}
	return err
}
