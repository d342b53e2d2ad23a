package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/pquerna/otp/totp"

	"plumlatch/internal/pgboot/pgtest"
)

func TestANewServiceIsSetUpByItsSecretAndWorksWithoutASafe(t *testing.T) {
	t.Parallel()
	owner, database := pgtest.Empty(t)
	h := &house{t: t, dir: t.TempDir(), database: database, owner: owner}
	writeFile(t, h.tokenFile(), "cloud-token\n")
	h.startCloud("")
	h.service = start(
		t, "plumlatchd", "-database", database, "-owner-database", owner, "-cloud", h.cloudURL, "-cloud-token-file",
		h.tokenFile(), "-listen", "127.0.0.1:0", "-allow-local-targets",
	)
	h.url = h.service.await(t, `Plum Latch is at (http\S+)`)
	secret := h.service.await(t, `by this secret:\s+(\S+)`)
	word := writeFile(t, filepath.Join(h.dir, "word"), password)
	wrong := writeFile(t, filepath.Join(h.dir, "wrong"), "not-it")
	right := writeFile(t, filepath.Join(h.dir, "right"), secret+"\n")
	h.refused("wrong-set-up-secret", "set-up", "ines", "-secret-file", wrong, "-password-file", word)
	p := openBrowser(t, h.url)
	p.open("/")
	p.says("There is no account yet")
	p.paste("Set-up secret", secret)
	p.fill("Your name", "ines")
	p.fill("Password", password)
	p.press("Make the first admin")
	p.says("Which key opens which login")
	h.refused("set-up-over", "set-up", "eve", "-secret-file", right, "-password-file", word)
	h.token = h.signIn("ines", password)
	// With the safe switched off all but what needs it continues.
	h.must("key", "new", "gannet")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "gannet")
	for _, args := range [][]string{
		{"daybook", "head"},
		{"factor", "add"},
		{"subscriber", "add", "x", "https://hooks.example"},
		{"safe", "new-key"},
		{"instance", "steward", "door", "-with", h.private("gannet")},
	} {
		h.refused("no-safe", args...)
	}
	if out := h.must("safe", "show"); !strings.Contains(out, "switched off") {
		t.Error(out)
	}
}

