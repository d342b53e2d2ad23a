package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service/problem"
)

var (
	errBodyTooLarge = &problem.Problem{
		Kind:   problem.TooLarge,
		Code:   "too-large",
		Detail: "the request is larger than this call takes",
		Remedy: "Give the one line of the .pub file; a key has at most 64 KiB",
	}
	errForeignOrigin = &problem.Problem{
		Kind:   problem.Forbidden,
		Code:   "foreign-origin",
		Detail: "the call comes from a page of another site",
		Remedy: "Use the console, or a token",
	}
	errTooSlow = &problem.Problem{
		Kind:   problem.Unavailable,
		Code:   "service-busy",
		Detail: "the service has too much to do to answer this in time",
		Remedy: "Try again in a moment",
	}
	errNotDone = &problem.Problem{
		Code:   "failed",
		Detail: "the service could not do this",
		Remedy: "Its log says why, under the request id",
	}
)

var statuses = map[problem.Kind]int{
	0:                       http.StatusInternalServerError,
	problem.Invalid:         http.StatusUnprocessableEntity,
	problem.TooLarge:        http.StatusRequestEntityTooLarge,
	problem.Unauthenticated: http.StatusUnauthorized,
	problem.Forbidden:       http.StatusForbidden,
	problem.NotFound:        http.StatusNotFound,
	problem.Conflict:        http.StatusConflict,
	problem.Changed:         http.StatusPreconditionFailed,
	problem.Gone:            http.StatusGone,
	problem.Unavailable:     http.StatusServiceUnavailable,
	problem.TooMany:         http.StatusTooManyRequests,
}

// fail answers with the problem that err is. What is no problem for people is
// logged, and its text stays here.
func (s *server) fail(c *gin.Context, err error) {
	r := requestOf(c)
	var p *problem.Problem
	fromStore := problem.FromStore(err)
	switch {
	case errors.As(err, &p):
	case fromStore != nil:
		p = fromStore
		if p == problem.DatabaseAway {
			s.Log.Warn("the database does not answer", "id", r.id, "err", err)
		}
	case errors.Is(c.Request.Context().Err(), context.DeadlineExceeded):
		p = errTooSlow
		s.Log.Warn("a call took too long", "id", r.id, "path", c.FullPath(), "err", err)
	case c.Request.Context().Err() != nil:
		c.Abort() // nobody is listening any longer
		return
	default:
		p = errNotDone
		s.Log.Error("a call failed", "id", r.id, "path", c.FullPath(), "err", err)
	}
	status := statuses[p.Kind]
	if p.Kind == problem.Unavailable {
		c.Header("Retry-After", "2")
	}
	if p.After > 0 {
		c.Header("Retry-After", strconv.Itoa(p.After))
	}
	c.Header("Content-Type", "application/problem+json")
	told := contractProblem(p)
	told.RequestId = &r.id
	c.AbortWithStatusJSON(status, told)
}

func contractProblem(p *problem.Problem) contract.Problem {
	status := statuses[p.Kind]
	return contract.Problem{
		Type: "about:blank", Title: http.StatusText(status), Status: status, Code: p.Code, Detail: p.Detail,
		Remedy: optional(p.Remedy), Field: optional(p.Field), Line: optional(p.Line), Column: optional(p.Column),
		Suggestion: optional(p.Suggestion), Where: list(p.Where),
	}
}

// badBody says what is wrong with a request's JSON, without repeating any of it.
func badBody(err error) error {
	var tooLarge *http.MaxBytesError
	var syntax *json.SyntaxError
	var typ *json.UnmarshalTypeError
	p := &problem.Problem{
		Kind:   problem.Invalid,
		Code:   "bad-json",
		Detail: "the request is not the JSON that this call takes",
		Remedy: "See " + basePath + "/openapi.json",
	}
	switch {
	case errors.As(err, &tooLarge):
		return errBodyTooLarge
	case errors.Is(err, io.EOF):
		p.Detail = "the request has no JSON in it"
	case errors.As(err, &syntax):
		p.Detail = fmt.Sprintf("the request is not valid JSON: it breaks at byte %d", syntax.Offset)
	case errors.As(err, &typ):
		p.Field, p.Detail = typ.Field, fmt.Sprintf("%s must be of the type %s", typ.Field, typ.Type)
	case strings.HasPrefix(err.Error(), "json: unknown field "):
		field := strings.Trim(strings.TrimPrefix(err.Error(), "json: unknown field "), `"`)
		if len(field) < 40 {
			p.Field, p.Detail = field, fmt.Sprintf("this call has no field %q", field)
		}
	}
	return p
}

func badParameter(err error) error {
	return &problem.Problem{Kind: problem.Invalid, Code: "bad-parameter", Detail: err.Error()}
}

// optional returns nil for a zero value.
func optional[T comparable](v T) *T {
	var zero T
	if v == zero {
		return nil
	}
	return &v
}

func oneOf(v *string) []string {
	if v == nil {
		return nil
	}
	return []string{*v}
}

func list(l []string) *[]string {
	if len(l) == 0 {
		return nil
	}
	return &l
}

// given returns what p points to, or the zero value.
func given[T any](p *T) T {
	if p == nil {
		var zero T
		return zero
	}
	return *p
}
