package e2e

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func TestARevokedTokenOpensNothingAtOnce(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	ines := h.session("ines", password)
	add := func() (apiclient.NewToken, error) {
		return kit.Answer[apiclient.NewToken](h.api(ines).AddToken(
			t.Context(), &apiclient.AddTokenParams{IdempotencyKey: new("t")}, apiclient.AddToken{Name: "short"},
		))
	}
	short, err := add()
	if err != nil {
		t.Fatal(err)
	}
	if again, err := add(); refused(err) != http.StatusGone {
		t.Errorf("the same request again: %v, %v; want the status %d", again.Token.Name, err, http.StatusGone)
	}
	if status, _ := h.call("GET", "/api/v1/keys", short.Secret, ""); status != http.StatusOK {
		t.Fatalf("the new token: %d", status)
	}
	h.must("token", "revoke", short.Token.Id.String())
	if status, _ := h.call("GET", "/api/v1/keys", short.Secret, ""); status != http.StatusUnauthorized {
		t.Errorf("the revoked token: %d", status)
	}
	viewer := strings.TrimSpace(h.must("token", "new", "weak", "-role", "viewer", "-q"))
	if status, body := h.call(
		"POST", "/api/v1/tokens", viewer, `{"name":"strong","role":"admin"}`,
	); status != http.StatusForbidden {
		t.Errorf("a viewer made an admin token: %d %s", status, body)
	}
}

func TestSignInSaysTheSameForAnUnknownNameAndAWrongPassword(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	_, wrong := h.call("POST", "/api/v1/session", "", `{"name":"ines","password":"not the password"}`)
	status, unknown := h.call("POST", "/api/v1/session", "", `{"name":"nobody","password":"not the password"}`)
	cut := func(s string) string { before, _, _ := strings.Cut(s, `"request_id"`); return before }
	if status != http.StatusUnauthorized || cut(wrong) != cut(unknown) {
		t.Errorf("%d\n%s\n%s", status, wrong, unknown)
	}
	if !strings.Contains(h.must("daybook", "list", "-action", "sign-in"), "refused") {
		t.Error("the refused sign-ins are not in the daybook")
	}
}

func TestASessionIsAStrictCookieAndAnotherSitesPageCannotUseIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	resp, err := http.Post(
		h.url+"/api/v1/session", "application/json",
		strings.NewReader(jsonBody(t, apiclient.SignIn{Name: "ines", Password: password})),
	)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	c := resp.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		if !strings.Contains(c, want) {
			t.Errorf("the cookie %q lacks %s", c, want)
		}
	}
	call := func(method, site string) int {
		r, err := http.NewRequest(method, h.url+"/api/v1/keys/made", strings.NewReader(`{"name":"x"}`))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Sec-Fetch-Site", site)
		for _, k := range resp.Cookies() {
			r.AddCookie(k)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer.StatusCode
	}
	for name, bend := range map[string]func(string) string{
		"cut":                func(v string) string { return v[:len(v)-2] },
		"longer":             func(v string) string { return v + "A" },
		"another letter":     func(v string) string { return string(v[0]^1) + v[1:] },
		"a token":            func(string) string { return h.token },
		"empty":              func(string) string { return "" },
		"of another service": func(string) string { return strings.Repeat("A", 43) },
	} {
		r, err := http.NewRequest("GET", h.url+"/api/v1/session", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.AddCookie(&http.Cookie{Name: "plumlatch_session", Value: bend(resp.Cookies()[0].Value)})
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusUnauthorized {
			t.Errorf("a cookie that is %s: %d", name, answer.StatusCode)
		}
	}
	if status := call("POST", "cross-site"); status != http.StatusForbidden {
		t.Errorf("from another site: %d", status)
	}
	if status := call("POST", "same-origin"); status != http.StatusCreated {
		t.Errorf("from the console: %d", status)
	}
}

func TestSignOutRevokesTheKeptToken(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	run := func(stdin string, args ...string) (string, error) {
		cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
		cmd.Env = append(os.Environ(), "HOME="+h.dir, "PLUMLATCH_URL=", "PLUMLATCH_TOKEN=")
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if out, err := run("wrong password\n", "sign-in", "ines", "-server", h.url); err == nil ||
		!strings.Contains(out, "the name or the password is wrong") {
		t.Errorf("a wrong password: %s", out)
	}
	if out, err := run(password+"\n", "sign-in", "ines", "-server", h.url); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	file := filepath.Join(h.dir, ".config/plumlatch/sign-in.json")
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the kept sign-in: %v, %v", info, err)
	}
	if out, err := run("", "whoami", "-q"); err != nil || out != "ines\n" {
		t.Errorf("whoami: %s %v", out, err)
	}
	var asked, presented atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		if r.Header.Get("Authorization") != "" || r.Header.Get("Cookie") != "" {
			presented.Add(1)
		}
	}))
	defer other.Close()
	if out, err := run("", "whoami", "-server", other.URL); err == nil || !strings.Contains(out, "plumlatch sign-in") ||
		asked.Load() == 0 || presented.Load() != 0 {
		t.Errorf("another server was asked %d times, with the token %d times: %s", asked.Load(), presented.Load(), out)
	}
	if out, err := run("", "sign-out"); err != nil {
		t.Errorf("sign-out: %s", out)
	}
	if out, err := run("", "whoami", "-server", h.url); err == nil || !strings.Contains(out, "plumlatch sign-in") {
		t.Errorf("after the sign-out: %s", out)
	}
}

