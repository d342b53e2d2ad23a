package service

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

	"plumlatch/internal/outbound"
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

const issuerTimeout = 10 * time.Second

// OpenIssuer asks an issuer what it offers. back is the address of this service as
// browsers see it.
func OpenIssuer(ctx context.Context, url, clientID, clientSecret, back string) (*Issuer, error) {
	client := &http.Client{Timeout: issuerTimeout, Transport: &http.Transport{DialContext: outbound.Dialer(issuerTimeout).DialContext}}
	provider, err := oidc.NewProvider(oidc.ClientContext(ctx, client), url)
	if err != nil {
		return nil, fmt.Errorf("the issuer %s: %w", url, err)
	}
	return &Issuer{provider: provider, client: client, config: oauth2.Config{
		ClientID: clientID, ClientSecret: clientSecret, Endpoint: provider.Endpoint(), RedirectURL: back + "/api/v1/session/issuer/answer", Scopes: []string{oidc.ScopeOpenID, "email", "profile"},
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

func noIssuer() *Problem {
	return &Problem{Kind: NotFound, Code: "no-issuer", Detail: "no OpenID Connect issuer is set up here", Remedy: "Sign in with a password"}
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
		return Actor{}, "", s.refuseSignIn(ctx, in, &Problem{Kind: Unauthenticated, Code: "issuer-refused", Detail: detail, Remedy: remedy})
	}
	if a.State == "" || subtle.ConstantTimeCompare([]byte(a.State), []byte(state)) != 1 {
		return refuse("", "the issuer's answer is not to a question of this browser", "Sign in again")
	}
	ctx = oidc.ClientContext(ctx, s.Issuer.client)
	token, err := s.Issuer.config.Exchange(ctx, code, oauth2.VerifierOption(a.Verifier))
	if err != nil {
		s.log.Info("an issuer did not give a token", "id", in.RequestID, "err", plainOAuth(err))
		return refuse("", "the issuer did not confirm who you are", "Sign in again")
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := s.Issuer.provider.Verifier(&oidc.Config{ClientID: s.Issuer.config.ClientID, Now: s.now}).Verify(ctx, raw)
	if err != nil {
		s.log.Info("an issuer's token was refused", "id", in.RequestID, "err", err)
		return refuse("", "what the issuer says of you does not hold", "Sign in again")
	}
	if subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(a.Nonce)) != 1 {
		return refuse("", "what the issuer says of you was said before, for another sign-in", "Sign in again")
	}
	var claims struct {
		Email    string   `json:"email"`
		Verified bool     `json:"email_verified"`
		ACR      string   `json:"acr"`
		AMR      []string `json:"amr"`
	}
	if err := id.Claims(&claims); err != nil {
		return refuse("", "what the issuer says of you cannot be read", "Ask an admin")
	}
	name := id.Subject
	if claims.Verified && claims.Email != "" {
		name = claims.Email
	}
	o, err := s.store.OperatorOfIssuer(ctx, id.Subject, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && o.ClosedAt != nil {
		return refuse("", fmt.Sprintf("no account here is that of %s", name), "Ask an admin for one: plumlatch operator add NAME -issuer-name "+name)
	}
	if err != nil {
		return Actor{}, "", err
	}
	if o.IssuerSubject == "" { // from now on it is this one, whatever the name becomes
		o.IssuerSubject = id.Subject
		if err := s.store.ChangeOperator(ctx, o.ID, o, "issuer_subject"); err != nil {
			return Actor{}, "", err
		}
	}
	if err := try.succeeded(ctx); err != nil {
		return Actor{}, "", err
	}
	asksCode := o.FactorAt != nil && !slices.ContainsFunc(append(claims.AMR, claims.ACR), func(c string) bool {
		return slices.Contains(s.Issuer.Factors, c)
	})
	return s.beginSession(ctx, o, in, " by the issuer", asksCode)
}

// plainOAuth leaves out the body of the issuer's answer, which may hold a secret.
func plainOAuth(err error) string {
	var r *oauth2.RetrieveError
	if errors.As(err, &r) {
		return "the issuer answered " + r.ErrorCode
	}
	return err.Error()
}
