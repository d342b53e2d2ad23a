package cli

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
)

// typed are words of an example as they are typed, with what answers all questions and finds its files.
func typed(t *testing.T, c kit.Command, example string) []string {
	t.Helper()
	words := shellWords(strings.TrimSpace(example[strings.Index(example, "plumlatch "+c.Name):]))[1:]
	fs := flag.NewFlagSet(c.Name, flag.ContinueOnError)
	c.Flags(fs)
	if fs.Lookup("yes") != nil {
		words = append(words, "-yes")
	}
	return words
}

// atHome is a world with a home folder of its own, the service at url, and in the files that examples name.
func atHome(t *testing.T, url string) (kit.Env, *bytes.Buffer, *bytes.Buffer) {
	t.Helper()
	home := t.TempDir()
	t.Chdir(home)
	pair, err := keypair.Make(rand.Reader, keypair.Spec{}, "a key of this test")
	if err != nil {
		t.Fatal(err)
	}
	private, err := pair.Write(rand.Reader, keypair.OpenSSHPrivate, nil)
	if err != nil {
		t.Fatal(err)
	}
	for file, text := range map[string]string{
		".ssh/id_ed25519.pub": pair.Line() + "\n", ".ssh/oona": string(private), "field.sig": "none",
		"marsh.token": "secret", "host-ca.pub": "a key", "new.token": "secret",
		"field.yaml": "charter: field\n", "machines.csv": "name,user,address,port\nmast,debian,127.0.0.1,1\n",
	} {
		path := filepath.Join(home, file)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	var out, errs bytes.Buffer
	in, err := os.Open(os.DevNull)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	env := map[string]string{"HOME": home, "PLUMLATCH_URL": url, "PLUMLATCH_TOKEN": "a-token"}
	return kit.Env{In: in, Out: &out, Err: &errs, Getenv: func(name string) string { return env[name] }}, &out, &errs
}

// alone are the commands that ask no service, or another than the one that is set.
var alone = map[string]bool{
	"key inspect": true, "key convert": true, "key public": true, "key passphrase": true,
	"charter check": true, "charter schema": true, "completion": true, "reference": true, "manual": true, "version": true,
	"sign-in": true, "sign-out": true, "set-up": true,
}

// TestEveryCommandEndsWithTheStatusThatSaysWhy types an example of every command to a service that says no.
func TestEveryCommandEndsWithTheStatusThatSaysWhy(t *testing.T) {
	for name, c := range map[string]struct {
		problem apiclient.Problem
		status  int
	}{
		"missing":     {apiclient.Problem{Status: 404, Code: "no-such-key"}, kit.ExitMissing},
		"named wrong": {apiclient.Problem{Status: 422, Code: "no-such-holder"}, kit.ExitMissing},
		"invalid":     {apiclient.Problem{Status: 422, Code: "bad-text"}, kit.ExitFailed},
		"signed out":  {apiclient.Problem{Status: 401, Code: "not-signed-in"}, kit.ExitRefused},
		"forbidden":   {apiclient.Problem{Status: 403, Code: "role-too-low"}, kit.ExitRefused},
		"conflict":    {apiclient.Problem{Status: 409, Code: "wrong-state"}, kit.ExitConflict},
		"changed":     {apiclient.Problem{Status: 412, Code: "changed-since"}, kit.ExitConflict},
		"a fault":     {apiclient.Problem{Status: 500, Code: "failed"}, kit.ExitFailed},
		"away":        {apiclient.Problem{Status: 503, Code: "database-unavailable"}, kit.ExitUnreachable},
	} {
		t.Run(name, func(t *testing.T) {
			c.problem.Detail = "no"
			body, err := json.Marshal(c.problem)
			if err != nil {
				t.Fatal(err)
			}
			service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(c.problem.Status)
				w.Write(body)
			}))
			defer service.Close()
			for _, command := range commands() {
				if alone[command.Name] {
					continue
				}
				env, out, errs := atHome(t, service.URL)
				words := typed(t, command, strings.ReplaceAll(command.Examples[0], "~/", env.Getenv("HOME")+"/"))
				want := c.status
				if command.Name == "why" { // its answer is the check that failed
					want = kit.ExitNotAsItShould
				}
				if status := Run(t.Context(), words, env); status != want {
					t.Errorf("%v: status %d, want %d\n%s%s", words, status, want, out, errs)
				}
			}
		})
	}
}

// TestAServiceThatIsAwayIsNotToldAsASignInThatIsMissing asks without a token, of a service and of none.
func TestAServiceThatIsAwayIsNotToldAsASignInThatIsMissing(t *testing.T) {
	service := httptest.NewServer(http.NotFoundHandler())
	defer service.Close()
	for url, want := range map[string]int{service.URL: kit.ExitRefused, "http://127.0.0.1:1": kit.ExitUnreachable} {
		env, out, errs := atHome(t, url)
		getenv := env.Getenv
		env.Getenv = func(name string) string {
			if name == "PLUMLATCH_TOKEN" {
				return ""
			}
			return getenv(name)
		}
		if status := Run(t.Context(), []string{"key", "list"}, env); status != want {
			t.Errorf("%s: status %d, want %d: %s%s", url, status, want, out, errs)
		}
	}
}

// TestACommandWithoutNamesRefusesToWriteOnlyNames types an example of each such command with -q.
func TestACommandWithoutNamesRefusesToWriteOnlyNames(t *testing.T) {
	env, _, _ := atHome(t, "http://127.0.0.1:1")
	for _, c := range commands() {
		if !c.NoNames {
			continue
		}
		words := append(typed(t, c, strings.ReplaceAll(c.Examples[0], "~/", env.Getenv("HOME")+"/")), "-q")
		if at := slices.Index(words, "--"); at >= 0 {
			words = append(words[:at:at], "-q")
		}
		if status := Run(t.Context(), words, env); status != kit.ExitUsage {
			t.Errorf("%v: status %d, want %d", words, status, kit.ExitUsage)
		}
	}
}

// TestADidYouMeanIsSaidForCommands mistypes commands.
func TestADidYouMeanIsSaidForCommands(t *testing.T) {
	for typed, want := range map[string]string{
		"key imprt": "key import", "list keys": "key list", "keys": "key", "instnace list": "instance list", "rech": "reach",
		"key lst": "key list",
	} {
		env, _, errs := atHome(t, "http://127.0.0.1:1")
		status := Run(t.Context(), strings.Fields(typed), env)
		if status != kit.ExitUsage || !strings.Contains(errs.String(), "plumlatch "+want) {
			t.Errorf("%q: status %d, %s", typed, status, errs)
		}
	}
}
