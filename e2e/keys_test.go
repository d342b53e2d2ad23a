package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func TestKeyNewKeepsThePrivateKeyHereAndSendsOnlyThePublic(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"plain", nil, "ed25519"},
		{"rsa-small", []string{"-type", "rsa", "-bits", "2048"}, "rsa"},
		{"curve", []string{"-type", "ecdsa", "-bits", "521"}, "ecdsa"},
	} {
		h.must(append([]string{"key", "new", c.name}, c.args...)...)
		private := filepath.Join(h.home(), ".ssh", c.name)
		info, err := os.Stat(private)
		if err != nil {
			t.Fatal(err)
		}
		if info.Mode().Perm() != 0o600 {
			t.Errorf("%s has the mode %o", private, info.Mode().Perm())
		}
		public, err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", private).Output()
		if err != nil {
			t.Fatal(err)
		}
		var k apiclient.Key
		if err := json.Unmarshal([]byte(h.must("key", "show", c.name, "-json")), &k); err != nil {
			t.Fatal(err)
		}
		if k.PublicKey != strings.TrimSpace(string(public)) || k.Type != c.want || k.Origin != apiclient.OriginClient {
			t.Errorf("recorded %s %s %s; the file's public key is %s", k.Type, k.Origin, k.PublicKey, public)
		}
	}
}