func TestTheConsoleSetsUpPeopleASecondFactorAndTokens(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	p := h.console(t)
	p.open("/settings/people")
	p.press("Add a person")
	p.fill("Name", "runa")
	p.fill("Who that is", "Runa Lund, cameras")
	p.fill("Only for instances with", "team=cameras")
	p.fill("First password", password)
	p.press("Add them")
	p.says("team=cameras")
	// What somebody else has changed meanwhile is not overwritten unseen.
	p.press("Change runa")
	p.fill("Only for instances with", "team=web")
	h.must("operator", "change", "runa", "-limit", "team=tides")
	p.press("Change it")
	p.says("Somebody else has changed the account of runa since you read it")
	p.says("team=tides")
	p.press("Close")
	p.press("Change runa")
	p.fill("Only for instances with", "team=cameras")
	p.press("Change it")
	p.says("team=cameras")
	p.press("Make a team")
	p.fill("Name", "cameras")
	p.press("Make it")
	p.holds("the team", `[...document.querySelectorAll("tr strong")].some((e) => e.innerText === "cameras")`)
	p.open("/settings")
	p.press("Make a token")
	p.fill("Name", "nightly")
	p.press("Make it")
	p.says("shown only now")
	secret := regexp.MustCompile(`plumlatch_[\w-]+`).FindString(p.text())
	if status, _ := h.call("GET", "/api/v1/keys", secret, ""); status != http.StatusOK {
		t.Errorf("the token %q: %d", secret, status)
	}
	p.press("I have kept it")

	q := openBrowser(t, h.url)
	q.signIn("runa", password)
	q.open("/settings")
	q.says("Limited to")
	q.press("Add one")
	q.press("Show the secret")
	q.says("Have your authenticator read this")
	base32 := regexp.MustCompile(`\b[A-Z2-7]{32}\b`).FindString(q.text())
	code := func(at time.Time) string {
		c, err := totp.GenerateCode(base32, at)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	q.fill("The six digits", code(time.Now()))
	q.press("Put it into use")
	q.says("Your recovery codes")
	q.press("I have kept them")
	q.says("in use")
	q.open("/sign-in")
	q.fill("Name", "runa")
	q.fill("Password", password)
	q.press("Sign in")
	q.says("Code of your second factor")
	q.fill("Code of your second factor", code(time.Now().Add(30*time.Second)))
	q.press("Sign in")
	q.says("Instances")
	if r := h.clientIn(password+"\n", "sign-in", "runa"); r.status != 5 {
		t.Errorf("the client without a code: %+v", r)
	}
	// The daybook is followed as it grows, and checked.
	p.open("/daybook?live=true")
	p.says("Following")
	h.must("key", "new", "tern")
	p.says("ines made the key pair tern")
	p.press("Check")
	p.says("entries are intact")
	h.sql("ALTER TABLE daybook DISABLE TRIGGER ALL; UPDATE daybook SET person = 'nobody' WHERE seq = 4")
	p.open("/daybook")
	p.press("Check")
	p.says("Entry 4 is not intact")
	h.sql("UPDATE daybook SET person = 'ines' WHERE seq = 4")
	// Closing the account ends what she has open.
	h.must("operator", "change", "runa", "-close", "-reason", "a try")
	q.open("/keys")
	q.says("Sign in")
	if out := h.must("operator", "list"); !regexp.MustCompile(`runa .*team=cameras .*closed`).MatchString(out) {
		t.Error(out)
	}
	h.refused("last-admin", "operator", "change", "ines", "-role", "viewer")
}

func TestCustodyGoesFromOneToAnotherAndSomebodyLeaves(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	word := writeFile(t, filepath.Join(h.dir, "word"), password)
	h.must("operator", "add", "marek", "-role", "operator", "-password-file", word)
	h.must("operator", "add", "oona", "-role", "operator", "-password-file", word)
	ines, marek := h.token, h.signIn("marek", password)
	as := func(token string, args ...string) result {
		h.t.Helper()
		h.token = token
		defer func() { h.token = ines }()
		return h.client(args...)
	}
	if r := as(marek, "key", "new", "deploy"); r.status != 0 {
		t.Fatal(r)
	}
	h.must(
		"instance", "launch", "web", "-image", "debian-12", "-size", "small", "-key", "deploy", "-label",
		"team=atlas", "-steward",
	)
	h.must("sweep", "web")
	h.must("rotate", "start", "-key", "deploy", "-make", "service", "-yes")
	eventually(t, "the rotation is done", func() bool { return strings.Contains(h.must("rotate", "list"), "done") })
	h.must("consent", "label", "team=atlas")
	if r := as(marek, "key", "private", "deploy-2", "-reason", "the job moves"); r.status != 5 ||
		!strings.Contains(r.err, "plumlatch consent ask deploy-2") {
		t.Errorf("without consent: %+v", r)
	}
	if _, err := os.Stat(h.private("deploy-2")); err == nil {
		t.Error("a file was left")
	}
	if r := as(marek, "consent", "ask", "deploy-2", "-reason", "the job moves"); r.status != 3 {
		t.Errorf("asking: %+v", r)
	}
	p := h.console(t)
	p.open("/settings/custody")
	p.says("the job moves")
	p.press("Consent")
	p.says("Consent that marek takes deploy-2?")
	p.do()
	p.holds(
		"the dialog's button",
		`Boolean([...document.querySelectorAll("[role=dialog] button")].find((e) => e.innerText.trim() === "Consent"))`,
	)
	p.press("Consent")
	p.says("granted")
	if r := as(marek, "key", "private", "deploy-2", "-reason", "the job moves"); r.status != 0 {
		t.Fatalf("with consent: %+v", r)
	}
	if out, err := h.ssh(h.instance("web"), "deploy-2", "hostname"); err != nil || out != "web" {
		t.Errorf("with what was encrypted on the way: %s %v", out, err)
	}
	if r := as(marek, "key", "forget", "deploy-2"); r.status != 0 || !strings.Contains(r.out, "yours is the only one") {
		t.Errorf("forgetting: %+v", r)
	}
	eventually(t, "the use of the kept key is noted", func() bool { // which is done from time to time
		return strings.Contains(h.must("daybook", "list", "-action", "key.use", "-key", "deploy-2", "-json"), "key.use")
	})
	told := h.told("key.forget", "key.release", "consent.grant")
	if detail(told[1], "consent_by") != "ines" || detail(told[1], "encrypted") != "true" ||
		told[2].Person != "ines" || detail(told[2], "asked_by") != "marek" {
		t.Errorf("the daybook says: %+v", told)
	}
	p.open("/keys/deploy-2")
	p.says("with its holder")
	p.says("out of the safe, with the consent of ines")

	// Handed over: it waits for oona's proof.
	p.press("Hand over")
	p.choose("To", "oona")
	p.press("Hand it over")
	p.says("Call off the hand-over to oona")
	if out := h.must("key", "hand-overs"); !regexp.MustCompile(`deploy-2 +marek +oona`).MatchString(out) {
		t.Error(out)
	}
	oona := h.signIn("oona", password)
	if r := as(oona, "prove", "deploy-2", "-with", h.private("deploy-2")); r.status != 0 {
		t.Fatal(r)
	}
	if out := h.must("key", "show", "deploy-2"); !strings.Contains(out, "oona") {
		t.Errorf("its holder:\n%s", out)
	}

	// She leaves, and her only login is not shut.
	if r := h.client("operator", "leave", "oona"); r.status != 3 || !strings.Contains(r.out, "1 login would be shut") {
		t.Errorf("%+v", r)
	}
	p.open("/settings/people/oona/leaving")
	p.says("Without oona, 1 login would be shut: debian@web")
	p.press("Begin it")
	p.choose("Who follows", "ines")
	p.fill("Type oona to continue", "oona")
	p.holds(
		"the dialog's button",
		`Boolean([...document.querySelectorAll("[role=dialog] button")].find((e) => e.innerText.trim() === "Begin it"))`,
	)
	p.press("Begin it")
	p.says("oona has left")
	if out := h.must("opens", "deploy-2"); strings.Contains(out, "in place") {
		t.Errorf("her key opens\n%s", out)
	}
	if out := h.openers("web"); !regexp.MustCompile(`deploy-2?-?3? .*ines`).MatchString(out) {
		t.Errorf("what opens it:\n%s", out)
	}
	if out := h.must("operator", "leave", "oona"); !strings.Contains(out, "has left") {
		t.Error(out)
	}
}

// issuer is a stand-in OpenID Connect issuer, whose next answer a test can bend.
type issuer struct {
	*httptest.Server
	key   *rsa.PrivateKey
	mu    sync.Mutex
	nonce string
	bend  func(claims map[string]any)
	other bool // signs with a key that is not among its own
}

func newIssuer(t *testing.T) *issuer {
	t.Helper()
	i := &issuer{}
	var err error
	if i.key, err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
		t.Fatal(err)
	}
	write := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		if err := json.NewEncoder(w).Encode(v); err != nil {
			t.Error(err)
		}
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		write(w, map[string]any{
			"issuer":                                i.URL,
			"authorization_endpoint":                i.URL + "/ask",
			"token_endpoint":                        i.URL + "/token",
			"jwks_uri":                              i.URL + "/keys",
			"id_token_signing_alg_values_supported": []string{"RS256"},
		})
	})
	mux.HandleFunc("/keys", func(w http.ResponseWriter, _ *http.Request) {
		write(
			w,
			jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: i.key.Public(), KeyID: "1", Algorithm: "RS256", Use: "sig"}}},
		)
	})
	mux.HandleFunc("/ask", func(w http.ResponseWriter, r *http.Request) {
		i.mu.Lock()
		i.nonce = r.URL.Query().Get("nonce")
		i.mu.Unlock()
		back := r.URL.Query().
			Get("redirect_uri") +
			"?" + url.Values{
			"state": {r.URL.Query().Get("state")},
			"code":  {"the-code"},
		}.Encode()
		http.Redirect(w, r, back, http.StatusFound)
	})
	mux.HandleFunc("/token", func(w http.ResponseWriter, r *http.Request) {
		id, secret, _ := r.BasicAuth()
		if r.FormValue("code") != "the-code" || r.FormValue("code_verifier") == "" || id != "latch" ||
			secret != "client-secret" {
			w.WriteHeader(http.StatusBadRequest)
			write(w, map[string]string{"error": "invalid_grant"})
			return
		}
		i.mu.Lock()
		defer i.mu.Unlock()
		claims := map[string]any{
			"iss":            i.URL,
			"aud":            "latch",
			"sub":            "s-1",
			"nonce":          i.nonce,
			"email":          "ines@wrackline.example",
			"email_verified": true,
			"iat":            time.Now().Unix(),
			"exp":            time.Now().Add(time.Minute).Unix(),
		}
		key := i.key
		if i.bend != nil {
			i.bend(claims)
		}
		if i.other {
			key, _ = rsa.GenerateKey(rand.Reader, 2048)
		}
		signer, err := jose.NewSigner(
			jose.SigningKey{Algorithm: jose.RS256, Key: key}, (&jose.SignerOptions{}).WithHeader("kid", "1"),
		)
		if err != nil {
			t.Error(err)
			return
		}
		payload, err := json.Marshal(claims)
		if err != nil {
			t.Error(err)
			return
		}
		signed, err := signer.Sign(payload)
		if err != nil {
			t.Error(err)
			return
		}
		token, err := signed.CompactSerialize()
		if err != nil {
			t.Error(err)
		}
		write(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": token, "expires_in": 60})
	})
	i.Server = httptest.NewServer(mux)
	t.Cleanup(i.Close)
	return i
}

