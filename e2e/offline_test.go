package e2e

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
)

// offline runs the client in a folder with no service to go to.
func offline(t *testing.T, dir, stdin string, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "HOME="+dir, "PLUMLATCH_URL=http://127.0.0.1:1", "PLUMLATCH_TOKEN=none")
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

func sshKeygen(t *testing.T, dir, name string, args ...string) {
	t.Helper()
	all := append([]string{"-q", "-C", "hide 3", "-f", filepath.Join(dir, name)}, args...)
	if out, err := exec.Command("ssh-keygen", all...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

// TestEveryConvertedPrivateKeyStillOpensTheInstance converts a key through all
// formats and logs in with OpenSSH's client with each that it reads.
func TestEveryConvertedPrivateKeyStillOpensTheInstance(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	secret := filepath.Join(h.dir, "secret")
	if err := os.WriteFile(secret, []byte("storm petrel\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.must("key", "new", "start", "-type", "ecdsa", "-bits", "384")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-key", "start")
	door := h.instance("door")
	ssh := filepath.Join(h.home(), ".ssh")
	from := "start"
	for _, format := range []string{"ppk2", "pkcs8", "ppk3", "pem", "openssh"} {
		to := "as-" + format
		h.must("key", "convert", filepath.Join(ssh, from), "-to", format, "-out", filepath.Join(ssh, to))
		if !strings.HasPrefix(format, "ppk") {
			if out, err := h.ssh(door, to, "hostname"); err != nil || out != "door" {
				t.Errorf("%s: %s %v", format, out, err)
			}
		}
		// closed with a passphrase, and opened again
		h.must(
			"key", "convert", filepath.Join(ssh, to), "-to", format, "-out", filepath.Join(ssh, to+"-closed"),
			"-new-passphrase-file", secret,
		)
		h.refused(
			"passphrase-needed",
			"key",
			"convert",
			filepath.Join(ssh, to+"-closed"),
			"-to",
			"openssh",
			"-out",
			filepath.Join(ssh, to+"-no"),
		)
		h.must(
			"key", "convert", filepath.Join(ssh, to+"-closed"), "-passphrase-file", secret, "-no-passphrase", "-to",
			"openssh", "-out", filepath.Join(ssh, to+"-opened"),
		)
		if out, err := h.ssh(door, to+"-opened", "hostname"); err != nil || out != "door" {
			t.Errorf("%s, closed and opened: %s %v", format, out, err)
		}
		from = to
	}
	var traced apiclient.Trace
	if err := json.Unmarshal([]byte(h.must("trace", filepath.Join(ssh, "as-ppk3"), "-json")), &traced); err != nil ||
		traced.Matches[0].Name != "start" {
		t.Errorf("%+v %v", traced, err)
	}
}

func TestConvertWritesWholeFilesAndNeverOverAnother(t *testing.T) {
	dir := t.TempDir()
	sshKeygen(t, dir, "k", "-t", "rsa", "-b", "2048", "-N", "")
	if err := os.WriteFile(filepath.Join(dir, "there"), []byte("older"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := offline(t, dir, "", "key", "convert", "k", "-to", "pem", "-out", "there"); r.status != 6 {
		t.Errorf("%d %s", r.status, r.err)
	}
	if data, err := os.ReadFile(filepath.Join(dir, "there")); err != nil || string(data) != "older" {
		t.Errorf("the older file is %q %v", data, err)
	}
	for _, want := range []string{"there.old", "there.old-2"} {
		if r := offline(t, dir, "", "key", "convert", "k", "-to", "pem", "-out", "there", "-replace"); r.status != 0 {
			t.Fatalf("%d %s", r.status, r.err)
		}
		if _, err := os.Stat(filepath.Join(dir, want)); err != nil {
			t.Error(err)
		}
	}
	info, err := os.Stat(filepath.Join(dir, "there"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	for _, args := range [][]string{
		{"key", "convert", "k", "-to", "pkcs12", "-out", "x"}, {"key", "convert", "k", "-to", "pem"},
		{"key", "convert", "k.pub", "-to", "pem", "-out", "x"}, {"key", "convert", "none", "-to", "pem", "-out", "x"},
	} {
		if r := offline(t, dir, "", args...); r.status == 0 {
			t.Errorf("%v was done", args)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "x")); err == nil {
		t.Error("a refused conversion left a file")
	}
}

func TestInspectTellsWhatAFileIsAndWhatIsWrongWithIt(t *testing.T) {
	dir := t.TempDir()
	sshKeygen(t, dir, "good", "-t", "ed25519", "-N", "petrel")
	sshKeygen(t, dir, "weak", "-t", "rsa", "-b", "1024", "-N", "", "-m", "PEM")
	sshKeygen(t, dir, "other", "-t", "ed25519", "-N", "")
	if err := os.Rename(filepath.Join(dir, "other.pub"), filepath.Join(dir, "good.pub")); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(dir, "other"), 0o644); err != nil {
		t.Fatal(err)
	}
	for file, c := range map[string]struct {
		status int
		says   []string
	}{
		"good": {3, []string{"private key", "OpenSSH's own", "yes, aes256-ctr", "does NOT belong", "SHA256:"}},
		"weak": {
			3,
			[]string{"PKCS#1", "rsa, 1024 bits", "fewer than 2048", "no passphrase", "SHA-1 of the PKCS#8 DER", "belongs to it"},
		},
		"other":    {3, []string{"lets others read it", "chmod 600"}},
		"weak.pub": {3, []string{"public key", "one line", "hide 3", "MD5 of the SPKI DER", "SSHFP"}},
	} {
		r := offline(t, dir, "", "key", "inspect", file)
		if r.status != c.status {
			t.Errorf("%s: status %d %s", file, r.status, r.err)
		}
		for _, want := range c.says {
			if !strings.Contains(r.out, want) {
				t.Errorf("%s does not say %q:\n%s", file, want, r.out)
			}
		}
	}
	if r := offline(t, dir, "", "key", "inspect", "good", "none", "weak"); r.status != 4 ||
		!strings.Contains(r.out, "1024") ||
		!strings.Contains(r.err, "none") {
		t.Errorf("one file that is missing: %d %s", r.status, r.err)
	}
	var out []struct {
		SHA256   string
		Findings []struct{ Code string }
	}
	if err := json.Unmarshal([]byte(offline(t, dir, "", "key", "inspect", "weak", "-json").out), &out); err != nil ||
		len(out) != 1 ||
		len(out[0].Findings) < 2 {
		t.Errorf("%+v %v", out, err)
	}
}

func TestPassphraseIsChangedInPlaceAndTheOldFileKept(t *testing.T) {
	dir := t.TempDir()
	sshKeygen(t, dir, "k", "-t", "rsa", "-b", "2048", "-N", "first", "-m", "PEM")
	for name, text := range map[string]string{"first": "first", "second": "second"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if r := offline(
		t, dir, "", "key", "passphrase", "k", "-passphrase-file", "second", "-new-passphrase-file", "first",
	); r.status != 1 {
		t.Errorf("a wrong passphrase: %d %s", r.status, r.err)
	}
	if r := offline(
		t, dir, "", "key", "passphrase", "k", "-passphrase-file", "first", "-new-passphrase-file", "second",
	); r.status != 0 {
		t.Fatalf("%d %s", r.status, r.err)
	}
	if err := exec.Command("ssh-keygen", "-y", "-P", "second", "-f", filepath.Join(dir, "k")).Run(); err != nil {
		t.Error("the new passphrase does not open it")
	}
	if err := exec.Command("ssh-keygen", "-y", "-P", "first", "-f", filepath.Join(dir, "k.old")).Run(); err != nil {
		t.Error("the old file is not beside it")
	}
	if text, err := os.ReadFile(filepath.Join(dir, "k")); err != nil || !strings.Contains(string(text), "OPENSSH") {
		t.Error("the weak encryption of classic PEM was kept")
	}
}

func TestImportTakesEveryFormAndSaysWhatItRepaired(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	for n, format := range []string{"rfc4716", "spki", "jwk", "line"} {
		name := "k" + format
		sshKeygen(t, h.dir, name, "-t", "ecdsa", "-b", []string{"256", "384", "521", "256"}[n], "-N", "")
		text := h.must("key", "convert", filepath.Join(h.dir, name+".pub"), "-to", format)
		spoilt := "\ufeff> " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\r\n> ")
		r := h.clientIn(spoilt, "key", "import", name)
		if r.status != 0 || !strings.Contains(r.err, "Repaired: the quoting") || !strings.Contains(r.err, "byte order mark") {
			t.Errorf("%s: %d %s%s", format, r.status, r.out, r.err)
		}
		if out := h.must("key", "show", name, "-format", format); out != text && format != "line" && format != "rfc4716" {
			t.Errorf("%s comes back as\n%s, was\n%s", format, out, text)
		}
	}
	h.refused("no-such-format", "key", "show", "kjwk", "-format", "xml")
}

func TestTraceFindsARecordByAnyFingerprint(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must(
		"instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine", "-type", "rsa",
		"-bits", "2048",
	)
	file := filepath.Join(h.home(), ".ssh", "mine")
	var inspectedFile []struct {
		SHA256    string `json:"sha256"`
		MD5       string `json:"md5"`
		SPKIMD5   string `json:"spki_md5"`
		PKCS8SHA1 string `json:"pkcs8_sha1"`
		SSHFP     string `json:"sshfp"`
	}
	if err := json.Unmarshal([]byte(h.must("key", "inspect", file, "-json")), &inspectedFile); err != nil {
		t.Fatal(err)
	}
	i := inspectedFile[0]
	listed, err := exec.Command("ssh-keygen", "-lf", file+".pub").Output()
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"SHA-256":                   i.SHA256,
		"MD5":                       i.MD5,
		"MD5 upper case, no prefix": strings.ToUpper(strings.TrimPrefix(i.MD5, "MD5:")),
		"SPKI":                      i.SPKIMD5,
		"PKCS#8":                    strings.ReplaceAll(i.PKCS8SHA1, ":", ""),
		"SSHFP":                     i.SSHFP,
		"ssh-keygen -l":             string(listed),
		"a private file":            file,
		"a public file":             file + ".pub",
	} {
		if r := h.client("trace", text); r.status != 0 || !strings.Contains(r.out, "It is the key mine") ||
			!strings.Contains(r.out, "debian@door") {
			t.Errorf("%s (%s): %d %s%s", name, text, r.status, r.out, r.err)
		}
	}
	private, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if r := h.clientIn(string(private), "trace"); r.status != 0 || !strings.Contains(r.out, "It is the key mine") {
		t.Errorf("a private key piped in: %d %s%s", r.status, r.out, r.err)
	}
	if status, body := h.call(
		"POST", "/api/v1/traces", h.token, jsonBody(t, map[string]string{"text": string(private)}),
	); status != 422 ||
		!strings.Contains(body, `"code":"private-key"`) {
		t.Errorf("a private key sent: %d %s", status, body)
	}
	if r := h.client("trace", h.instance("door").Connection.HostKeys[1].Sha256); r.status != 0 ||
		!strings.Contains(r.out, "host key of the instance door") {
		t.Errorf("a host key: %d %s", r.status, r.out)
	}
	if r := h.client("trace", "MD5:00:11:22:33:44:55:66:77:88:99:aa:bb:cc:dd:ee:ff"); r.status != 3 ||
		!strings.Contains(r.out, "MD5 of keys over the SPKI DER") {
		t.Errorf("an unknown one: %d %s", r.status, r.out)
	}
	h.refused("not-recognised", "trace", "hello")
}

func TestConsoleTellsWhatAFingerprintIs(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	h.must("instance", "launch", "door", "-image", "debian-12", "-size", "small", "-new", "mine")
	p := h.console(t)
	p.open("/")
	p.press("Find\nCtrl K")
	p.says("Arrows choose")
	out, err := exec.Command("ssh-keygen", "-lf", filepath.Join(h.home(), ".ssh/mine"), "-E", "md5").Output()
	if err != nil {
		t.Fatal(err)
	}
	p.insert(strings.TrimSpace(string(out)))
	p.says("MD5 as OpenSSH prints it")
	p.press("debian@door")
	p.says("Private key proved")
}

func TestInspectFindsKeysThatShareAPrime(t *testing.T) {
	dir := t.TempDir()
	all := ""
	for name, line := range sharedPrimeLines(t) {
		all += line
		if err := os.WriteFile(filepath.Join(dir, name+".pub"), []byte(line), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	r := offline(t, dir, "", "key", "inspect", "a.pub", "b.pub", "c.pub")
	if r.status != 3 || !strings.Contains(r.out, "shares a prime with a.pub") ||
		!strings.Contains(r.out, "shares a prime with b.pub") ||
		strings.Contains(r.out, "with c.pub") {
		t.Errorf("%d %s", r.status, r.out)
	}
	if err := os.WriteFile(
		filepath.Join(dir, "authorized_keys"), []byte("# old\n"+all+"ssh-frob AAAA\n"), 0o600,
	); err != nil {
		t.Fatal(err)
	}
	r = offline(t, dir, "", "key", "inspect", "authorized_keys")
	if r.status != 3 || !strings.Contains(r.out, "list of keys, 4 lines") ||
		!strings.Contains(r.out, "shares a prime with line ") ||
		!strings.Contains(r.out, `line 5 is no key that can be recorded: "ssh-frob"`) {
		t.Errorf("%d %s", r.status, r.out)
	}
}

// sharedPrimeLines makes three RSA keys by name; a and b share a prime.
func sharedPrimeLines(t *testing.T) map[string]string {
	t.Helper()
	prime := func() *big.Int {
		p, err := rand.Prime(rand.Reader, 1024)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	shared := prime()
	lines := map[string]string{}
	for name, p := range map[string]*big.Int{"a": shared, "b": shared, "c": prime()} {
		key, err := ssh.NewPublicKey(&rsa.PublicKey{N: new(big.Int).Mul(p, prime()), E: 65537})
		if err != nil {
			t.Fatal(err)
		}
		lines[name] = string(ssh.MarshalAuthorizedKey(key))
	}
	return lines
}

// startAgent starts an ssh-agent that holds the keys, and has this test's
// clients find it.
func startAgent(t *testing.T, files ...string) {
	t.Helper()
	socket := filepath.Join(t.TempDir(), "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", socket)
	if err := agent.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		agent.Process.Kill()
		agent.Wait()
	})
	t.Setenv("SSH_AUTH_SOCK", socket)
	eventually(t, "the ssh-agent", func() bool { _, err := os.Stat(socket); return err == nil })
	if out, err := exec.Command("ssh-add", append([]string{"-q"}, files...)...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
}

func TestKeysInTheAgentAreImportedAndTraced(t *testing.T) {
	h := newHouse(t, "")
	dir := t.TempDir()
	sshKeygen(t, dir, "one", "-t", "ed25519", "-N", "")
	sshKeygen(t, dir, "two", "-t", "ecdsa", "-N", "")
	if err := exec.Command(
		"ssh-keygen", "-q", "-c", "-C", "tide gauge", "-f", filepath.Join(dir, "two"),
	).Run(); err != nil {
		t.Fatal(err)
	}
	startAgent(t, filepath.Join(dir, "one"), filepath.Join(dir, "two"))
	if r := h.client("key", "import", "which", "-agent"); r.status != 2 ||
		!strings.Contains(r.err, "tide gauge") {
		t.Errorf("two keys, none picked: %d %s", r.status, r.err)
	}
	h.refused("no-key-in-agent", "key", "import", "which", "-agent", "-pick", "puffin")
	h.must("key", "import", "gauge", "-agent", "-pick", "tide")
	print, err := exec.Command("ssh-keygen", "-lf", filepath.Join(dir, "one.pub"), "-E", "md5").Output()
	if err != nil {
		t.Fatal(err)
	}
	h.must("key", "import", "first", "-agent", "-pick", strings.Fields(string(print))[1])
	if out := h.must("trace", "-agent", "-q"); out != "first\ngauge\n" {
		t.Errorf("the agent's keys are %q", out)
	}
	if r := offline(t, dir, "", "key", "inspect", "-agent", "-pick", "tide"); r.status != 0 ||
		!strings.Contains(r.out, "key in the ssh-agent") ||
		!strings.Contains(r.out, "ecdsa, 256 bits") {
		t.Errorf("inspect: %d %s%s", r.status, r.out, r.err)
	}
	t.Setenv("SSH_AUTH_SOCK", "")
	h.refused("no-agent", "trace", "-agent")
}
