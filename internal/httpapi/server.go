// Package httpapi is the service's HTTP interface: requests in, service calls,
// responses out. It follows the contract api/openapi.yaml, from which
// httpapi/contract is generated, and serves the console.
package httpapi

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/gin-gonic/gin/binding"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

const (
	basePath   = "/api/v1"
	cookieName = "plumlatch_session"
	// maxBody is the largest request, in bytes, and largeBody that of a call with the files of a charter.
	maxBody   = 1 << 20
	largeBody = 6 << 20
)

// Options say how the interface will be served.
type Options struct {
	Service *service.Service
	Log     *slog.Logger
	// Version is what the service calls itself.
	Version string
	// Secure is whether the connection is encrypted, so that the session's cookie
	// must stay on such.
	Secure bool
	// Proxies are the networks of proxies in front: what a request that comes from one of them says
	// of where it came from is believed.
	Proxies []netip.Prefix
	// PerSecond is how many requests may come from one address in a second; 0 for any number.
	PerSecond float64
}

type server struct {
	Options
	calls    map[string]call // by method and path of the contract
	rates    rates
	streams  streams
	spec     []byte
	requests *prometheus.HistogramVec
	origin   *http.CrossOriginProtection
}

// New returns the handler of the whole interface.
func New(o Options) (http.Handler, error) {
	s := &server{
		Options: o,
		origin:  http.NewCrossOriginProtection(),
		rates:   rates{perSecond: o.PerSecond},
		streams: streams{askAgain: askAgainEvery, longest: longestStream},
	}
	if err := s.readContract(); err != nil {
		return nil, err
	}
	registry := prometheus.NewRegistry()
	s.requests = prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "plumlatch_request_seconds", Help: "How long requests took, by operation and status.",
		Buckets: []float64{.001, .005, .02, .1, .5, 2, 10},
	}, []string{"operation", "status"})
	registry.MustRegister(
		s.requests, figures{o.Service}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
	)

	gin.SetMode(gin.ReleaseMode)
	binding.EnableDecoderDisallowUnknownFields = true
	r := gin.New()
	r.ContextWithFallback = true
	r.HandleMethodNotAllowed = true
	r.Use(s.identify, s.recoverPanic, s.secureHeaders, s.limitRate, s.limitBody, s.limitTime)
	r.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	r.GET("/readyz", s.ready)
	r.GET(
		"/metrics", s.authorizeAs(people.Viewer), s.fleetWide,
		gin.WrapH(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})),
	)
	r.GET(basePath+"/openapi.json", func(c *gin.Context) { c.Data(http.StatusOK, "application/json", s.spec) })

	operations := &api{s}
	plain := []contract.StrictMiddlewareFunc{plainContext(operations)}
	strict := contract.NewStrictHandlerWithOptions(operations, plain, contract.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { s.fail(c, badBody(err)) },
		HandlerErrorFunc:         s.fail,
		ResponseErrorHandlerFunc: s.fail,
	})
	contract.RegisterHandlersWithOptions(r.Group("", s.authorize), strict, contract.GinServerOptions{
		BaseURL:      basePath,
		ErrorHandler: func(c *gin.Context, err error, _ int) { s.fail(c, badParameter(err)) },
	})
	files, err := newConsoleFiles()
	if err != nil {
		return nil, err
	}
	r.NoMethod(func(c *gin.Context) {
		s.fail(c, &problem.Problem{
			Kind:   problem.NotFound,
			Code:   "no-such-call",
			Detail: fmt.Sprintf("%s is not offered here", c.Request.Method),
		})
	})
	r.NoRoute(func(c *gin.Context) {
		if strings.HasPrefix(c.Request.URL.Path, "/api/") {
			s.fail(c, &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-call",
				Detail: "the API has no such path",
				Remedy: "See " + basePath + "/openapi.json",
			})
			return
		}
		files.serve(c)
	})
	return r, nil
}