func TestPeopleSignInByAnIssuerAndBentAnswersAreRefused(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	i := newIssuer(t)
	h.must("operator", "add", "by-issuer", "-role", "viewer", "-issuer-name", "ines@wrackline.example")
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	listen := h.listen()
	h.startService(
		listen, "-oidc-issuer", i.URL, "-oidc-client-id", "latch", "-oidc-client-secret-file",
		writeFile(t, filepath.Join(h.dir, "client"), "client-secret\n"), "-public-url", "http://"+listen,
	)
	// try signs in with a browser of its own and returns who is signed in then, or "".
	try := func(t *testing.T, at string) string {
		jar, err := cookiejar.New(nil)
		if err != nil {
			t.Fatal(err)
		}
		browser := &http.Client{Jar: jar, Timeout: 20 * time.Second}
		resp, err := browser.Get(at)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		me, err := browser.Get(h.url + "/api/v1/session")
		if err != nil {
			t.Fatal(err)
		}
		defer me.Body.Close()
		var who struct{ Name string }
		if body, err := io.ReadAll(me.Body); err != nil || json.Unmarshal(body, &who) != nil {
			t.Fatal(err)
		}
		return who.Name
	}
	ask := h.url + "/api/v1/session/issuer"
	for name, bend := range map[string]func(map[string]any){
		"another audience": func(c map[string]any) { c["aud"] = "other" },
		"another issuer":   func(c map[string]any) { c["iss"] = "https://other.example" },
		"out of date":      func(c map[string]any) { c["exp"] = time.Now().Add(-time.Hour).Unix() },
		"an old nonce":     func(c map[string]any) { c["nonce"] = "old" },
		"nobody here":      func(c map[string]any) { c["email"], c["sub"] = "eve@wrackline.example", "s-9" },
		"not verified":     func(c map[string]any) { c["email_verified"] = false },
	} {
		i.mu.Lock()
		i.bend = bend
		i.mu.Unlock()
		if who := try(t, ask); who != "" {
			t.Errorf("%s: %s is signed in", name, who)
		}
	}
	i.mu.Lock()
	i.bend, i.other = nil, true
	i.mu.Unlock()
	if who := try(t, ask); who != "" {
		t.Errorf("signed by another key: %s is signed in", who)
	}
	i.mu.Lock()
	i.other = false
	i.mu.Unlock()
	for name, at := range map[string]string{
		"an answer that nobody asked for": h.url + "/api/v1/session/issuer/answer?state=x&code=the-code",
		"no state":                        h.url + "/api/v1/session/issuer/answer?code=the-code",
	} {
		if who := try(t, at); who != "" {
			t.Errorf("%s: %s is signed in", name, who)
		}
	}
	if who := try(t, ask); who != "by-issuer" {
		t.Fatalf("%q is signed in", who)
	}
	// From now on it is the subject that counts, and not the name.
	i.mu.Lock()
	i.bend = func(c map[string]any) { c["sub"] = "s-2" }
	i.mu.Unlock()
	if who := try(t, ask); who != "" {
		t.Errorf("another subject with the same name: %s is signed in", who)
	}
	i.mu.Lock()
	i.bend = func(c map[string]any) { c["email"] = "ines.v@wrackline.example" }
	i.mu.Unlock()
	if who := try(t, ask); who != "by-issuer" {
		t.Errorf("the same subject with another name: %q", who)
	}
	h.told("sign-in:issuer", "sign-in:refused")
	// By the button of the sign-in page, whose deep link is gone on to.
	p := openBrowser(t, h.url)
	p.open("/instances")
	p.press("Sign in by your organisation")
	p.says("by-issuer, viewer")
	p.holds("the place that was asked for", `location.pathname === "/instances"`)
	i.mu.Lock()
	i.bend = func(c map[string]any) { c["sub"] = "s-2" }
	i.mu.Unlock()
	q := openBrowser(t, h.url)
	q.open("/")
	q.press("Sign in by your organisation")
	q.says("The issuer's answer was refused")
}

