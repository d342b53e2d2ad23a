package people

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// tongue is an issuer that says what it was told to.
type tongue struct {
	*httptest.Server
	key *ecdsa.PrivateKey

	mu                     sync.Mutex
	discovery, token, keys []byte
	claims                 []byte // signed as they are, in place of token; nil for none
	status                 int
}

func newTongue(t testing.TB) *tongue {
	t.Helper()
	i := &tongue{}
	var err error
	if i.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		t.Fatal(err)
	}
	i.Server = httptest.NewServer(http.HandlerFunc(i.answer))
	t.Cleanup(i.Close)
	i.reset()
	return i
}

// reset has it say what an honest one does.
func (i *tongue) reset() {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.discovery = must(json.Marshal(map[string]any{
		"issuer":                                i.URL,
		"authorization_endpoint":                i.URL + "/ask",
		"token_endpoint":                        i.URL + "/token",
		"jwks_uri":                              i.URL + "/keys",
		"id_token_signing_alg_values_supported": []string{"ES256"},
	}))
	i.keys = must(json.Marshal(
		jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: i.key.Public(), KeyID: "1", Algorithm: "ES256", Use: "sig"}}},
	))
	i.token, i.claims, i.status = nil, nil, http.StatusOK
}

func must(data []byte, err error) []byte {
	if err != nil {
		panic(err)
	}
	return data
}

func (i *tongue) answer(w http.ResponseWriter, r *http.Request) {
	i.mu.Lock()
	defer i.mu.Unlock()
	w.Header().Set("Content-Type", "application/json")
	switch r.URL.Path {
	case "/.well-known/openid-configuration":
		w.Write(i.discovery)
	case "/keys":
		w.Write(i.keys)
	case "/token":
		w.WriteHeader(i.status)
		if i.claims == nil {
			w.Write(i.token)
			return
		}
		w.Write(
			must(json.Marshal(map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": i.signed(i.claims)})),
		)
	}
}

func (i *tongue) signed(claims []byte) string {
	signer, err := jose.NewSigner(
		jose.SigningKey{Algorithm: jose.ES256, Key: i.key}, (&jose.SignerOptions{}).WithHeader("kid", "1"),
	)
	if err != nil {
		panic(err)
	}
	signed, err := signer.Sign(claims)
	if err != nil {
		panic(err)
	}
	text, err := signed.CompactSerialize()
	if err != nil {
		panic(err)
	}
	return text
}

func (i *tongue) honest(nonce string) map[string]any {
	return map[string]any{
		"iss":            i.URL,
		"aud":            "latch",
		"sub":            "s-1",
		"nonce":          nonce,
		"email":          "ines@wrackline.example",
		"email_verified": true,
		"exp":            time.Now().Add(time.Minute).Unix(),
	}
}

func identifyBy(ctx context.Context, url string, a Asked) (identity, error) {
	issuer, err := OpenIssuer(ctx, url, "latch", "client-secret", "https://latch.example")
	if err != nil {
		return identity{}, err
	}
	return issuer.identify(ctx, a, "the-code", time.Now)
}

// FuzzIssuerAnswers signs in by an issuer that says anything: as what it offers, as its answer to
// a code, as its keys, and as claims that it has signed. Somebody is identified only by claims that
// are for this service and this question, and hold now.
func FuzzIssuerAnswers(f *testing.F) {
	i := newTongue(f)
	asked := Asked{State: "state", Nonce: "nonce", Verifier: "verifier-that-is-long-enough-for-the-rules-of-pkce"}
	good := must(json.Marshal(i.honest("nonce")))
	f.Add([]byte{}, []byte{}, []byte{}, good, 200)
	for _, bent := range []map[string]any{
		{"aud": []string{"other"}},
		{"exp": 1},
		{"exp": "soon"},
		{"nonce": ""},
		{"sub": ""},
		{"sub": 7},
		{"email_verified": "yes"},
		{"amr": "otp"},
		{"iss": "x"},
	} {
		claims := i.honest("nonce")
		for name, v := range bent {
			claims[name] = v
		}
		f.Add([]byte{}, []byte{}, []byte{}, must(json.Marshal(claims)), 200)
	}
	f.Add([]byte("null"), []byte("null"), []byte("null"), []byte("null"), 200)
	f.Add(
		[]byte(`{"issuer":"x","jwks_uri":"file:///etc/passwd"}`), []byte(`{"access_token":"x","id_token":7}`),
		[]byte(`{"keys":[{}]}`), []byte{}, 200,
	)
	f.Add([]byte{}, []byte(`{"error":"no\u001b[2J"}`), []byte{}, []byte{}, 400)
	f.Add([]byte{}, []byte(`{"access_token":"x","id_token":"a.b.c"}`), []byte{}, []byte{}, 200)
	f.Fuzz(func(t *testing.T, discovery, token, keys, claims []byte, status int) {
		i.reset()
		i.mu.Lock()
		if len(discovery) > 0 {
			i.discovery = bytes.ReplaceAll(discovery, []byte("ISSUER"), []byte(i.URL))
		}
		if len(keys) > 0 {
			i.keys = keys
		}
		i.token = token
		if len(claims) > 0 {
			i.claims = claims
		}
		if status >= 200 && status < 600 {
			i.status = status
		}
		i.mu.Unlock()
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		who, err := identifyBy(ctx, i.URL, asked)
		if err != nil {
			return
		}
		var said struct {
			Iss, Sub, Nonce string
			Aud             any
			Exp             float64
		}
		if err := json.Unmarshal(claims, &said); err != nil || len(claims) == 0 {
			t.Fatalf("%+v was identified by %q, %v", who, claims, err)
		}
		audience := said.Aud == "latch"
		if list, ok := said.Aud.([]any); ok {
			audience = slices.Contains(list, any("latch"))
		}
		if said.Iss != i.URL || said.Nonce != "nonce" || said.Sub == "" || said.Sub != who.subject || !audience ||
			said.Exp < float64(time.Now().Add(-5*time.Minute).Unix()) {
			t.Errorf("%+v was identified by %s", who, claims)
		}
	})
}

func TestAnIssuerThatNeverEndsItsAnswerFillsNothing(t *testing.T) {
	i := newTongue(t)
	endless := []byte(`{"x":"` + strings.Repeat("x", 2*maxIssuerAnswer) + `"}`)
	i.discovery = endless
	if _, err := OpenIssuer(t.Context(), i.URL, "latch", "client-secret", ""); err == nil ||
		!strings.Contains(err.Error(), "is the limit") {
		t.Errorf("what it offers: %v", err)
	}
	i.reset()
	i.keys = endless
	i.claims = must(json.Marshal(i.honest("nonce")))
	_, err := identifyBy(t.Context(), i.URL, Asked{Nonce: "nonce"})
	var no *notIdentified
	if !errors.As(err, &no) || !strings.Contains(no.why.Error(), "is the limit") {
		t.Errorf("its keys: %v", err)
	}
	i.reset()
	i.claims = must(json.Marshal(i.honest("nonce")))
	if who, err := identifyBy(t.Context(), i.URL, Asked{Nonce: "nonce"}); err != nil ||
		who.name != "ines@wrackline.example" {
		t.Errorf("an honest one: %+v %v", who, err)
	}
	if _, err := identifyBy(t.Context(), i.URL, Asked{}); err == nil {
		t.Error("an answer to a question without a nonce was taken")
	}
}
