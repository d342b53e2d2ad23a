// Package kit is what all commands of the client share: the session with the service, tables and progress in a
// terminal, prompts, key files and agents on the engineer's machine, and how a command ends. It has no
// command of its own.
package kit

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"time"

	"golang.org/x/term"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

// Session is one invocation's way to the service and to the person.
type Session struct {
	Env       Env
	Server    string
	tokenFile string
	Json      bool
	Quiet     bool
	// Wide and Columns say which columns of tables are shown.
	Wide    bool
	Columns string
	// NoPager has long output written as it is.
	NoPager bool
	client  *apiclient.Client
	reached string // the server that was dialled last
	fault   error  // why a table was not written
	hops    *hops
}

func (s *Session) Flags(f *flag.FlagSet) {
	f.StringVar(&s.Server, "server", "", "URL of the service")
	f.StringVar(&s.tokenFile, "token-file", "", "file with the token")
	f.BoolVar(&s.Json, "json", false, "write JSON")
	f.BoolVar(&s.Quiet, "q", false, "write only names")
	f.BoolVar(&s.Wide, "wide", false, "show all columns in full, however wide the terminal is")
	f.BoolVar(&s.NoPager, "no-pager", false, "do not show long output through $PAGER")
	f.StringVar(&s.Columns, "columns", "", "show these `columns` of a table, such as name,state")
}

// Fault is why a table could not be written as was asked.
func (s *Session) Fault() error { return s.fault }

// Kept is what sign-in keeps, in a file of mode 0600.
type Kept struct {
	Server string `json:"server"`
	Name   string `json:"name"`
	Token  string `json:"token"`
	ID     string `json:"id"`
}

// ConfigDir is where the client keeps its files.
func (s *Session) ConfigDir() (string, error) {
	if dir := s.Env.Getenv("XDG_CONFIG_HOME"); dir != "" {
		return filepath.Join(dir, "plumlatch"), nil
	}
	home, err := s.Home()
	return filepath.Join(home, ".config", "plumlatch"), err
}

func (s *Session) KeptFile() (string, error) {
	dir, err := s.ConfigDir()
	return filepath.Join(dir, "sign-in.json"), err
}

func (s *Session) Home() (string, error) {
	if h := s.Env.Getenv("HOME"); h != "" {
		return h, nil
	}
	return os.UserHomeDir()
}

