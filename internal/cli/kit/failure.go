package kit

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
)

// The exit statuses.
const (
	ExitDone   = 0
	ExitFailed = 1
	ExitUsage  = 2
	// ExitNotAsItShould says that the question was answered, and that the answer needs somebody.
	ExitNotAsItShould = 3
	ExitMissing       = 4 // there is no such thing
	ExitRefused       = 5 // by a rule or a right
	ExitConflict      = 6 // with what is there
	ExitUnreachable   = 7 // the service, its database or a cloud
)

// UsageError is an error about how the command was written.
type UsageError struct{ text string }

func (e *UsageError) Error() string { return e.text }

// Usage is an error about how the command was written.
func Usage(text string) error { return &UsageError{text} }

// Quiet ends with a status after everything has been said.
func Quiet(status int) error { return &QuietError{status} }

// QuietError ends with a status after everything has been said.
type QuietError struct{ Status int }

func (e *QuietError) Error() string { return "" }

// ApiclientError is the service's own no.
type ApiclientError struct{ apiclient.Problem }

func (e *ApiclientError) Error() string { return e.Detail }

// Failure is an error that this client found by itself, with a code for programs.
type Failure struct {
	Status         int
	Code           string
	Detail, Remedy string
}

func (e *Failure) Error() string { return e.Detail }

// Missing is the failure that there is no such thing.
func Missing(code, detail, remedy string) error {
	return &Failure{ExitMissing, code, detail, remedy}
}

// Conflict is the failure that something is in the way.
func Conflict(code, detail, remedy string) error {
	return &Failure{ExitConflict, code, detail, remedy}
}

// Refused is the failure that a rule or a right forbids it.
func Refused(code, detail, remedy string) error {
	return &Failure{ExitRefused, code, detail, remedy}
}

// BadName is the failure of a name that does not do.
func BadName(given string, why error) error {
	return Failed("bad-name", fmt.Sprintf("the name %q does not do: %v", given, why), "")
}

// Away is the failure that a cloud does not answer.
func Away(code, detail, remedy string) error {
	return &Failure{ExitUnreachable, code, detail, remedy}
}

// Failed is a failure of any other kind.
func Failed(code, detail, remedy string) error {
	return &Failure{ExitFailed, code, detail, remedy}
}

// ErrUnreachable is wrapped by errors of a service that does not answer.
var ErrUnreachable = errors.New("the service does not answer")

// Status returns the exit status that says what err is.
func Status(err error) int {
	var quiet *QuietError
	var usage *UsageError
	var failure *Failure
	var refused *ApiclientError
	var file *fs.PathError // of a file here, and not on another machine
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &quiet):
		return quiet.Status
	case errors.As(err, &usage):
		return ExitUsage
	case errors.As(err, &failure):
		return failure.Status
	case errors.As(err, &refused):
		return statusOf(refused.Problem)
	case errors.Is(err, ErrUnreachable):
		return ExitUnreachable
	case errors.As(err, &file) && errors.Is(file, fs.ErrNotExist):
		return ExitMissing
	case errors.As(err, &file) && errors.Is(file, fs.ErrExist):
		return ExitConflict
	}
	return ExitFailed
}

func statusOf(p apiclient.Problem) int {
	switch {
	case strings.HasPrefix(p.Code, "no-such-"):
		return ExitMissing
	case p.Code == "idempotency-key-reused":
		return ExitConflict
	}
	switch p.Status {
	case http.StatusNotFound:
		return ExitMissing
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusGone:
		return ExitRefused
	case http.StatusConflict, http.StatusPreconditionFailed:
		return ExitConflict
	case http.StatusTooManyRequests, http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		return ExitUnreachable
	}
	return ExitFailed
}

// Code returns the stable code of an error: the service's or this client's, or "".
func Code(err error) string {
	var e *ApiclientError
	var f *Failure
	var k *keypair.Refusal
	var format *keypair.FormatError
	var file *fs.PathError
	switch {
	case errors.As(err, &e):
		return e.Code
	case errors.As(err, &f):
		return f.Code
	case errors.As(err, &k):
		return k.Code
	case errors.As(err, &format):
		return "bad-format"
	case errors.Is(err, keypair.ErrPassphraseNeeded):
		return "passphrase-needed"
	case errors.Is(err, keypair.ErrPassphraseWrong):
		return "passphrase-wrong"
	case errors.As(err, &file) && errors.Is(file, fs.ErrExist):
		return "file-exists"
	}
	return ""
}

// WriteError says what is wrong, where, and what to type next.
func WriteError(w io.Writer, err error) {
	var e *ApiclientError
	var f *Failure
	switch {
	case errors.As(err, &e):
		writeRefusal(w, e.Problem)
		return
	case errors.As(err, &f):
		fmt.Fprintln(w, "plumlatch:", text.PlainLines(err.Error()))
		writeRemedy(w, f.Remedy)
		return
	}
	fmt.Fprintln(w, "plumlatch:", text.PlainLines(err.Error()))
	if errors.Is(err, ErrUnreachable) {
		writeRemedy(w, "Is it running, and is its address right? Give it with -server URL or PLUMLATCH_URL")
	}
}

func writeRemedy(w io.Writer, remedy string) {
	if remedy != "" {
		fmt.Fprintln(w, text.PlainLines(remedy)+".")
	}
}

func writeRefusal(w io.Writer, p apiclient.Problem) {
	where := ""
	if p.Line != nil && p.Column != nil && Given(p.Field) == "public_key" {
		where = fmt.Sprintf("line %d, column %d: ", *p.Line, *p.Column)
	}
	fmt.Fprintf(w, "plumlatch: %s%s\n", where, text.PlainLines(p.Detail))
	if p.Code == "key-granted" && p.Where != nil {
		for _, x := range *p.Where {
			fmt.Fprintln(w, "  "+text.Plain(x))
		}
	}
	writeRemedy(w, Given(p.Remedy))
	if p.Code == "failed" && p.RequestId != nil {
		fmt.Fprintln(w, "Request id:", *p.RequestId)
	}
}

// WriteProblem writes an error for programs: the problem that the service told of, or what this client found,
// with a code and the exit status.
func WriteProblem(w io.Writer, err error) {
	var e *ApiclientError
	problem := any(ownProblem(err))
	if errors.As(err, &e) {
		problem = e.Problem
	}
	text, err := json.Marshal(problem)
	if err != nil {
		text = []byte(`{"code":"failed"}`)
	}
	fmt.Fprintln(w, string(text))
}

func ownProblem(err error) map[string]string {
	var f *Failure
	p := map[string]string{"code": "failed", "detail": err.Error()}
	if errors.As(err, &f) {
		p["code"] = f.Code
		if f.Remedy != "" {
			p["remedy"] = f.Remedy
		}
		return p
	}
	if code := Code(err); code != "" {
		p["code"] = code
		return p
	}
	switch Status(err) {
	case ExitUsage:
		p["code"] = "usage"
	case ExitUnreachable:
		p["code"] = "unreachable"
	case ExitMissing:
		p["code"] = "no-such-file"
	}
	return p
}
