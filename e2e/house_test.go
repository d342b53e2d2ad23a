// Package e2e drives the product through its real interfaces: the built
// binaries, the HTTP API, the console in Chromium, and the OpenSSH client.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/child"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/cloud"
	"plumlatch/internal/hall"
	"plumlatch/internal/pgboot/pgtest"
)

// bin is where the binaries under test are: those of PLUMLATCH_BUILT, just built by make, or
// others that are built from the tree.
var bin string

func TestMain(m *testing.M) {
	flag.Parse()
	if *machines != "" {
		patience = 8 * time.Minute // two boots, emulated, and what is done between them
		if err := hall.WhyNot(); hall.Outside() && err != nil {
			fmt.Println("SKIPPED: real machines cannot be tried here:", err)
			os.Exit(0)
		}
		if err := hall.Enter(nil, nil); err != nil {
			fmt.Fprintln(os.Stderr, "a machine hall of its own:", err)
			os.Exit(1)
		}
	}
	if bin = os.Getenv("PLUMLATCH_BUILT"); bin == "" {
		dir, err := os.MkdirTemp("", "plumlatch-bin-*")
		if err == nil {
			err = os.Chmod(dir, 0o755)
		}
		if err == nil {
			bin = dir
			cmd := exec.Command("go", "build", "-o", dir+"/", "plumlatch/cmd/...")
			cmd.Stderr = os.Stderr
			err = cmd.Run()
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, "build the binaries:", err)
			os.Exit(1)
		}
		defer os.RemoveAll(dir)
	}
	// Most of these tests wait more than they work: twice as many as elsewhere run at once.
	at := flag.Lookup("test.parallel").Value
	if n, err := strconv.Atoi(at.String()); err == nil {
		at.Set(strconv.Itoa(2 * n))
	}
	pgtest.Main(m, prepare)
	endChromium()
	endHall()
}

// output collects what a process writes.
type output struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.b.String()
}

// patience is for how long something is waited for: long enough for a machine that has to share its processors.
var patience = 2 * time.Minute

// eventually waits until ok, and fails the test if that takes too long.
func eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	wait := 15 * time.Millisecond
	for until := time.Now().Add(patience); !ok(); time.Sleep(wait) {
		if time.Now().After(until) {
			t.Fatalf("waited in vain: %s", what)
		}
		wait = min(wait*5/4, 250*time.Millisecond) // whoever waits long does not keep the machine busy by asking
	}
}

// process is a binary under test that was started.
type process struct {
	*child.Process
	out *output
}

func start(t testing.TB, name string, args ...string) *process {
	t.Helper()
	out := &output{}
	cmd := exec.Command(filepath.Join(bin, name), args...)
	cmd.Stdout, cmd.Stderr = out, out
	cmd.Env = append(os.Environ(), "PLUMLATCH_DATABASE=")
	p, err := child.Start(cmd)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := p.Stop(20 * time.Second); err != nil {
			t.Error(err)
		}
		if t.Failed() {
			t.Logf("%s said:\n%s", name, tail(out.String()))
		}
	})
	return &process{p, out}
}

func tail(s string) string { return s[max(0, len(s)-3000):] }