// readContract takes the least role of every call from the contract, so that
// a call without one is never served.
func (s *server) readContract() error {
	spec, err := contract.GetSpec()
	if err != nil {
		return fmt.Errorf("read the contract: %w", err)
	}
	if s.spec, err = spec.MarshalJSON(); err != nil {
		return fmt.Errorf("write the contract: %w", err)
	}
	s.calls = map[string]call{}
	for path, item := range spec.Paths.Map() {
		for method, op := range item.Operations() {
			role, _ := op.Extensions["x-role"].(string)
			route := basePath + strings.NewReplacer("{", ":", "}", "").Replace(path)
			is := func(name string) bool { on, _ := op.Extensions[name].(bool); return on }
			only := map[string]bool{
				"sweep": is("x-sweep"), "compare": is("x-compare"), "settle": is("x-compare") || is("x-settle"),
			}
			c := call{
				of:     only,
				fresh:  is("x-fresh"),
				sure:   is("x-sure"),
				stream: is("x-stream"),
				long:   is("x-long"),
				large:  is("x-large"),
				socket: is("x-socket"),
				file:   is("x-file"),
			}
			switch {
			case role == "anyone":
			case people.Role(role).May(people.Viewer):
				c.role = people.Role(role)
			default:
				return fmt.Errorf("the contract gives %s %s no role", method, path)
			}
			s.calls[method+" "+route] = c
		}
	}
	return nil
}

// call is what the contract says of a call.
type call struct {
	// role is the least that may make it; "" where nobody has to sign in.
	role people.Role
	// of is by which tokens for one purpose alone it may be made.
	of map[string]bool
	// fresh is whether it needs a session whose person has just shown who they are. sure is whether it needs that of a
	// session, while a token may make it.
	fresh, sure bool
	// stream is whether it continues for as long as the caller likes, long whether it may take
	// longer than others.
	stream, long bool
	// socket is whether it becomes a WebSocket, of which there are limits of their own.
	socket bool
	// large is whether its body may have largeBody bytes.
	large bool
	// file is whether its body is a file, whose length the use case bounds.
	file bool
}

// How long a request may take, so that none holds a connection of the database for ever.
const (
	requestWithin     = 30 * time.Second
	longRequestWithin = 55 * time.Second
)

type contextKey int

const (
	actorKey contextKey = iota
	requestKey
)

// request is what is known of a request apart from the actor.
type request struct {
	id, via, session string
	address          string // the caller's
	cookies          string // as the header has them
	raw              *http.Request
	control          *http.ResponseController
}

func requestOf(ctx context.Context) *request { return ctx.Value(requestKey).(*request) }

func actorOf(ctx context.Context) people.Actor { return ctx.Value(actorKey).(people.Actor) }

// identify gives the request an id, logs it when it has ended, and measures it.
func (s *server) identify(c *gin.Context) {
	r := &request{
		id: rand.Text()[:16], via: "api", address: s.caller(c.Request), cookies: c.GetHeader("Cookie"), raw: c.Request,
		control: http.NewResponseController(c.Writer),
	}
	if strings.HasPrefix(c.Request.UserAgent(), "plumlatch/") {
		r.via = "cli"
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), requestKey, r))
	c.Header("X-Request-Id", r.id)
	begun := time.Now()
	c.Next()
	operation := c.Request.Method + " " + c.FullPath()
	if c.FullPath() == "" {
		operation = "other"
	}
	s.requests.WithLabelValues(operation, fmt.Sprint(c.Writer.Status())).Observe(time.Since(begun).Seconds())
	s.Log.Info(
		"request", "id", r.id, "method", c.Request.Method, "path", c.FullPath(), "status", c.Writer.Status(), "took",
		time.Since(begun).Round(time.Microsecond),
	)
}

func (s *server) recoverPanic(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			s.fail(c, fmt.Errorf("panic: %v", p))
		}
	}()
	c.Next()
}

func (s *server) secureHeaders(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", policy(""))
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	if s.Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
}

// policy is the Content-Security-Policy: scripts and styles come from files alone, but for the style elements with the
// nonce of a page of the console.
func policy(nonce string) string {
	styles := "'self'"
	if nonce != "" {
		styles += " 'nonce-" + nonce + "'"
	}
	return "default-src 'self'; style-src " + styles + "; img-src 'self' data:; frame-ancestors 'none'; " +
		"base-uri 'none'; form-action 'self'"
}

func (s *server) limitBody(c *gin.Context) {
	most := int64(maxBody)
	switch of := s.calls[c.Request.Method+" "+c.FullPath()]; {
	case of.file:
		return
	case of.large:
		most = largeBody
	}
	if c.Request.ContentLength > most {
		s.fail(c, errBodyTooLarge)
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, most)
}