func TestKeyNewNeverWritesOverAFile(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	file := filepath.Join(h.dir, "older")
	if err := os.WriteFile(file, []byte("an older key"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.refused("file-exists", "key", "new", "fresh", "-out", file)
	if data, err := os.ReadFile(file); err != nil || string(data) != "an older key" {
		t.Errorf("the older file now holds %q, %v", data, err)
	}
	h.refused("no-such-key", "key", "show", "fresh")
	if err := os.WriteFile(file+"-2.pub", []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	h.refused("file-exists", "key", "new", "fresh", "-out", file+"-2")
}

func TestKeyNewThatIsRefusedLeavesNothingBehind(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "atlas")
	other := filepath.Join(h.dir, "other")
	for _, args := range [][]string{
		{"key", "new", "atlas", "-out", other},
		{"key", "new", "has space", "-out", other},
		{"key", "new", "nobodys", "-holder", "nobody-here", "-out", other},
		{"key", "new", "weak", "-type", "rsa", "-bits", "1024", "-out", other},
		{"key", "new", "atlas", "-make", "service", "-out", other},
	} {
		if r := h.client(args...); r.status == 0 {
			t.Errorf("%v was done", args)
		}
		left, err := filepath.Glob(filepath.Join(h.dir, "*other*"))
		if err != nil || len(left) > 0 {
			t.Errorf("%v left %v, %v", args, left, err)
		}
		hidden, err := filepath.Glob(filepath.Join(h.dir, ".plumlatch*"))
		if err != nil || len(hidden) > 0 {
			t.Errorf("%v left %v, %v", args, hidden, err)
		}
	}
}

func TestKeyNewWithPassphraseFromAFileNeedsItAfterwards(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	secret := filepath.Join(h.dir, "passphrase")
	if err := os.WriteFile(secret, []byte("storm petrel\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("key", "new", "guarded", "-passphrase-file", secret)
	file := filepath.Join(h.home(), ".ssh", "guarded")
	if err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", file).Run(); err == nil {
		t.Error("the private key reads without its passphrase")
	}
	if err := exec.Command("ssh-keygen", "-y", "-P", "storm petrel", "-f", file).Run(); err != nil {
		t.Errorf("the passphrase does not open it: %v", err)
	}
}

func TestTheServiceHandsAPrivateKeyOverOnceAndNeverAgain(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "made", "-make", "service")
	file := filepath.Join(h.home(), ".ssh", "made")
	if err := exec.Command("ssh-keygen", "-y", "-P", "", "-f", file).Run(); err != nil {
		t.Fatalf("the file is no private key: %v", err)
	}
	for _, args := range [][]string{
		{"key", "private", "made"},
		{"key", "new", "made", "-make", "service", "-out", file + "2"},
	} {
		h.refused("private-key-not-here", args...)
	}
	// The same request sent twice must not bring the private key twice.
	key, body := "one-request", apiclient.MakeKey{Name: "twice"}
	ask := func() ([]byte, error) {
		return kit.AnswerBytes(h.api(h.token).MakeKey(t.Context(), &apiclient.MakeKeyParams{IdempotencyKey: &key}, body))
	}
	if _, err := ask(); err != nil {
		t.Fatal(err)
	}
	second, err := ask()
	if refused(err) != http.StatusGone || strings.Contains(string(second)+err.Error(), "PRIVATE") {
		t.Errorf("the second time: %v %s, want the status %d", err, second, http.StatusGone)
	}
}

func TestKeyImportSaysWhatIsWrongAndStoresNothing(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "mine")
	private, err := os.ReadFile(filepath.Join(h.home(), ".ssh", "mine"))
	if err != nil {
		t.Fatal(err)
	}
	public, err := os.ReadFile(filepath.Join(h.home(), ".ssh", "mine.pub"))
	if err != nil {
		t.Fatal(err)
	}
	line := strings.TrimSpace(string(public))
	for name, c := range map[string]struct{ text, code string }{
		"empty":        {"\n", "empty"},
		"private":      {string(private), "private-key"},
		"cut short":    {line[:60], "cut-short"},
		"wrapped, cut": {line[:40] + "\n" + line[40:70], "wrapped"},
		"disagreeing": {
			strings.Replace(line, "ssh-ed25519", "ssh-rsa", 1),
			"type-and-blob-disagree",
		},
		"unknown type":   {"ssh-frob AAAA", "unknown-type"},
		"known already":  {line, "key-known"},
		"over 64 KiB":    {line + strings.Repeat(" x", 40000), "too-large"},
		"ten megabytes":  {strings.Repeat("A", 10<<20), "too-large"},
		"two keys":       {line + "\n" + line, "several-keys"},
		"name over line": {"", "bad-name"},
	} {
		t.Run(name, func(t *testing.T) {
			keyName := "second"
			if c.code == "bad-name" {
				keyName = "two\nlines"
			}
			status, body := h.call(
				"POST", "/api/v1/keys", h.token, jsonBody(t, map[string]string{"name": keyName, "public_key": c.text}),
			)
			var p apiclient.Problem
			if err := json.Unmarshal([]byte(body), &p); err != nil || status < 400 || p.Code != c.code {
				t.Errorf("the API answers %d %s, want the code %s", status, body, c.code)
			}
			if c.code == "bad-name" {
				if p.Suggestion == nil || *p.Suggestion != "two-lines" || *p.Column != 4 {
					t.Errorf("the bad name is answered with %s", body)
				}
				return
			}
			r := h.clientIn(c.text, "key", "import", keyName, "-json")
			if r.status == 0 || !strings.Contains(r.err, `"code":"`+c.code+`"`) {
				t.Errorf("the client says %d %s, want %q", r.status, r.err, c.code)
			}
		})
	}
	if out := h.must("key", "list", "-q"); out != "mine\n" {
		t.Errorf("the keys are now %q", out)
	}
}

func TestKeyImportKeepsDropsOrReplacesTheComment(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, c := range []struct {
		name string
		args []string
		want string
	}{
		{"kept", nil, "ines@wrackline-laptop"},
		{"dropped", []string{"-no-comment"}, ""},
		{"replaced", []string{"-comment", "field tablet"}, "field tablet"},
	} {
		file := filepath.Join(h.dir, c.name)
		if out, err := exec.Command(
			"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", "ines@wrackline-laptop", "-f", file,
		).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		var k apiclient.Key
		args := append([]string{"key", "import", c.name, "-json", "-from", file + ".pub"}, c.args...)
		if err := json.Unmarshal([]byte(h.must(args...)), &k); err != nil {
			t.Fatal(err)
		}
		if k.Comment != c.want {
			t.Errorf("%s: the comment is %q, want %q", c.name, k.Comment, c.want)
		}
	}
}

func TestImportIsDoneOnceForOneIdempotencyKey(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("key", "new", "source")
	public, err := os.ReadFile(filepath.Join(h.home(), ".ssh", "source.pub"))
	if err != nil {
		t.Fatal(err)
	}
	h.must("key", "delete", "source", "-yes")
	key := "request-1"
	request := apiclient.ImportKey{Name: "once", PublicKey: string(public)}
	bring := func() (apiclient.Key, error) {
		return kit.Answer[apiclient.Key](
			h.api(h.token).ImportKey(t.Context(), &apiclient.ImportKeyParams{IdempotencyKey: &key}, request),
		)
	}
	for range 2 {
		if k, err := bring(); err != nil || k.Name != "once" {
			t.Fatalf("got %q, %v; want once", k.Name, err)
		}
	}
	request.Name = "another"
	if k, err := bring(); refused(err) != http.StatusUnprocessableEntity {
		t.Errorf("another request under the same key: %q %v, want the status %d", k.Name, err,
			http.StatusUnprocessableEntity)
	}
}

func TestKeyListFiltersSortsAndPages(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for _, n := range []string{"c", "a", "b"} {
		h.must("key", "new", n, "-label", "team="+n)
	}
	for want, args := range map[string][]string{
		"a\nb\nc\n": {},
		"c\nb\na\n": {"-sort", "-name"},
		"c\na\nb\n": {"-sort", "created"},
		"b\n":       {"-label", "team=b"},
		"a\n":       {"-find", "A", "-type", "ed25519", "-holder", "ines"},
		"":          {"-find", "%"},
	} {
		if out := h.must(append([]string{"key", "list", "-q"}, args...)...); out != want {
			t.Errorf("%v gives %q, want %q", args, out, want)
		}
	}
	one := 1
	var seen []string
	var after *string
	for {
		page, err := kit.Answer[apiclient.KeyPage](h.api(h.token).ListKeys(
			t.Context(), &apiclient.ListKeysParams{Limit: &one, After: after, Sort: new("-created")},
		))
		if err != nil {
			t.Fatal(err)
		}
		for _, k := range page.Items {
			seen = append(seen, k.Name)
		}
		if after = page.Next; after == nil {
			break
		}
	}
	if strings.Join(seen, "") != "bac" {
		t.Errorf("page by page: %v", seen)
	}
	if status, body := h.call("GET", "/api/v1/keys?after=nonsense", h.token, ""); status != 422 ||
		!strings.Contains(body, "bad-cursor") {
		t.Errorf("a false cursor: %d %s", status, body)
	}
}

func TestAListIsImportedKeyByKeyAfterAPreview(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	lines := "# the ringing office\n"
	for _, comment := range []string{"sunniva@desk", "Sunniva At Home", "", "sunniva@desk"} {
		file := filepath.Join(h.dir, "l"+strings.ReplaceAll(comment, " ", "")+fmt.Sprint(len(lines)))
		if out, err := exec.Command(
			"ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", comment, "-f", file,
		).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		public, err := os.ReadFile(file + ".pub")
		if err != nil {
			t.Fatal(err)
		}
		lines += string(public)
	}
	first := strings.Split(lines, "\n")[1]
	lines += "restrict " + first + "\nssh-frob AAAA\n"
	list := filepath.Join(h.dir, "authorized_keys")
	if err := os.WriteFile(list, []byte(lines), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := h.client("key", "import", "office", "-list", list); r.status != 2 || !strings.Contains(r.err, "Say -yes") ||
		!strings.Contains(r.err, "office-sunniva-at-home") {
		t.Errorf("without -yes: %d %s", r.status, r.err)
	}
	if out := h.must("key", "list", "-q"); out != "" {
		t.Errorf("the preview recorded %s", out)
	}
	var imported []struct {
		Line  int
		State string
	}
	r := h.client("key", "import", "office", "-list", list, "-yes", "-json")
	if err := json.Unmarshal([]byte(r.out), &imported); err != nil || r.status != 3 || len(imported) != 6 {
		t.Errorf("the import ends with %d: %s%s", r.status, r.out, r.err)
	}
	states := map[string]int{}
	for _, l := range imported {
		states[l.State]++
	}
	if states["recorded"] != 4 || states["refused"] != 2 {
		t.Errorf("the lines are %v", imported)
	}
	if out := h.must("key", "list", "-q"); out != "office-3\noffice-4\noffice-sunniva-at-home\noffice-sunniva-desk\n" {
		t.Errorf("recorded:\n%s", out)
	}
	if r := h.client("key", "import", "office", "-list", list, "-yes"); !strings.Contains(
		r.out, "0 recorded, 4 known already",
	) {
		t.Errorf("the second time:\n%s", r.out)
	}
	h.refused("private-key", "key", "import", "office", "-list", filepath.Join(h.dir, "l"+"sunniva@desk"+"21"), "-yes")
}

func TestAPrivateKeyIsWrittenInTheFormatThatIsAskedFor(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	secret := filepath.Join(h.dir, "secret")
	if err := os.WriteFile(secret, []byte("storm petrel\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	marks := map[string]string{
		"openssh": "BEGIN OPENSSH PRIVATE KEY",
		"pem":     "BEGIN RSA PRIVATE KEY",
		"pkcs8":   "BEGIN ENCRYPTED PRIVATE KEY",
		"ppk2":    "-User-Key-File-2",
		"ppk3":    "-User-Key-File-3",
	}
	names := map[string]string{"pem": ".pem", "pkcs8": ".pem", "ppk2": ".ppk", "ppk3": ".ppk"}
	for _, maker := range []string{"here", "service"} {
		for format, mark := range marks {
			name := format + "-" + maker
			h.must(
				"key", "new", name, "-type", "rsa", "-bits", "2048", "-make", maker, "-format", format, "-passphrase-file",
				secret,
			)
			file := filepath.Join(h.home(), ".ssh", name+names[format])
			text, err := os.ReadFile(file)
			if err != nil || !strings.Contains(string(text), mark) {
				t.Errorf("%s: %v, begins with %.40s", name, err, text)
			}
			if r := h.client("key", "inspect", file); !strings.Contains(r.out, "yes, ") ||
				strings.Contains(r.out, "does NOT belong") {
				t.Errorf("%s: %s", name, r.out)
			}
		}
	}
	h.refused("bad-format", "key", "new", "round", "-format", "pem")
	h.refused("no-such-key", "key", "show", "round")
	status, body := h.call(
		"POST", "/api/v1/keys/made", h.token, `{"name":"encrypted","format":"ppk3","passphrase":"wilson's petrel"}`,
	)
	if status != 201 || !strings.Contains(body, `"file_name":"encrypted.ppk"`) ||
		!strings.Contains(body, "argon2") && !strings.Contains(body, "Argon2id") {
		t.Errorf("made by the API: %d %s", status, body)
	}
	if strings.Contains(dump(t, h.owner), "wilson") || strings.Contains(h.service.out.String(), "wilson") {
		t.Error("the passphrase is in the database or the log")
	}
}

func TestRSAKeysThatShareAPrimeAreFoundInTheRecord(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for name, line := range sharedPrimeLines(t) {
		if r := h.clientIn(line, "key", "import", name); r.status != 0 {
			t.Fatalf("%s: %s", name, r.err)
		}
	}
	eventually(t, "the comparison of primes", func() bool {
		return strings.Contains(h.must("key", "show", "a"), "shares a prime with b")
	})
	if out := h.must("key", "show", "c"); strings.Contains(out, "prime") {
		t.Errorf("c is said to share a prime:\n%s", out)
	}
	h.told("key.shared-prime")
	h.refused("key-broken", "instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "a")
	h.must("key", "delete", "b", "-yes")
	if out := h.must("key", "show", "a"); strings.Contains(out, "shares a prime with b") {
		t.Error("the finding names a key that is gone")
	}
}

func TestConsoleImportsAListAndDerivesThePublicKeyOfAPrivateKey(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "one", "-t", "ed25519", "-N", "")
	sshKeygen(t, dir, "two", "-t", "ecdsa", "-N", "storm petrel")
	sshKeygen(t, dir, "three", "-t", "rsa", "-b", "2048", "-N", "", "-m", "PEM")
	read := func(name string) string {
		text, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return string(text)
	}
	h.must("key", "import", "known", "-from", filepath.Join(dir, "three.pub"))
	p := h.console(t)
	p.open("/keys")
	p.press("New key")
	p.press("Import a public key")
	p.fill("Name", "derived")
	p.paste("Public key", read("two"))
	p.says("Its public key was derived in this page")
	p.press("Import it")
	p.holds("the derived key in the list", `Boolean(document.querySelector("a[href='/keys/derived']"))`)
	if out := h.must("trace", filepath.Join(dir, "two.pub"), "-q"); out != "derived\n" {
		t.Errorf("two.pub is %q", out)
	}
	h.must("key", "delete", "derived", "-yes")
	p.open("/keys")
	p.press("New key")
	p.press("Import a public key")
	p.paste("Public key", read("three"))
	p.says("It stayed in this page and was not sent")
	p.says("plumlatch key public FILE")
	p.press("Import a list")
	p.fill("Their names begin with", "hides")
	p.paste("One key to a line", read("one.pub")+read("three.pub")+"restrict "+read("two.pub")+"ssh-frob AAAA x\n")
	p.press("Read it")
	p.says("known already")
	p.says("not a key type known here")
	p.press("Import 2 keys")
	p.says("2 of 2 keys are recorded")
	if out := h.must("key", "list", "-q"); out != "hides-2\nhides-hide-3\nknown\n" &&
		out != "hides-3\nhides-hide-3\nknown\n" {
		t.Errorf("recorded:\n%s", out)
	}
	if strings.Contains(h.service.out.String(), "PRIVATE") {
		t.Error("the service saw a private key")
	}
}
