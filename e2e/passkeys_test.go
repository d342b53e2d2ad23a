package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
)

// authenticator gives the page one that keeps passkeys and says whose finger it was.
func (p *page) authenticator(verified bool) webauthn.AuthenticatorID {
	p.t.Helper()
	if _, err := chromedp.Call(p.ctx, webauthn.Enable, webauthn.EnableParams{}); err != nil {
		p.t.Fatal(err)
	}
	added, err := chromedp.Call(p.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol:                    webauthn.AuthenticatorProtocolCtap2,
			Transport:                   webauthn.AuthenticatorTransportInternal,
			HasResidentKey:              true,
			HasUserVerification:         true,
			IsUserVerified:              verified,
			AutomaticPresenceSimulation: true,
		},
	})
	if err != nil {
		p.t.Fatal(err)
	}
	return added.AuthenticatorID
}

// TestSigningInWithAPasskey adds one in the console, signs in with it in place of a password and a code, is asked
// again before what is dangerous, and removes it.
func TestSigningInWithAPasskey(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	name := strings.Replace(h.url, "127.0.0.1", "localhost", 1)
	p := openBrowser(t, name)
	first := p.authenticator(true)
	p.signIn("ines", password)
	p.open("/settings")
	p.says("A passkey signs you in without a password")
	p.press("Add a passkey")
	p.fill("Name", "laptop")
	p.press("Make it")
	p.says("localhost")
	p.says("never")
	var all []apiclient.Passkey
	list := func() []apiclient.Passkey {
		t.Helper()
		if err := json.Unmarshal([]byte(h.must("passkey", "list", "-json")), &all); err != nil {
			t.Fatal(err)
		}
		return all
	}
	if got := list(); len(got) != 1 || got[0].Name != "laptop" || got[0].Host != "localhost" || got[0].UsedAt != nil {
		t.Errorf("%+v", got)
	}
	p.press("Add a passkey") // the same authenticator makes no second one
	p.fill("Name", "another")
	p.press("Make it")
	p.holds("a refusal of the browser", `document.querySelector("[role=dialog] [role=alert]") !== null`)
	if got := list(); len(got) != 1 {
		t.Errorf("%+v", got)
	}

	// In a browser where nobody is signed in.
	p.do(chromedp.Evaluate[chromedp.Void](`fetch("/api/v1/session", { method: "DELETE" })`, chromedp.EvalAwaitPromise))
	p.open("/instances")
	p.press("Sign in with a passkey")
	p.says("ines, admin")
	if at := h.toldOften("sign-in.passkey"); at != 1 {
		t.Errorf("the daybook tells of %d sign-ins with a passkey", at)
	}
	if got := list(); got[0].UsedAt == nil {
		t.Errorf("%+v", got)
	}
	// Asked again before what is dangerous, once it was too long ago.
	h.sql("UPDATE sessions SET confirmed_at = now() - interval '1 hour'")
	p.open("/settings")
	p.press("Remove the passkey laptop")
	p.press("Remove it")
	p.says("Is it still you?")
	p.press("By a passkey")
	p.says("A passkey signs you in without a password")
	if got := list(); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	if r := h.client("passkey", "remove", "laptop"); r.status != 4 && r.status != 5 {
		t.Errorf("one that is not there: %d %s", r.status, r.err)
	}
	p.do(chromedp.Evaluate[chromedp.Void](`fetch("/api/v1/session", { method: "DELETE" })`, chromedp.EvalAwaitPromise))
	p.open("/")
	p.press("Sign in with a passkey")
	p.says("The passkey was not taken: nobody here has it")
	if _, err := chromedp.Call(p.ctx, webauthn.RemoveVirtualAuthenticator,
		webauthn.RemoveVirtualAuthenticatorParams{AuthenticatorID: first}); err != nil {
		t.Fatal(err)
	}
}

