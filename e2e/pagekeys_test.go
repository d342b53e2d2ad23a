package e2e

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"

	"plumlatch/internal/apiclient"
)

// between stands between a browser and the service: it keeps all that the browser sends, and may change the answers.
type between struct {
	url string
	// change returns another answer for a path, if it likes.
	change func(path string, answer []byte) []byte

	mu      sync.Mutex
	sent    bytes.Buffer
	sockets []context.CancelFunc // of the WebSockets that are open
}

// cut breaks the WebSockets that are open.
func (b *between) cut() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, end := range b.sockets {
		end()
	}
	b.sockets = nil
}

func (h *house) between(t *testing.T) *between {
	t.Helper()
	service, err := url.Parse(h.url)
	if err != nil {
		t.Fatal(err)
	}
	b := &between{}
	proxy := httputil.NewSingleHostReverseProxy(service)
	proxy.ModifyResponse = func(r *http.Response) error {
		if b.change == nil || !strings.HasPrefix(r.Request.URL.Path, "/api/") {
			return nil
		}
		was, err := io.ReadAll(r.Body)
		if err != nil {
			return err
		}
		now := b.change(r.Request.URL.Path, was)
		r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(now)), int64(len(now))
		r.Header.Set("Content-Length", strconv.Itoa(len(now)))
		return nil
	}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		b.mu.Lock()
		b.sent.WriteString(r.Method + " " + r.URL.String() + "\n")
		for name, values := range r.Header {
			b.sent.WriteString(name + ": " + strings.Join(values, ",") + "\n")
		}
		b.sent.Write(body)
		if r.Header.Get("Upgrade") != "" {
			ctx, end := context.WithCancel(r.Context())
			defer end()
			r, b.sockets = r.WithContext(ctx), append(b.sockets, end)
		}
		b.mu.Unlock()
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	b.url = server.URL
	return b
}

// holdsNone fails if the browser sent one of the secrets, as it is or in a form that it is usually sent in.
func (b *between) holdsNone(t *testing.T, secrets map[string][]byte) {
	t.Helper()
	b.mu.Lock()
	defer b.mu.Unlock()
	sent := b.sent.Bytes()
	if len(sent) == 0 {
		t.Fatal("the browser sent nothing, so that this shows nothing")
	}
	for what, secret := range secrets {
		for _, form := range []string{
			string(secret),
			base64.StdEncoding.EncodeToString(secret),
			url.QueryEscape(string(secret)),
			strconv.Quote(string(secret)),
		} {
			if bytes.Contains(sent, []byte(form)) {
				t.Errorf("the browser sent %s", what)
			}
		}
	}
}

// secretLines are the lines of a private key's file that hold it: those beyond the public part, which some formats
// have in front.
func secretLines(t *testing.T, file string) []byte {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return []byte(lines[len(lines)-2]) // the last before the end line
}

const phrase = "storm petrel 7"