func (s *Session) ReadKept() (Kept, error) {
	var k Kept
	file, err := s.KeptFile()
	if err != nil {
		return k, err
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err != nil {
		return k, err
	}
	if err := json.Unmarshal(data, &k); err != nil {
		return k, fmt.Errorf("%s cannot be read: %w; sign in again: plumlatch sign-in", file, err)
	}
	return k, nil
}

const DefaultServer = "http://127.0.0.1:8420"

// Connect finds the service and the token.
func (s *Session) Connect() (*apiclient.Client, error) {
	if s.client != nil {
		return s.client, nil
	}
	k, err := s.ReadKept()
	if err != nil {
		return nil, err
	}
	server, token := s.Server, ""
	if s.tokenFile != "" {
		data, err := os.ReadFile(s.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("read the token: %w", err)
		}
		token = strings.TrimSpace(string(data))
	}
	if server == "" {
		server = s.Env.Getenv("PLUMLATCH_URL")
	}
	if token == "" {
		token = s.Env.Getenv("PLUMLATCH_TOKEN")
	}
	if server == "" {
		server = k.Server
	}
	// A kept token goes only to the service that gave it.
	if token == "" && sameServer(server, k.Server) {
		token = k.Token
	}
	if token == "" {
		return nil, notSignedIn(cmp.Or(server, DefaultServer))
	}
	s.client, err = s.Dial(server, token)
	return s.client, err
}

// notSignedIn says that there is no token for a service, or that there is no such service to sign in to.
func notSignedIn(server string) error {
	asked, err := newHTTPClient(3*time.Second, 3*time.Second).Get(strings.TrimSuffix(server, "/") + "/healthz")
	if err != nil {
		return fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	asked.Body.Close()
	return Refused("not-signed-in", "you are not signed in to "+server, "Sign in: plumlatch sign-in")
}

func sameServer(a, b string) bool { return strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") }

func (s *Session) Dial(server, token string) (*apiclient.Client, error) {
	return s.dialWith(server, token, nil)
}

// dialWith is dial with the cookies of a session.
func (s *Session) dialWith(server, token string, cookies []*http.Cookie) (*apiclient.Client, error) {
	if server == "" {
		server = DefaultServer
	}
	if !strings.HasPrefix(server, "http://") && !strings.HasPrefix(server, "https://") {
		return nil, &UsageError{fmt.Sprintf("the server's URL begins with http:// or https://, not as in %q", server)}
	}
	s.reached = server
	if s.hops == nil {
		s.hops = &hops{}
	}
	return apiclient.NewClient(
		strings.TrimSuffix(server, "/")+"/api/v1",
		apiclient.WithHTTPClient(newHTTPClient(dialWithin, answerWithin)),
		apiclient.WithRequestEditorFn(WithCookies(cookies)),
		apiclient.WithRequestEditorFn(
			func(_ context.Context, r *http.Request) error {
				r.Header.Set("User-Agent", "plumlatch/"+Version)
				if token != "" {
					r.Header.Set("Authorization", "Bearer "+token)
				}
				return nil
			}),
	)
}

// Answer reads a response into a T, or into an error.
func Answer[T any](r *http.Response, err error) (T, error) {
	var v T
	data, err := AnswerBytes(r, err)
	if err != nil || len(data) == 0 {
		return v, err
	}
	if err := json.Unmarshal(data, &v); err != nil {
		return v, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	plainly(reflect.ValueOf(&v).Elem())
	return v, nil
}

// plainly replaces the control characters in all texts of an answer: what a machine or a
// person wrote must not steer the terminal of whoever reads it.
func plainly(v reflect.Value) {
	switch v.Kind() {
	case reflect.String:
		if v.CanSet() {
			if s := v.String(); text.PlainLines(s) != s {
				v.SetString(text.PlainLines(s))
			}
		}
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() && v.Kind() == reflect.Pointer {
			plainly(v.Elem())
		}
	case reflect.Struct:
		for n := range v.NumField() {
			plainly(v.Field(n))
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for n := range v.Len() {
			plainly(v.Index(n))
		}
	case reflect.Map:
		if v.Type().Elem().Kind() != reflect.String || v.Type().Key().Kind() != reflect.String {
			return
		}
		for _, k := range v.MapKeys() {
			if s := v.MapIndex(k).String(); text.Plain(s) != s {
				v.SetMapIndex(k, reflect.ValueOf(text.Plain(s)).Convert(v.Type().Elem()))
			}
		}
	}
}

func AnswerBytes(r *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	defer r.Body.Close()
	data, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if r.StatusCode < 300 {
		return data, nil
	}
	var p apiclient.Problem
	if json.Unmarshal(data, &p) != nil || p.Detail == "" {
		p = apiclient.Problem{
			Status: r.StatusCode,
			Detail: "the service answered " + r.Status,
			Remedy: new("Is this the address of a Plum Latch service?"),
		}
	}
	plainly(reflect.ValueOf(&p).Elem())
	return nil, &ApiclientError{p}
}

func NewRequestKey() *string { return new(rand.Text()) }

// filled makes lists and maps that are nil empty ones, so that no null stands for them.
func filled(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			filled(v.Elem())
		}
	case reflect.Struct:
		for n := range v.NumField() {
			filled(v.Field(n))
		}
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeSlice(v.Type(), 0, 0))
		}
		for n := range v.Len() {
			filled(v.Index(n))
		}
	case reflect.Map:
		if v.IsNil() && v.CanSet() {
			v.Set(reflect.MakeMap(v.Type()))
		}
	}
}

// WriteJSON writes v for programs, without a null where the contract has a list or a map.
func (s *Session) WriteJSON(v any) error {
	whole := reflect.New(reflect.TypeOf(v))
	whole.Elem().Set(reflect.ValueOf(v))
	filled(whole.Elem())
	v = whole.Interface()
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(v); err != nil {
		return err
	}
	_, err := s.Env.Out.Write(b.Bytes())
	return err
}

// IsTerminal reports whether w is a person's screen.
func IsTerminal(w any) bool {
	f, ok := w.(interface{ Fd() uintptr })
	return ok && term.IsTerminal(int(f.Fd()))
}

// AskSecret asks on the terminal without echo.
func (s *Session) AskSecret(prompt string) ([]byte, error) {
	if !IsTerminal(s.Env.In) {
		return nil, fmt.Errorf("%s: there is no terminal to ask on", strings.TrimSuffix(prompt, ": "))
	}
	fmt.Fprint(s.Env.Err, prompt)
	secret, err := term.ReadPassword(int(s.Env.In.Fd()))
	fmt.Fprintln(s.Env.Err)
	return secret, err
}

// Confirm asks for a word before harm; -yes says it beforehand.
func (s *Session) Confirm(yes bool, what, word string) error {
	if yes {
		return nil
	}
	if !IsTerminal(s.Env.In) {
		return &UsageError{what + "\nSay -yes to continue without being asked"}
	}
	fmt.Fprintf(s.Env.Err, "%s\nType %s to continue: ", what, word)
	typed := ReadLine(s.Env.In)
	if typed != word {
		return Failed("not-confirmed", "not confirmed; nothing was done", "")
	}
	return nil
}

// ReadLine reads to the end of the line, one byte at a time so as to take nothing
// beyond it.
func ReadLine(r io.Reader) string {
	var line []byte
	for b := make([]byte, 1); ; {
		n, err := r.Read(b)
		if n == 0 || err != nil || b[0] == '\n' {
			return strings.TrimRight(string(line), "\r")
		}
		line = append(line, b[0])
	}
}