// TestPasskeysOfSomebodyElseOrAnotherTimeOpenNothing sends what a page, or somebody between, might.
func TestPasskeysOfSomebodyElseOrAnotherTimeOpenNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	name := strings.Replace(h.url, "127.0.0.1", "localhost", 1)
	p := openBrowser(t, name)
	p.authenticator(true)
	p.signIn("ines", password)
	p.open("/settings")
	p.press("Add a passkey")
	p.fill("Name", "laptop")
	p.press("Make it")
	p.says("localhost")
	// What the page would send is kept, to be sent by others.
	p.holds("a signed answer", `(() => { window.answer ??= (async () => {
		const c = await (await fetch("/api/v1/session/passkey/challenges", { method: "POST" })).json();
		const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(c.options);
		const credential = (await navigator.credentials.get({ publicKey })).toJSON();
		window.signed = JSON.stringify({ challenge: c.challenge, credential });
	})(); return Boolean(window.signed); })()`)
	signed, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](`window.signed`))
	if err != nil {
		t.Fatal(err)
	}
	once := func(origin, body string) (int, string) {
		t.Helper()
		r, err := http.NewRequest("POST", h.url+"/api/v1/session/passkey", strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Host = strings.TrimPrefix(name, "http://")
		if origin != "" {
			r.Header.Set("Origin", origin)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		var problem apiclient.Problem
		_ = json.NewDecoder(answer.Body).Decode(&problem)
		return answer.StatusCode, problem.Code
	}
	// Wrong tries of an address are slowed down, which is waited for.
	send := func(origin, body string) (status int, code string) {
		t.Helper()
		eventually(t, "an answer that is no wait", func() bool {
			status, code = once(origin, body)
			return status != http.StatusTooManyRequests
		})
		return status, code
	}
	var answer map[string]any
	if err := json.Unmarshal([]byte(signed), &answer); err != nil {
		t.Fatal(err)
	}
	altered := strings.Replace(signed, `"signature":"M`, `"signature":"N`, 1)
	const none = "00000000-0000-7000-8000-000000000000"
	for what, c := range map[string]struct{ origin, body string }{
		"another site":     {"https://other.example", signed},
		"no page":          {"", signed},
		"no challenge":     {name, strings.Replace(signed, answer["challenge"].(string), none, 1)},
		"nothing signed":   {name, `{"challenge":"00000000-0000-7000-8000-000000000000","credential":{}}`},
		"no credential":    {name, `{"challenge":"00000000-0000-7000-8000-000000000000"}`},
		"an address":       {h.url, `{"challenge":"00000000-0000-7000-8000-000000000000","credential":{}}`},
		"another password": {name, `{"name":"ines","password":"x"}`},
	} {
		if status, code := send(c.origin, c.body); status == http.StatusOK {
			t.Errorf("%s: signed in (%s)", what, code)
		}
	}
	if altered != signed {
		if status, code := send(name, altered); status == http.StatusOK {
			t.Errorf("an altered signature: signed in (%s)", code)
		}
		p.holds("another answer", `(() => { if (!window.again) { window.again = true; window.answer = undefined;
			window.signed = undefined; } window.answer ??= (async () => {
			const c = await (await fetch("/api/v1/session/passkey/challenges", { method: "POST" })).json();
			const publicKey = PublicKeyCredential.parseRequestOptionsFromJSON(c.options);
			const credential = (await navigator.credentials.get({ publicKey })).toJSON();
			window.signed = JSON.stringify({ challenge: c.challenge, credential });
		})(); return Boolean(window.signed); })()`)
		if signed, err = chromedp.Run(p.ctx, chromedp.Evaluate[string](`window.signed`)); err != nil {
			t.Fatal(err)
		}
	}
	if status, code := send(name, signed); status != http.StatusOK {
		t.Errorf("the answer itself: %d %s", status, code)
	}
	if status, code := send(name, signed); status != http.StatusUnauthorized || code != "wrong-passkey" {
		t.Errorf("the same answer again: %d %s", status, code)
	}
	// An admin who sets another password for somebody takes their passkeys away: who knows who added them.
	word := writeFile(t, h.dir+"/word", password)
	h.must("operator", "add", "oona", "-role", "admin", "-password-file", word)
	oona := h.signIn("oona", password)
	args := []string{"operator", "change", "ines", "-password-file", word, "-reason", "her laptop is gone"}
	if r := h.as(oona, args...); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	h.sql("DELETE FROM tries") // those of above are slowed down still
	p.open("/")
	p.press("Sign in with a passkey")
	p.says("The passkey was not taken: nobody here has it")
	p.signIn("ines", password)
	p.open("/settings")
	p.press("Add a passkey")
	p.fill("Name", "laptop")
	p.press("Make it")
	p.says("never")
	// Somebody who may not sign in does not by a passkey either.
	h.sql("UPDATE operators SET closed_at = now() WHERE name = 'ines'")
	h.sql("DELETE FROM tries") // those of above are slowed down still
	p.do(chromedp.Evaluate[chromedp.Void](`fetch("/api/v1/session", { method: "DELETE" })`, chromedp.EvalAwaitPromise))
	p.open("/")
	p.press("Sign in with a passkey")
	p.says("The passkey was not taken: nobody here has it")
	// A console that is open at an address offers none.
	q := openBrowser(t, h.url)
	q.open("/")
	q.says("Password")
	q.holds("no passkey at an address", `!document.body.innerText.includes("passkey")`)
}

// TestWhatIsDangerousAsksAgainWhoIsThere makes calls in a session whose person showed who they are too long ago, and
// with a token, which is for what it is for.
func TestWhatIsDangerousAsksAgainWhoIsThere(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern")
	session := h.session("ines", password)
	id := "00000000-0000-7000-8000-000000000000"
	calls := map[string]struct{ path, body string }{
		"handing out a kept key": {"/api/v1/keys/tern/private-key", `{}`},
		"a leaving":              {"/api/v1/operators/nobody/leaving", `{"reason":"x"}`},
		"an override": {
			"/api/v1/rotations/" + id + "/changes",
			`{"change":"override","login":"a@b","reason":"x"}`,
		},
	}
	code := func(with, path, body string) string {
		t.Helper()
		_, answer := h.call("POST", path, with, body)
		var p apiclient.Problem
		if err := json.Unmarshal([]byte(answer), &p); err != nil {
			t.Fatalf("%s: %v", answer, err)
		}
		return p.Code
	}
	for what, c := range calls {
		if got := code(session, c.path, c.body); got == "confirmation-needed" || got == "" {
			t.Errorf("%s, just signed in: %q", what, got)
		}
	}
	h.sql("UPDATE sessions SET confirmed_at = now() - interval '1 hour'")
	for what, c := range calls {
		if got := code(session, c.path, c.body); got != "confirmation-needed" {
			t.Errorf("%s, an hour later: %q", what, got)
		}
		if got := code(h.token, c.path, c.body); got == "confirmation-needed" || got == "" {
			t.Errorf("%s, with a token: %q", what, got)
		}
	}
	if got := code(session, "/api/v1/rotations/"+id+"/changes", `{"change":"pause"}`); got == "confirmation-needed" {
		t.Errorf("a pause asks who is there")
	}
}