// pageKeys makes private keys of all types and forms that a browser reads, and records their public keys.
func (h *house) pageKeys(t *testing.T) (names, files []string) {
	t.Helper()
	dir := t.TempDir()
	for name, args := range map[string][]string{
		"plain":       {"-t", "ed25519", "-N", ""},
		"locked":      {"-t", "ed25519", "-N", phrase},
		"cbc":         {"-t", "ed25519", "-N", phrase, "-Z", "aes256-cbc"},
		"gcm":         {"-t", "ed25519", "-N", phrase, "-Z", "aes256-gcm@openssh.com"},
		"curve256":    {"-t", "ecdsa", "-b", "256", "-N", ""},
		"curve384":    {"-t", "ecdsa", "-b", "384", "-N", phrase},
		"curve521":    {"-t", "ecdsa", "-b", "521", "-N", ""},
		"rsa":         {"-t", "rsa", "-b", "2048", "-N", ""},
		"rsa-pkcs1":   {"-t", "rsa", "-b", "2048", "-N", "", "-m", "PEM"},
		"rsa-pkcs8":   {"-t", "rsa", "-b", "3072", "-N", phrase, "-m", "PKCS8"},
		"curve-sec1":  {"-t", "ecdsa", "-b", "256", "-N", "", "-m", "PEM"},
		"curve-pkcs8": {"-t", "ecdsa", "-b", "384", "-N", "", "-m", "PKCS8"},
	} {
		sshKeygen(t, dir, name, args...)
		names, files = append(names, name), append(files, filepath.Join(dir, name))
		h.must("key", "import", name, "-from", filepath.Join(dir, name+".pub"))
	}
	secret := filepath.Join(dir, "passphrase")
	if err := os.WriteFile(secret, []byte(phrase+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, args := range map[string][]string{
		"plain-ppk2": {"-t", "ed25519", "-N", ""},
		"rsa-ppk3":   {"-t", "rsa", "-b", "2048", "-N", phrase},
		"curve-ppk3": {"-t", "ecdsa", "-b", "521", "-N", phrase},
		"ed-ppk2":    {"-t", "ed25519", "-N", phrase},
	} {
		from, file := filepath.Join(dir, name+"-from"), filepath.Join(dir, name)
		sshKeygen(t, dir, name+"-from", args...)
		h.must("key", "convert", from, "-to", name[len(name)-4:], "-out", file, "-passphrase-file", secret)
		names, files = append(names, name), append(files, file)
		h.must("key", "import", name, "-from", from+".pub")
	}
	return names, append(files, filepath.Join(dir, "plain.pub"))
}

func TestKeysOfAllFormsAreProvedInThePageAndLeaveItNever(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	names, files := h.pageKeys(t)
	b := h.between(t)
	p := openBrowser(t, b.url)
	p.signedIn("ines", password)
	p.open("/proofs")
	p.press("Prove what you hold")
	p.says("Drop private key files here")
	p.do(chromedp.SetUploadFiles(`input[type=file]:not([webkitdirectory])`, files))
	p.says("plain.pub: This is a public key")
	p.fill("Passphrase of", "wrong")
	p.press("Unlock")
	p.says("The passphrase does not fit")
	p.fill("Passphrase of", phrase)
	p.press("Unlock")
	p.press("Prove " + strconv.Itoa(len(names)) + " keys")
	p.says(strconv.Itoa(len(names)) + " keys are proved")
	for _, name := range names {
		var k apiclient.Key
		if err := json.Unmarshal([]byte(h.must("key", "show", name, "-json")), &k); err != nil {
			t.Fatal(err)
		}
		if k.ProvedAt == nil || k.ProvedBy == nil || *k.ProvedBy != "ines" {
			t.Errorf("%s: proved at %v by %v, want today by ines", name, k.ProvedAt, k.ProvedBy)
		}
	}
	// The next person in the same page has none of them.
	p.press("ines, admin ▾")
	p.press("Sign out")
	p.fill("Name", "ines")
	p.fill("Password", password)
	p.press("Sign in")
	p.says("how safe")
	p.press("To prove")
	p.press("Prove what you hold")
	p.says("Drop private key files here")
	p.holds(
		"no key in the page",
		`![...document.querySelectorAll("button")].some((b) => b.innerText.startsWith("Forget"))`,
	)
	secrets := map[string][]byte{"the passphrase": []byte(phrase)}
	for _, file := range files {
		if !strings.HasSuffix(file, ".pub") {
			secrets["a line of "+filepath.Base(file)] = secretLines(t, file)
		}
	}
	b.holdsNone(t, secrets)
}

// TestThePageSignsNothingButProofs has a service that is not what it should be ask for other signatures.
func TestThePageSignsNothingButProofs(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "tern", "-t", "ed25519", "-N", "")
	h.must("key", "import", "tern", "-from", filepath.Join(dir, "tern.pub"))
	b := h.between(t)
	p := openBrowser(t, b.url)
	p.signedIn("ines", password)
	for what, change := range map[string][2]string{
		"a report of a login": {"proof@plumlatch", "entry@plumlatch"},
		"git's namespace":     {"proof@plumlatch", "git"},
		"some other text":     {"I hold the private key of this key.", "commit"},
		"another key":         {"fingerprint: SHA256:", "fingerprint: SHA256:x"},
	} {
		b.change = func(path string, answer []byte) []byte {
			if strings.HasSuffix(path, "/challenges") {
				return bytes.Replace(answer, []byte(change[0]), []byte(change[1]), 1)
			}
			return answer
		}
		p.open("/keys/tern")
		p.press("Prove that you hold it")
		p.do(chromedp.SetUploadFiles(`input[type=file]:not([webkitdirectory])`, []string{filepath.Join(dir, "tern")}))
		p.holds("the key", `document.querySelector("[role=dialog]").innerText.includes("SHA256:")`)
		p.press("Prove it")
		p.says("asks to sign something else than a proof")
		b.mu.Lock()
		if strings.Contains(b.sent.String(), "SSH SIGNATURE") {
			t.Errorf("%s: the page signed it", what)
		}
		b.mu.Unlock()
	}
}

// TestPrivateKeysComeToThePageEncryptedToIt sees that neither of the two answers with a private key has it in the
// open, and that the page opens both; and the password of a Windows instance, by a private key that stays in it.
func TestPrivateKeysComeToThePageEncryptedToIt(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "tern", "-holder", "ines")
	h.must("instance", "launch", "cam", "-image", "debian-12", "-size", "small", "-key", "tern", "-steward")
	if r := h.client("rotate", "start", "-key", "tern", "-make", "service", "-yes"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	kept := h.rotatedTo(t, "tern")
	h.must("key", "new", "office", "-type", "rsa", "-bits", "2048")
	h.must("instance", "launch", "desk", "-image", "windows-2022", "-size", "small", "-key", "office")

	b := h.between(t)
	var answered bytes.Buffer
	b.change = func(_ string, answer []byte) []byte {
		b.mu.Lock()
		defer b.mu.Unlock()
		answered.Write(answer)
		return answer
	}
	p := openBrowser(t, b.url)
	p.signedIn("ines", password)
	p.open("/keys/" + kept)
	p.press("Take the private key out")
	p.fill("Why", "field work")
	p.press("Take it out")
	p.says("Save the private key of " + kept + " now")
	taken := filepath.Join(p.downloads, kept)
	eventually(t, "the download", func() bool { _, err := os.Stat(taken); return err == nil })
	text, err := os.ReadFile(taken)
	if err == nil {
		err = os.WriteFile(h.private("taken"), text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	if out, err := h.ssh(h.instance("cam"), "taken", "whoami"); err != nil || out != "debian" {
		t.Errorf("a login with what was taken out: %v, %s", err, out)
	}
	p.press("I have saved the private key of " + kept)
	p.press("Close")

	p.open("/keys")
	p.press("New key")
	p.press("Let the service make it")
	p.fill("Name", "petrel")
	p.press("Make it and download the private key")
	p.says("Save the private key of petrel now")
	eventually(t, "the download", func() bool {
		return exec.Command("ssh-keygen", "-y", "-f", readableCopy(t, filepath.Join(p.downloads, "petrel"))).Run() == nil
	})
	p.press("I have saved the private key of petrel")
	p.press("Close")
	b.mu.Lock()
	if all := answered.String(); strings.Contains(all, "PRIVATE KEY") || !strings.Contains(all, "private_key") {
		t.Error("the service answered with a private key in the open, or with none")
	}
	b.mu.Unlock()

	want := strings.TrimSpace(h.must("instance", "password", "desk", "-q"))
	p.open("/instances/desk")
	p.press("Read the administrator's password")
	p.do(chromedp.SetUploadFiles(`input[type=file]:not([webkitdirectory])`, []string{h.private("office")}))
	p.holds("the key", `document.querySelector("[role=dialog]").innerText.includes("SHA256:")`)
	p.press("Open it")
	p.says(want)
	if h.toldOften("password.opened") == 0 {
		t.Error("the daybook does not tell of it")
	}
	b.holdsNone(t, map[string][]byte{
		"the password":               []byte(want),
		"a line of the office key":   secretLines(t, h.private("office")),
		"a line of what was made":    secretLines(t, filepath.Join(p.downloads, "petrel")),
		"a line of what was kept":    secretLines(t, taken),
		"the text of what was taken": []byte("PRIVATE KEY"),
	})
}

// rotatedTo is the name of the key that a rotation has brought in the place of another.
func (h *house) rotatedTo(t *testing.T, old string) string {
	t.Helper()
	var items struct{ Items []apiclient.RotationItem }
	r := h.rotation()
	if _, body := h.call("GET", "/api/v1/rotations/"+r.Id.String()+"/items", h.token, ""); json.Unmarshal(
		[]byte(body), &items) != nil || len(items.Items) == 0 || items.Items[0].New == "" {
		t.Fatalf("the rotation of %s has no new key: %s", old, body)
	}
	return items.Items[0].New
}

// TestALostKeyIsFoundAgainInThePage proves in the page what that takes.
func TestALostKeyIsFoundAgainInThePage(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "tern", "-t", "ed25519", "-N", "")
	h.must("key", "import", "tern", "-from", filepath.Join(dir, "tern.pub"))
	h.must("key", "mark-lost", "tern", "-reason", "the tablet is gone", "-yes")
	p := h.console(t)
	p.open("/keys/tern")
	p.press("It was found again")
	p.fill("Why", "it was on the boat")
	p.press("It is not lost")
	p.holds("a refusal before a proof", `document.querySelector("[role=dialog] [role=alert]") !== null`)
	p.press("Prove it")
	p.takesKey(filepath.Join(dir, "tern"))
	p.holds("the button that proves it", `(() => { const b = [...document.querySelectorAll("[role=dialog]")]
		.find((e) => e.innerText.includes("Drop private key files"))?.querySelector("button.ant-btn-primary");
		if (b && !b.disabled) b.click(); return Boolean(b && !b.disabled); })()`)
	p.says("tern is proved")
	p.press("It is not lost")
	p.holds("the key as active", `!document.body.innerText.includes("It was found again")`)
	var k apiclient.Key
	if err := json.Unmarshal([]byte(h.must("key", "show", "tern", "-json")), &k); err != nil || k.State != "active" {
		t.Errorf("the key is %s, %v", k.State, err)
	}
}
