// Package adapter is the server's side of the contract between the service and a cloud, api/adapter.yaml: its types,
// and how calls are let in and errors answered (RFC 9457).
package adapter

import (
	"crypto/subtle"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

// ErrNotFound is of what there is not, ErrGone of a place in time that is no longer known.
var (
	ErrNotFound = errors.New("not found")
	ErrGone     = errors.New("that is too long ago: what has changed since is not known; read the whole list")
)

// ConflictError is an error about the state that something is in: nothing was done, and nothing will be.
type ConflictError struct{ Detail string }

func (c *ConflictError) Error() string { return c.Detail }

// Conflict returns a *ConflictError.
func Conflict(detail string) error { return &ConflictError{detail} }

// RequestError is an error about what was asked for.
type RequestError struct{ Detail string }

func (r *RequestError) Error() string { return r.Detail }

// BadRequest returns a *RequestError.
func BadRequest(detail string) error { return &RequestError{detail} }

// Serve serves the contract under /v1 to callers that present the token.
func Serve(token string, s StrictServerInterface, between ...StrictMiddlewareFunc) http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.Use(gin.Recovery(), func(g *gin.Context) {
		given, ok := strings.CutPrefix(g.GetHeader("Authorization"), "Bearer ")
		if !ok || token == "" || subtle.ConstantTimeCompare([]byte(given), []byte(token)) != 1 {
			WriteProblem(g, http.StatusUnauthorized, "unauthorized", "the token is missing or wrong")
		}
	})
	strict := NewStrictHandlerWithOptions(s, between, StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(g *gin.Context, err error) { answer(g, BadRequest(err.Error())) },
		HandlerErrorFunc:         answer,
		ResponseErrorHandlerFunc: answer,
	})
	RegisterHandlersWithOptions(r, strict, GinServerOptions{
		BaseURL:      "/v1",
		ErrorHandler: func(g *gin.Context, err error, _ int) { answer(g, BadRequest(err.Error())) },
	})
	return r
}

func answer(g *gin.Context, err error) {
	var clash *ConflictError
	var bad *RequestError
	switch {
	case errors.Is(err, ErrGone):
		WriteProblem(g, http.StatusGone, "gone", err.Error())
	case errors.Is(err, ErrNotFound):
		WriteProblem(g, http.StatusNotFound, "not-found", err.Error())
	case errors.As(err, &clash):
		WriteProblem(g, http.StatusConflict, "conflict", err.Error())
	case errors.As(err, &bad):
		WriteProblem(g, http.StatusBadRequest, "bad-request", err.Error())
	default:
		WriteProblem(g, http.StatusInternalServerError, "failed", err.Error())
	}
}

// WriteProblem answers with a problem.
func WriteProblem(g *gin.Context, status int, code, detail string) {
	g.Header("Content-Type", "application/problem+json")
	g.AbortWithStatusJSON(status, Problem{Status: status, Code: code, Title: http.StatusText(status), Detail: &detail})
}

// needs is what a call is a part of; a call that is not named is always there.
var needs = map[string]Capability{
	"LaunchInstance":     CapabilityLaunch,
	"StartInstance":      CapabilityStartStop,
	"StopInstance":       CapabilityStartStop,
	"GetBootOutput":      CapabilityBootOutput,
	"AddFirewallRule":    CapabilityFirewall,
	"RemoveFirewallRule": CapabilityFirewall,
	"ListFirewallRules":  CapabilityFirewall,
	"GetAgent":           CapabilityGuestAgent,
	"PermitAgent":        CapabilityGuestAgent,
	"ReadAgentFile":      CapabilityGuestAgent,
	"WriteAgentFile":     CapabilityGuestAgent, "RunAgentCommand": CapabilityGuestAgent,
	"ListSnapshots":   CapabilitySnapshots,
	"MakeSnapshot":    CapabilitySnapshots,
	"DeleteSnapshot":  CapabilitySnapshots,
	"ListDisks":       CapabilityDisks,
	"AttachDisk":      CapabilityDisks,
	"DetachDisk":      CapabilityDisks,
	"MoveAddress":     CapabilityStaticAddresses,
	"GetMetadataKeys": CapabilityMetadataKeys,
	"SetMetadataKeys": CapabilityMetadataKeys,
	"RunInShell":      CapabilityBrowserShell,
	"GetPassword":     CapabilityPasswords,
	"ResetPassword":   CapabilityPasswords,

	"ListInstanceChanges": CapabilityInstanceChanges,
	"ListKeyPairs":        CapabilityKeyCatalogue,
	"AddKeyPair":          CapabilityKeyCatalogue,
	"RemoveKeyPair":       CapabilityKeyCatalogue,
	"ListKeyGroups":       CapabilityGroupKeys,
	"SetKeyGroup":         CapabilityGroupKeys,
	"TakeGroupKeys":       CapabilityGroupKeys,
}

// Only answers the calls of a cloud that can do no more than these with 404.
func Only(can []Capability) StrictMiddlewareFunc {
	return func(next StrictHandlerFunc, call string) StrictHandlerFunc {
		need, named := needs[call]
		if !named || slices.Contains(can, need) {
			return next
		}
		return func(*gin.Context, any) (any, error) {
			return nil, fmt.Errorf("this cloud has no call for %s: %w", need, ErrNotFound)
		}
	}
}