// certificate writes a certificate of its own making for 127.0.0.1 with the serial number.
func certificate(t testing.TB, dir string, serial int64) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := x509.Certificate{
		SerialNumber: big.NewInt(serial),
		Subject:      pkix.Name{CommonName: "latch"},
		NotBefore:    time.Now().Add(-time.Hour),
		NotAfter:     time.Now().Add(time.Hour),
		DNSNames:     []string{"localhost"},
	}
	der, err := x509.CreateCertificate(rand.Reader, &c, &c, k.Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return writeFile(
			t, filepath.Join(dir, "cert.pem"), string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
		),
		writeFile(
			t, filepath.Join(dir, "key.pem"),
			string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})),
		)
}

func TestTheServiceReadsANewCertificateHoldsBackCallersAndStaysOffItsOwnMachine(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "gannet")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "gannet", "-steward")
	h.must("subscriber", "add", "pager", "http://127.0.0.1:1/")
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	cert, key := certificate(t, h.dir, 1)
	// As in newHouse, but without the settings that let it reach this machine and ask freely.
	h.service = start(
		t, "plumlatchd", "-database", h.database, "-owner-database", h.owner, "-cloud", h.cloudURL,
		"-cloud-token-file", h.tokenFile(), "-listen", "127.0.0.1:0", "-safe-key-file",
		filepath.Join(h.dir, "safe.key"), "-tls-cert", cert, "-tls-key", key, "-requests-per-second", "2",
	)
	h.url = h.service.await(t, `Plum Latch is at (https\S+)`)
	transport := &http.Transport{
		TLSClientConfig:   &tls.Config{InsecureSkipVerify: true},
		DisableKeepAlives: true,
	} //nolint: the serial number is looked at
	client := &http.Client{Transport: transport}
	get := func(path string) (*http.Response, string) {
		t.Helper()
		r, err := http.NewRequest("GET", h.url+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		resp, err := client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		body, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp, string(body)
	}
	serial := func() int64 {
		resp, _ := get("/healthz")
		return resp.TLS.PeerCertificates[0].SerialNumber.Int64()
	}
	if n := serial(); n != 1 {
		t.Fatalf("the certificate is %d", n)
	}
	resp, _ := get("/api/v1/keys")
	for _, header := range []string{
		"Strict-Transport-Security",
		"Content-Security-Policy",
		"X-Content-Type-Options",
		"X-Request-Id",
	} {
		if resp.Header.Get(header) == "" {
			t.Errorf("there is no %s", header)
		}
	}
	if csp := resp.Header.Get("Content-Security-Policy"); strings.Contains(csp, "unsafe") ||
		!strings.Contains(csp, "default-src 'self'") {
		t.Errorf("the policy is %s", csp)
	}
	good := read(t, key)
	writeFile(t, key, "half of a key")
	time.Sleep(1100 * time.Millisecond) // it looks once a second
	if n := serial(); n != 1 {
		t.Errorf("with half of a key: %d", n)
	}
	writeFile(t, key, good)
	certificate(t, h.dir, 2)
	eventually(
		t,
		"the new certificate is in use",
		func() bool { time.Sleep(100 * time.Millisecond); return serial() == 2 },
	)

	held := 0
	for range 60 {
		if resp, body := get("/api/v1/openapi.json"); resp.StatusCode == http.StatusTooManyRequests {
			held++
			if resp.Header.Get("Retry-After") == "" || !strings.Contains(body, "too-many-requests") {
				t.Errorf("%v %s", resp.Header, body)
			}
		}
	}
	if held == 0 {
		t.Error("nobody was held back")
	}
	// What is on this machine is not reached: not the instance, not the subscriber, not the cloud.
	eventually(t, "it is asked again", func() bool {
		time.Sleep(300 * time.Millisecond)
		r, err := http.NewRequest("POST", h.url+"/api/v1/subscribers/pager/test", nil)
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Authorization", "Bearer "+h.token)
		answer, err := client.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if answer.StatusCode != http.StatusTooManyRequests &&
			(err != nil || !strings.Contains(string(body), "does not connect there")) {
			t.Errorf("the subscriber: %s %v", body, err)
		}
		return answer.StatusCode != http.StatusTooManyRequests
	})
	eventually(t, "the cloud is asked", func() bool {
		time.Sleep(300 * time.Millisecond)
		resp, body := get("/api/v1/catalogue")
		if resp.StatusCode != http.StatusTooManyRequests && resp.StatusCode != http.StatusServiceUnavailable {
			t.Errorf("the cloud: %d %s", resp.StatusCode, body)
		}
		return resp.StatusCode != http.StatusTooManyRequests
	})
}