// authorize lets a call of the contract pass to those who have its role.
func (s *server) authorize(c *gin.Context) {
	of, known := s.calls[c.Request.Method+" "+c.FullPath()]
	if !known {
		s.fail(c, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "no-role",
			Detail: "the contract says nothing of who may make this call",
		})
		return
	}
	if of.role == "" {
		if err := s.origin.Check(c.Request); err != nil {
			s.fail(c, errForeignOrigin)
		}
		return
	}
	s.authorizeAs(of.role)(c)
	if c.IsAborted() {
		return
	}
	switch {
	case of.fresh:
		if err := s.Service.People.Confirmed(actorOf(c)); err != nil {
			s.fail(c, err)
		}
	case of.sure:
		if err := s.Service.People.Sure(actorOf(c)); err != nil {
			s.fail(c, err)
		}
	case of.stream:
		s.watchOver(c, of)
	}
}

// limitTime gives every request but the streams a time within which it has to be answered.
func (s *server) limitTime(c *gin.Context) {
	within := requestWithin
	switch of := s.calls[c.Request.Method+" "+c.FullPath()]; {
	case of.stream:
		return
	case of.long:
		within = longRequestWithin
	}
	ctx, cancel := context.WithTimeout(c.Request.Context(), within)
	defer cancel()
	c.Request = c.Request.WithContext(ctx)
	c.Next()
}

func (s *server) authorizeAs(least people.Role) gin.HandlerFunc {
	return func(c *gin.Context) {
		actor, secret, err := s.whoAsks(c)
		if err == nil && !actor.Role.May(least) {
			err = &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "role-too-low",
				Detail: fmt.Sprintf("this needs the role %s, and %s has the role %s", least, actor.Name, actor.Role),
				Remedy: "Ask an admin, or sign in as somebody who may",
			}
		}
		if err == nil && least == people.Admin && len(actor.Limits) > 0 {
			err = &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "beyond-your-limit",
				Detail: "this reaches the whole fleet, and you work on a part of it",
				Remedy: "Ask somebody without a limit",
			}
		}
		if err == nil {
			err = s.onlyFor(c, actor)
		}
		if err != nil {
			s.fail(c, err)
			return
		}
		r := requestOf(c)
		if r.session = secret; r.via == "api" && secret != "" {
			r.via = "console"
		}
		actor.Via, actor.RequestID = r.via, r.id
		if actor.Machine {
			actor.Via = "machine"
		}
		c.Request = c.Request.WithContext(context.WithValue(actor.Within(c.Request.Context()), actorKey, actor))
	}
}

// onlyFor holds a token for a machine to what it is for.
func (s *server) onlyFor(c *gin.Context, actor people.Actor) error {
	if actor.Only == "" || actor.Only == "read" && c.Request.Method == http.MethodGet ||
		s.calls[c.Request.Method+" "+c.FullPath()].of[actor.Only] {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Forbidden,
		Code:   "token-for-less",
		Detail: fmt.Sprintf("this token is for %s alone", actor.Only),
		Remedy: "Use one that may do more: plumlatch token new NAME",
	}
}

// fleetWide refuses those with a limit.
func (s *server) fleetWide(c *gin.Context) {
	if len(actorOf(c).Limits) > 0 {
		s.fail(c, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "beyond-your-limit",
			Detail: "these figures are of the whole fleet, and you work on a part of it",
			Remedy: "Ask somebody without a limit",
		})
	}
}

// whoAsks returns who makes the call, and the secret of their session where it is made in one.
func (s *server) whoAsks(c *gin.Context) (actor people.Actor, secret string, err error) {
	if h := c.GetHeader("Authorization"); h != "" {
		token, _ := strings.CutPrefix(h, "Bearer ")
		actor, err = s.Service.People.ByToken(c.Request.Context(), token)
		return actor, "", err
	}
	// A browser sends the cookie by itself, so a page of another site must not
	// be able to make the call.
	if err := s.origin.Check(c.Request); err != nil {
		return people.Actor{}, "", errForeignOrigin
	}
	if secret, err = c.Cookie(s.cookieName()); err != nil {
		secret = ""
	}
	actor, err = s.Service.People.BySession(c.Request.Context(), secret)
	return actor, secret, err
}

func (s *server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c, 2*time.Second)
	defer cancel()
	if err := s.Service.Ready(ctx); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			err = problem.DatabaseAway
		}
		s.fail(c, err)
		return
	}
	c.String(http.StatusOK, "ready\n")
}