func TestTheServiceStaysOnLoopbackWithoutTLS(t *testing.T) {
	for _, c := range []struct {
		args []string
		says string
	}{
		{
			[]string{"-database", "postgres://127.0.0.1/x", "-cloud", "http://127.0.0.1:1", "-listen", "0.0.0.0:0"},
			"there is no TLS",
		},
		{[]string{"-database", "postgres://127.0.0.1/x", "-cloud", "http://127.0.0.1:1", "-listen", ":0"}, "there is no TLS"},
		{[]string{"-demo", "-listen", "0.0.0.0:0", "-plain-http-beyond-loopback"}, "loopback only"},
		{[]string{}, "no database was given"},
	} {
		out, err := exec.Command(filepath.Join(bin, "plumlatchd"), c.args...).CombinedOutput()
		if err == nil || !strings.Contains(string(out), c.says) {
			t.Errorf("%v: %v %s", c.args, err, out)
		}
	}
}

// TestAPrivateKeyIsInOneAnswerAndNowhereElse makes a pair in the service, has
// private keys pasted where public ones belong, and looks for them everywhere.
func TestAPrivateKeyIsInOneAnswerAndNowhereElse(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	made, err := kit.Answer[apiclient.MadeKey](h.api(h.token).MakeKey(
		t.Context(), &apiclient.MakeKeyParams{IdempotencyKey: new("k")}, apiclient.MakeKey{Name: "made"},
	))
	if err != nil {
		t.Fatal(err)
	}
	secrets := [][]byte{[]byte(strings.Split(made.PrivateKey, "\n")[2])}
	pasted := strings.ReplaceAll(made.PrivateKey, "b3BlbnNzaC1rZXktdjEA", "b3BlbnNzaC1rZXktdjEB") // another one
	for _, call := range []struct{ path, body string }{
		{"/api/v1/keys", jsonBody(t, map[string]string{"name": "pasted", "public_key": pasted})},
		{"/api/v1/keys/readings", jsonBody(t, map[string]string{"public_key": pasted})},
		{"/api/v1/keys", jsonBody(t, map[string]string{"name": pasted[:200], "public_key": "x"})},
		{"/api/v1/keys", `{"name": "x", "public_key": ` + pasted},
		{
			"/api/v1/keys",
			jsonBody(t, map[string]string{"name": "x", "public_key": "x", strings.ReplaceAll(pasted, "\n", ""): "y"}),
		},
	} {
		if status, body := h.call("POST", call.path, h.token, call.body); status < 400 ||
			bytes.Contains([]byte(body), secrets[0]) {
			t.Errorf("%s answers %d %s", call.path, status, body)
		}
	}
	h.client("key", "private", "made")
	h.call("GET", "/api/v1/keys/made", h.token, "")
	_, again := h.call("POST", "/api/v1/keys/made/private-key", h.token, "")
	if strings.Contains(again, "PRIVATE KEY") {
		t.Error("the private key was handed over twice")
	}
	secrets = append(secrets, []byte(h.token), []byte(password))
	places := map[string]string{"the service's log": h.service.out.String(), "the database": dump(t, h.owner)}
	for where, text := range places {
		if len(text) < 100 {
			t.Errorf("%s is all but empty, so the search proves nothing", where)
		}
		for n, s := range secrets {
			if strings.Contains(text, string(s)) {
				t.Errorf("secret %d is in %s", n, where)
			}
		}
	}
}