// TestTheSafeKeyMayComeFromACommandAndAWrongOneIsSaid starts services with safe keys that do
// not do.
func TestTheSafeKeyMayComeFromACommandAndAWrongOneIsSaid(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.fleet(t, "door")
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	base := []string{
		"-database",
		h.database,
		"-cloud",
		h.cloudURL,
		"-cloud-token-file",
		h.tokenFile(),
		"-listen",
		"127.0.0.1:0",
		"-allow-local-targets",
	}
	open := writeFile(t, filepath.Join(h.dir, "open.key"), base64.StdEncoding.EncodeToString(make([]byte, 32)))
	if err := os.Chmod(open, 0o644); err != nil {
		t.Fatal(err)
	}
	for says, args := range map[string][]string{
		"others can read":      {"-safe-key-file", open},
		"is not 32 bytes":      {"-safe-key-file", writeFile(t, filepath.Join(h.dir, "bad.key"), "AAAA\n")},
		"the command":          {"-safe-key-command", "/bin/false"},
		"exclude one another":  {"-safe-key-file", open, "-safe-key-command", "/bin/true"},
		"what /bin/true print": {"-safe-key-command", "/bin/true"},
	} {
		out, err := exec.Command(filepath.Join(bin, "plumlatchd"), append(base, args...)...).CombinedOutput()
		if err == nil || !strings.Contains(string(out), says) {
			t.Errorf("%v: %v %s", args, err, out)
		}
	}
	begin := func(args ...string) {
		h.service = start(t, "plumlatchd", append(base, args...)...)
		h.url = h.service.await(t, `Plum Latch is at (http\S+)`)
	}
	// A wrong one is found out by what it cannot open, and nothing is lost.
	begin("-safe-key-file", filepath.Join(h.dir, "other.key"))
	if r := h.client("sweep", "door"); !strings.Contains(r.out+r.err, "encrypted under another safe key") {
		t.Errorf("with a wrong safe key: %+v", r)
	}
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	begin("-safe-key-command", "/bin/cat "+filepath.Join(h.dir, "safe.key"))
	if out := h.must("sweep", "door"); strings.Contains(out, "another safe key") {
		t.Error(out)
	}
	h.refused("safe-key-from-command", "safe", "new-key")
	// The command prints a new one before the old one.
	file := filepath.Join(h.dir, "safe.key")
	old := read(t, file)
	fresh := make([]byte, 32)
	if _, err := rand.Read(fresh); err != nil {
		t.Fatal(err)
	}
	writeFile(t, file, base64.StdEncoding.EncodeToString(fresh)+"\n"+old)
	if out := h.must("safe", "new-key", "-reason", "a try"); !strings.Contains(out, "new safe key") {
		t.Error(out)
	}
	writeFile(t, file, base64.StdEncoding.EncodeToString(fresh)+"\n")
	if err := h.service.Stop(20 * time.Second); err != nil {
		t.Fatal(err)
	}
	begin("-safe-key-file", file)
	if out := h.must("sweep", "door"); strings.Contains(out, "another safe key") {
		t.Error(out)
	}
	h.told("safe.new-key")
}
