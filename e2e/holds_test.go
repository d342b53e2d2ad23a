package e2e

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

// TestAThousandRequestsOfAViewerHoldUpNobodyElse has a viewer ask a thousand times at once for what locks a
// key, on somebody else's key, while an admin works. It fills the machine, so no test of this package runs beside it.
func TestAThousandRequestsOfAViewerHoldUpNobodyElse(t *testing.T) {
	h := newHouse(t, "")
	h.must("key", "new", "gannet")
	h.must(
		"operator", "add", "uma", "-role", "viewer", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	viewer := h.signIn("uma", password)
	client := &http.Client{
		Transport: &http.Transport{MaxConnsPerHost: 0, MaxIdleConnsPerHost: 1000},
		Timeout:   55 * time.Second,
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var all sync.WaitGroup
	var asked atomic.Int64
	var odd sync.Map
	for range 1000 {
		all.Go(func() {
			for range 3 {
				r, err := http.NewRequestWithContext(
					ctx, "POST", h.url+"/api/v1/keys/gannet/lost", strings.NewReader(`{"reason":"x"}`),
				)
				if err != nil {
					t.Error(err)
					return
				}
				r.Header.Set("Content-Type", "application/json")
				present(r, viewer)
				resp, err := client.Do(r)
				if err != nil {
					continue // it was interrupted at the end
				}
				resp.Body.Close()
				asked.Add(1)
				if s := resp.StatusCode; s != http.StatusForbidden && s != http.StatusTooManyRequests &&
					s != http.StatusServiceUnavailable {
					odd.Store(s, true)
				}
			}
		})
	}
	eventually(t, "the viewer is at it", func() bool { return asked.Load() > 20 })
	for range 10 {
		if status, body := h.call("GET", "/api/v1/keys", h.token, ""); status != http.StatusOK ||
			!strings.Contains(body, "gannet") {
			t.Errorf("meanwhile, an admin: %d %.200s", status, body)
		}
	}
	h.must("key", "new", "puffin")
	stop()
	all.Wait()
	odd.Range(func(status, _ any) bool {
		t.Errorf("the viewer is answered %v", status)
		return true
	})
	if out := h.must("key", "show", "gannet"); strings.Contains(out, "lost") {
		t.Errorf("a viewer marked it: %s", out)
	}
}

// TestAStreamEndsWithWhatItWasOpenedBy revokes the token of somebody who listens, and closes the account of another.
func TestAStreamEndsWithWhatItWasOpenedBy(t *testing.T) {
	t.Parallel() // it waits more than it works
	h := newHouse(t, "")
	h.must(
		"operator", "add", "uma", "-role", "viewer", "-password-file",
		writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	uma := h.signIn("uma", password)
	own := strings.TrimSpace(h.must("token", "new", "listens", "-role", "viewer", "-q"))
	for who, c := range map[string]struct {
		token string
		end   func()
	}{
		"a revoked token": {own, func() {
			h.must("token", "revoke", tokenNamed(t, h, "listens"))
		}},
		"a closed account": {uma, func() { h.must("operator", "change", "uma", "-close", "-reason", "a try") }},
	} {
		r, err := http.NewRequestWithContext(t.Context(), "GET", h.url+"/api/v1/daybook/events", nil)
		if err != nil {
			t.Fatal(err)
		}
		present(r, c.token)
		resp, err := http.DefaultClient.Do(r)
		if err != nil || resp.StatusCode != http.StatusOK {
			t.Fatalf("%s: %v %v", who, resp, err)
		}
		ended := make(chan struct{})
		go func() {
			defer close(ended)
			lines := bufio.NewScanner(resp.Body)
			for lines.Scan() {
				continue
			}
		}()
		c.end()
		select {
		case <-ended:
		case <-time.After(20 * time.Second):
			t.Errorf("%s: the stream continues", who)
		}
		resp.Body.Close()
	}
}

func tokenNamed(t *testing.T, h *house, name string) string {
	t.Helper()
	tokens, err := kit.Answer[[]apiclient.Token](h.api(h.token).ListTokens(t.Context(), nil))
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range tokens {
		if k.Name == name {
			return k.Id.String()
		}
	}
	t.Fatalf("there is no token %s", name)
	return ""
}

// TestTheIssuersSignInAsksForTheSecondFactor has somebody known to the issuer whose account here has a factor.
func TestTheIssuersSignInAsksForTheSecondFactor(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	i := newIssuer(t)
	h.must(
		"operator", "add", "by-issuer", "-role", "operator", "-issuer-name", "ines@wrackline.example",
		"-password-file", writeFile(t, filepath.Join(h.dir, "word"), password),
	)
	session := h.session("by-issuer", password)
	status, body := h.call("POST", "/api/v1/factor", session, "")
	_, secret, _ := strings.Cut(body, `"secret":"`)
	secret, _, _ = strings.Cut(secret, `"`)
	code := func(ahead time.Duration) string {
		c, err := totp.GenerateCode(secret, time.Now().Add(ahead))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if status >= 300 {
		t.Fatal(status, body)
	}
	if status, body := h.call(
		"POST", "/api/v1/factor/confirmation", session, fmt.Sprintf(`{"code":"%s"}`, code(0)),
	); status >= 300 {
		t.Fatal(status, body)
	}
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	listen := h.listen()
	h.startService(
		listen, "-oidc-issuer", i.URL, "-oidc-client-id", "latch", "-oidc-client-secret-file",
		writeFile(t, filepath.Join(h.dir, "client"), "client-secret\n"), "-public-url", "http://"+listen,
	)
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	browser := &http.Client{Jar: jar, Timeout: 20 * time.Second}
	get := func(path string) int {
		resp, err := browser.Get(h.url + path)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	get("/api/v1/session/issuer")
	if status := get("/api/v1/session"); status != http.StatusUnauthorized {
		t.Fatalf("without the code: %d", status)
	}
	give := func(code string) int {
		resp, err := browser.Post(
			h.url+"/api/v1/session/code", "application/json", strings.NewReader(fmt.Sprintf(`{"code":"%s"}`, code)),
		)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode
	}
	if status := give("000000"); status == http.StatusOK || get("/api/v1/session") != http.StatusUnauthorized {
		t.Errorf("a wrong code: %d", status)
	}
	if status := give(code(30 * time.Second)); status != http.StatusOK || get("/api/v1/session") != http.StatusOK {
		t.Errorf("the code: %d", status)
	}
}

// TestTheConsoleAsksWhetherItIsStillYou has somebody at an open browser whose password was given an hour ago.
func TestTheConsoleAsksWhetherItIsStillYou(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := openBrowser(t, h.url)
	p.signIn("ines", password)
	p.says("ines, admin")
	h.sql("UPDATE sessions SET confirmed_at = now() - interval '1 hour'")
	p.open("/settings")
	p.press("Make a token")
	p.fill("Name", "nightly")
	p.press("Make it")
	p.says("Is it still you?")
	p.fill("Your password", "not the password")
	p.press("It is me")
	p.says("hat is not your password")
	p.fill("Your password", password)
	p.press("It is me")
	p.says("shown only now")
	if out := h.must("token", "list"); !strings.Contains(out, "nightly") {
		t.Error(out)
	}
}