func (p *process) kill(t testing.TB) {
	t.Helper()
	if err := syscall.Kill(p.PID(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-p.Done()
}

// await waits for a line that matches in what the process says and returns its
// first group. It is patient for as long as the process tells of something new.
func (p *process) await(t testing.TB, pattern string) string {
	t.Helper()
	re := regexp.MustCompile(pattern)
	var found string
	said, silent := "", time.Now()
	for wait := 15 * time.Millisecond; found == ""; time.Sleep(wait) {
		wait = min(wait*5/4, 250*time.Millisecond)
		select {
		case <-p.Done():
			t.Fatalf("the process ended: %s", tail(p.out.String()))
		default:
		}
		now := p.out.String()
		if m := re.FindStringSubmatch(now); m != nil {
			found = m[len(m)-1]
		}
		if now != said {
			said, silent = now, time.Now()
		}
		if time.Since(silent) > patience {
			t.Fatalf("waited in vain: %s", pattern)
		}
	}
	return found
}

// blocks counts the ranges of addresses that were given to stand-in clouds.
var (
	blocks     atomic.Uint32
	firstBlock = rand.Uint32N(25_600)
)

// house is a whole Plum Latch for one test: its own database, cloud and service.
type house struct {
	t        testing.TB
	dir      string
	database string
	// owner is the URL for the owner of the tables; database is for the role of the service.
	owner    string
	cloud    *process
	cloudURL string
	service  *process
	url      string
	token    string // an admin's
	// work is the folder that the client runs in; "" for that of the tests.
	work string
}

const password = "guillemot ledge"

// adminToken is of a session that ines has, in every database that is a copy of the prepared one.
var adminToken string

// prepare readies the database that those of the tests are copied from: its first admin is ines,
// who is signed in.
func prepare(ctx context.Context, owner, service string) error {
	if err := makeFirstAdmin(ctx, owner, service); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "plumlatch-model-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	secret := filepath.Join(dir, "cloud.token")
	if err := os.WriteFile(secret, []byte("none\n"), 0o600); err != nil {
		return err
	}
	out := &output{}
	cmd := exec.CommandContext(
		ctx, filepath.Join(bin, "plumlatchd"), "-database", service, "-cloud", "http://127.0.0.1:9",
		"-cloud-token-file", secret, "-listen", "127.0.0.1:0",
	)
	cmd.Stdout, cmd.Stderr = out, out
	p, err := child.Start(cmd)
	if err != nil {
		return err
	}
	said := regexp.MustCompile(`Plum Latch is at (http\S+)`)
	for until := time.Now().Add(patience); !said.MatchString(out.String()) && time.Now().Before(until); {
		time.Sleep(20 * time.Millisecond)
	}
	at := said.FindStringSubmatch(out.String())
	if at == nil {
		return fmt.Errorf("the service did not start: %s", out.String())
	}
	adminToken, err = signInAt(at[1], dir, "ines", password)
	return errors.Join(err, p.Stop(20*time.Second))
}

func makeFirstAdmin(ctx context.Context, owner, service string) error {
	cmd := exec.CommandContext(
		ctx, filepath.Join(bin, "plumlatchd"), "-database", service, "-owner-database", owner, "-first-admin", "ines",
	)
	cmd.Stdin = strings.NewReader(password + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("make the first admin: %w: %s", err, out)
	}
	return nil
}

// newHouse starts a house. latency is that of the stand-in cloud.
func newHouse(t testing.TB, latency string) *house {
	t.Helper()
	owner, database := pgtest.Databases(t)
	h := newHouseOn(t, latency, owner, database)
	h.token = adminToken
	return h
}

// newHouseOn starts a house on a database, of which there are the URLs for its owner and for the
// role of the service. Nobody is signed in.
func newHouseOn(t testing.TB, latency, owner, database string) *house {
	t.Helper()
	h := &house{t: t, dir: t.TempDir(), database: database, owner: owner}
	if err := os.WriteFile(h.tokenFile(), []byte("cloud-token\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	h.startCloud(latency)
	h.startService("127.0.0.1:0")
	return h
}

// in is the house for a subtest.
func (h *house) in(t testing.TB) *house {
	here := *h
	here.t = t
	return &here
}

func (h *house) tokenFile() string { return filepath.Join(h.dir, "cloud.token") }

func (h *house) startCloud(latency string) {
	h.t.Helper()
	n := firstBlock + blocks.Add(1) // no two of this process share one
	block := fmt.Sprintf("127.%d.%d.0/24", 100+n/256%100, n%256)
	if data, err := os.ReadFile(filepath.Join(h.dir, "block")); err == nil {
		block = string(data) // the addresses stay through a restart
	} else if err := os.WriteFile(filepath.Join(h.dir, "block"), []byte(block), 0o600); err != nil {
		h.t.Fatal(err)
	}
	listen := "127.0.0.1:0"
	if h.cloudURL != "" {
		listen = strings.TrimPrefix(h.cloudURL, "http://")
	}
	h.cloud = start(
		h.t, "paddockd", "-data", filepath.Join(h.dir, "paddock"), "-token-file", h.tokenFile(), "-latency", latency,
		"-block", block, "-listen", listen,
	)
	h.cloudURL = h.cloud.await(h.t, `(http://\S+)`)
}

func (h *house) startService(listen string, more ...string) {
	h.t.Helper()
	args := append(
		[]string{
			"-database",
			h.database,
			"-allow-local-targets",
			"-requests-per-second",
			"2000",
			"-cloud",
			h.cloudURL,
			"-cloud-token-file",
			h.tokenFile(),
			"-listen",
			listen,
			"-safe-key-file",
			filepath.Join(h.dir, "safe.key"),
		},
		more...)
	if !strings.HasSuffix(listen, ":0") { // a connection of another test may go out from the port at this moment
		eventually(h.t, listen+" is free", func() bool {
			l, err := net.Listen("tcp", listen)
			return err == nil && l.Close() == nil
		})
	}
	h.service = start(h.t, "plumlatchd", args...)
	h.url = h.service.await(h.t, `Plum Latch is at (http\S+)`)
}

func (h *house) listen() string { return strings.TrimPrefix(h.url, "http://") }

// signIn signs in as the client does and returns a token.
func (h *house) signIn(name, password string) string {
	h.t.Helper()
	token, err := signInAt(h.url, h.t.TempDir(), name, password)
	if err != nil {
		h.t.Fatal(err)
	}
	return token
}

func signInAt(url, home, name, password string) (token string, err error) {
	cmd := exec.Command(filepath.Join(bin, "plumlatch"), "sign-in", name, "-server", url)
	cmd.Env = append(os.Environ(), "HOME="+home, "PLUMLATCH_URL=", "PLUMLATCH_TOKEN=")
	cmd.Stdin = strings.NewReader(password + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("sign in: %w: %s", err, out)
	}
	data, err := os.ReadFile(filepath.Join(home, ".config/plumlatch/sign-in.json"))
	if err != nil {
		return "", err
	}
	var kept struct{ Token string }
	err = json.Unmarshal(data, &kept)
	return kept.Token, err
}

// result is what a run of the client gave.
type result struct {
	out, err string
	status   int
}

// client runs plumlatch with a home of its own under the house.
func (h *house) client(args ...string) result { return h.clientIn("", args...) }

func (h *house) home() string { return filepath.Join(h.dir, "home") }

func (h *house) clientIn(stdin string, args ...string) result {
	h.t.Helper()
	if err := os.MkdirAll(h.home(), 0o700); err != nil {
		h.t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(h.t.Context(), patience)
	defer cancel()
	if needsConfirmation(args) {
		args = append(args, "-confirm-file", writeFile(h.t, filepath.Join(h.dir, "own-password"), password))
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "plumlatch"), args...)
	cmd.Dir = h.work
	cmd.Env = append(os.Environ(), "HOME="+h.home(), "PLUMLATCH_URL="+h.url, "PLUMLATCH_TOKEN="+h.token)
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		h.t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// needsConfirmation is whether the command is one that takes one's own password, which is not among its arguments.
func needsConfirmation(args []string) bool {
	if len(args) < 2 || slices.Contains(args, "-confirm-file") || slices.Contains(args, "-help") {
		return false
	}
	return slices.Contains(
		[]string{"token new", "factor add", "factor remove", "operator add", "operator change", "mail set"},
		args[0]+" "+args[1],
	)
}

// session signs in as the console does; what it returns is presented in the place of a token.
func (h *house) session(name, password string) string {
	h.t.Helper()
	resp, err := http.Post(
		h.url+"/api/v1/session", "application/json",
		strings.NewReader(jsonBody(h.t, map[string]string{"name": name, "password": password})),
	)
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	if len(resp.Cookies()) != 1 {
		h.t.Fatalf("no session began: %s", resp.Status)
	}
	return resp.Cookies()[0].String()
}

// present puts a token, or a session's cookie, on a request.
func present(r *http.Request, with string) {
	if cookie, _, found := strings.Cut(with, ";"); found {
		r.Header.Set("Cookie", cookie)
	} else if with != "" {
		r.Header.Set("Authorization", "Bearer "+with)
	}
}

// must runs the client and fails the test if the client fails.
// refused types a command that is refused with that code, and returns the whole problem.
func (h *house) refused(code string, args ...string) apiclient.Problem {
	h.t.Helper()
	r := h.client(append(args, "-json")...)
	var p apiclient.Problem
	if err := json.Unmarshal([]byte(r.err[strings.LastIndex(r.err, "\n{")+1:]), &p); err != nil || r.status == 0 ||
		p.Code != code {
		h.t.Errorf("%v: status %d, code %q, want %q: %s%s", args, r.status, p.Code, code, r.out, r.err)
	}
	return p
}

func (h *house) must(args ...string) string {
	h.t.Helper()
	r := h.client(args...)
	if r.status != 0 {
		h.t.Fatalf("plumlatch %s: status %d\n%s%s", strings.Join(args, " "), r.status, r.out, r.err)
	}
	return r.out
}

// api returns a generated client that presents the token.
func (h *house) api(token string) *apiclient.Client {
	h.t.Helper()
	c, err := apiclient.NewClient(
		h.url+"/api/v1",
		apiclient.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			present(r, token)
			return nil
		}),
	)
	if err != nil {
		h.t.Fatal(err)
	}
	return c
}

// refused is with which status the service refused; 0 where it did not.
func refused(err error) int {
	var no *kit.ApiclientError
	if errors.As(err, &no) {
		return no.Status
	}
	return 0
}

// call makes a plain call and returns the status and the body.
func (h *house) call(method, path, token, body string) (int, string) {
	h.t.Helper()
	r, err := http.NewRequest(method, h.url+path, strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	present(r, token)
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		h.t.Fatal(err)
	}
	return resp.StatusCode, string(data)
}

// copyDisk has the cloud copy the disk of an instance.
func (h *house) copyDisk(instance, name string, image bool) {
	h.t.Helper()
	port := h.cloudPort()
	op, err := port.MakeSnapshot(h.t.Context(), name, h.instance(instance).CloudId, name, image)
	if _, err = port.Await(h.t.Context(), op, err); err != nil {
		h.t.Fatal(err)
	}
}

// cloudPort is the port to the house's cloud.
func (h *house) cloudPort() *cloud.Cloud {
	h.t.Helper()
	c, err := cloud.Connect(h.cloudURL, "cloud-token", cloud.CallTimeout)
	if err != nil {
		h.t.Fatal(err)
	}
	return c
}

// adapter calls the cloud behind the service's back, as somebody with another
// tool would, and returns the object that it answers with.
func (h *house) adapter(method, path, body string) map[string]any {
	h.t.Helper()
	r, err := http.NewRequest(method, h.cloudURL+"/v1"+path, strings.NewReader(body))
	if err != nil {
		h.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer cloud-token")
	r.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(r)
	if err != nil {
		h.t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode >= 300 {
		h.t.Fatalf("%s %s: %s %s %v", method, path, resp.Status, data, err)
	}
	out := map[string]any{}
	if len(data) > 0 {
		if err := json.Unmarshal(data, &out); err != nil {
			h.t.Fatal(err)
		}
	}
	return out
}

func jsonBody(t testing.TB, v any) string {
	t.Helper()
	data, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