// dump returns every row of every table as text.
func dump(t *testing.T, url string) string {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	rows, err := conn.Query(t.Context(), "SELECT tablename FROM pg_tables WHERE schemaname = 'public'")
	if err != nil {
		t.Fatal(err)
	}
	tables, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, table := range tables {
		rows, err := conn.Query(t.Context(), fmt.Sprintf("SELECT t::text FROM %s t", table))
		if err != nil {
			t.Fatal(err)
		}
		lines, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		b.WriteString(table + "\n" + strings.Join(lines, "\n") + "\n")
	}
	return b.String()
}

func TestBadRequestsAreToldApart(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, c := range []struct {
		method, path, body string
		status             int
		code               string
	}{
		{"GET", "/api/v1/nothing", "", 404, "no-such-call"},
		{"PUT", "/api/v1/keys", "{}", 404, "no-such-call"},
		{"POST", "/api/v1/keys", "", 422, "bad-json"},
		{"POST", "/api/v1/keys", "{", 422, "bad-json"},
		{"POST", "/api/v1/keys", `{"name":1}`, 422, "bad-json"},
		{"GET", "/api/v1/keys?limit=0", "", 422, "bad-limit"},
		{"GET", "/api/v1/keys?limit=x", "", 422, "bad-parameter"},
		{"GET", "/api/v1/keys?sort=colour", "", 422, "bad-sort"},
		{"GET", "/api/v1/keys?label=x", "", 422, "bad-label"},
		{"GET", "/api/v1/runs/not-an-id", "", 422, "bad-parameter"},
		{"GET", "/api/v1/keys/%00", "", 422, "bad-text"},
		{"GET", "/api/v1/instances?q=%ff", "", 422, "bad-text"},
		{"GET", "/api/v1/keys/none", "", 404, "no-such-key"},
	} {
		status, body := h.call(c.method, c.path, h.token, c.body)
		if status != c.status || !strings.Contains(body, `"code":"`+c.code+`"`) || !strings.Contains(body, "request_id") {
			t.Errorf("%s %s: %d %s", c.method, c.path, status, body)
		}
	}
}

func TestTheServiceStopsInTimeWithAStreamOpen(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "disk=1m")
	id := strings.TrimSpace(
		h.must("instance", "launch", "slow", "-image", "debian-12", "-size", "small", "-no-key", "-no-wait", "-q"),
	)
	r, err := http.NewRequest("GET", h.url+"/api/v1/runs/"+id+"/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+h.token)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	if _, err := resp.Body.Read(make([]byte, 10)); err != nil {
		t.Fatal(err)
	}
	if err := h.service.Stop(8 * time.Second); err != nil || h.service.Err() != nil {
		t.Errorf("the service ended with %v, %v", err, h.service.Err())
	}
}

func TestTLSIsServedWithTheGivenCertificate(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1),
		NotAfter:     time.Now().Add(time.Hour),
		IPAddresses:  []net.IP{net.IPv4(127, 0, 0, 1)},
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	files := map[string][]byte{
		"cert.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		"key.pem":  pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}),
	}
	for name, data := range files {
		if err := os.WriteFile(filepath.Join(h.dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	h.startService(
		"127.0.0.1:0", "-tls-cert", filepath.Join(h.dir, "cert.pem"), "-tls-key", filepath.Join(h.dir, "key.pem"),
	)
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(files["cert.pem"])
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	resp, err := client.Post(
		h.url+"/api/v1/session", "application/json",
		strings.NewReader(jsonBody(t, apiclient.SignIn{Name: "ines", Password: password})),
	)
	if err != nil {
		t.Fatal(err)
	}
	resp.Body.Close()
	if c := resp.Header.Get("Set-Cookie"); !strings.HasPrefix(h.url, "https://") || !strings.Contains(c, "Secure") ||
		!strings.HasPrefix(c, "__Host-") {
		t.Errorf("%s sets the cookie %q", h.url, c)
	}
}
