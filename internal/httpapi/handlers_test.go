package httpapi

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/internal/cloud"
	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/pgboot/pgtest"
	"plumlatch/internal/runs"
	"plumlatch/internal/service"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const inesPassword = "guillemot ledge"

func TestMain(m *testing.M) { pgtest.Main(m, prepare) }

// prepare readies a database in which ines is an admin.
func prepare(ctx context.Context, owner, role string) error {
	if err := store.Prepare(ctx, owner, role); err != nil {
		return err
	}
	st, err := store.Open(ctx, role)
	if err != nil {
		return err
	}
	defer st.Close()
	log := slog.New(slog.DiscardHandler)
	return service.New(st, nil, runs.New(st, log), log, service.Options{}).
		People.AddOperator(
		ctx, people.Actor{Name: "setup", Via: "service"}, journal.IdempotencyKey{},
		people.NewOperator{Name: "ines", Title: "Ines", Password: inesPassword, Role: people.Admin},
	)
}

// caller makes requests of a handler, signed in.
type caller struct {
	handler http.Handler
	cookies []*http.Cookie
}

func newCaller(t testing.TB) *caller {
	t.Helper()
	st, err := store.Open(t.Context(), pgtest.Database(t))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(st.Close)
	port, err := cloud.Connect("http://127.0.0.1:9", "none", time.Second)
	if err != nil {
		t.Fatal(err)
	}
	log := slog.New(slog.DiscardHandler)
	c := &caller{}
	if c.handler, err = New(Options{
		Service: service.New(st, port, runs.New(st, log), log, service.Options{}),
		Log:     log,
	}); err != nil {
		t.Fatal(err)
	}
	r := c.post("/session", map[string]any{"name": "ines", "password": inesPassword})
	if c.cookies = r.Result().Cookies(); r.Code != http.StatusOK || len(c.cookies) == 0 {
		t.Fatalf("sign in: %d %s", r.Code, r.Body)
	}
	return c
}

func (c *caller) post(path string, body any) *httptest.ResponseRecorder {
	data, err := json.Marshal(body)
	if err != nil {
		panic(err)
	}
	return c.send("POST", path, string(data))
}

func (c *caller) send(method, path, body string, headers ...string) *httptest.ResponseRecorder {
	r := httptest.NewRequest(method, "/api/v1"+path, strings.NewReader(body))
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Sec-Fetch-Site", "same-origin")
	for n := 0; n < len(headers); n += 2 {
		r.Header.Set(headers[n], headers[n+1])
	}
	for _, cookie := range c.cookies {
		r.AddCookie(cookie)
	}
	w := httptest.NewRecorder()
	c.handler.ServeHTTP(w, r)
	return w
}

// problem is what an answer says is wrong.
type problemAnswer struct {
	Status                 int
	Code, Field, RequestID string
}

func problemOf(t *testing.T, r *httptest.ResponseRecorder) problemAnswer {
	t.Helper()
	var p contract.Problem
	if err := json.Unmarshal(r.Body.Bytes(), &p); err != nil {
		t.Fatalf("got %d %s, want a problem: %v", r.Code, r.Body, err)
	}
	if got, want := r.Header().Get("Content-Type"), "application/problem+json"; got != want {
		t.Errorf("got the type %q, want %q", got, want)
	}
	if p.Status != r.Code {
		t.Errorf("the problem says the status %d, the answer has %d", p.Status, r.Code)
	}
	return problemAnswer{p.Status, p.Code, given(p.Field), given(p.RequestId)}
}

func TestHandlersSayWhatIsWrongByStatusCodeAndField(t *testing.T) {
	c := newCaller(t)
	for name, test := range map[string]struct {
		method, path, body string
		want               problemAnswer
	}{
		"no JSON":          {"POST", "/keys", "", problemAnswer{Status: 422, Code: "bad-json"}},
		"half JSON":        {"POST", "/keys", `{"name": "a"`, problemAnswer{Status: 422, Code: "bad-json"}},
		"another type":     {"POST", "/keys", `{"name": 7}`, problemAnswer{Status: 422, Code: "bad-json", Field: "name"}},
		"an unknown field": {"POST", "/keys", `{"nme": "a"}`, problemAnswer{Status: 422, Code: "bad-json", Field: "nme"}},
		"too much":         {"POST", "/keys", strings.Repeat(" ", maxBody+1), problemAnswer{Status: 413, Code: "too-large"}},
		"a bad name": {
			"POST", "/keys", `{"name": "a b", "public_key": "x"}`, problemAnswer{Status: 422, Code: "bad-name", Field: "name"},
		},
		"no such key":      {"GET", "/keys/none", "", problemAnswer{Status: 404, Code: "no-such-key"}},
		"no such instance": {"GET", "/instances/none", "", problemAnswer{Status: 404, Code: "no-such-instance"}},
		"no such run": {
			"GET", "/runs/018f3b8a-0000-7000-8000-000000000000", "", problemAnswer{Status: 404, Code: "no-such-run"},
		},
		"no id":           {"GET", "/runs/none", "", problemAnswer{Status: 422, Code: "bad-parameter"}},
		"a bad parameter": {"GET", "/keys?limit=many", "", problemAnswer{Status: 422, Code: "bad-parameter"}},
		"no such call":    {"GET", "/none", "", problemAnswer{Status: 404, Code: "no-such-call"}},
	} {
		r := c.send(test.method, test.path, test.body)
		got := problemOf(t, r)
		if got.RequestID == "" {
			t.Errorf("%s: no request id", name)
		}
		if got.RequestID = ""; got != test.want {
			t.Errorf("%s: got %+v, want %+v: %s", name, got, test.want, r.Body)
		}
	}
}

func TestAnotherSitesPageAndNobodyAreRefused(t *testing.T) {
	c := newCaller(t)
	if got := problemOf(t, c.send("POST", "/keys", "{}", "Sec-Fetch-Site", "cross-site")); got.Code != "foreign-origin" {
		t.Errorf("another site: got %+v, want foreign-origin", got)
	}
	c.cookies = nil
	if got := problemOf(t, c.send("GET", "/keys", "")); got.Status != 401 {
		t.Errorf("nobody: got %+v, want 401", got)
	}
}

func TestAListIsReadPageByPageAndAnswersInTheContractsFields(t *testing.T) {
	c := newCaller(t)
	const line = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPbG9qLnbTOa8GroBs6H+IR5CBuE29Z5pqjMQhPTXPW"
	for n, last := range []string{"b", "c", "d"} {
		r := c.post("/keys", map[string]any{"name": "key-" + last, "public_key": line + last})
		if r.Code != http.StatusCreated {
			t.Fatalf("key %d: %d %s", n, r.Code, r.Body)
		}
	}
	var names []string
	for path := "/keys?limit=2&total=true"; path != ""; {
		r := c.send("GET", path, "")
		var page contract.KeyPage
		if err := json.Unmarshal(r.Body.Bytes(), &page); err != nil || r.Code != http.StatusOK {
			t.Fatalf("%s: %d %s: %v", path, r.Code, r.Body, err)
		}
		if page.Total == nil || *page.Total != 3 {
			t.Errorf("%s: got the total %v, want 3", path, page.Total)
		}
		for _, k := range page.Items {
			names = append(names, k.Name)
			if k.Holder == nil || k.Holder.Name != "ines" || k.Custody != contract.CustodyHolder || k.Type != "ed25519" {
				t.Errorf("got %+v, want an ed25519 key that ines alone holds", k)
			}
		}
		if path = ""; page.Next != nil {
			path = "/keys?limit=2&total=true&after=" + *page.Next
		}
	}
	if want := []string{"key-b", "key-c", "key-d"}; !slices.Equal(names, want) {
		t.Errorf("got %v, want %v", names, want)
	}
}

func TestWhatIsNoProblemForPeopleIsNotTold(t *testing.T) {
	gin.SetMode(gin.ReleaseMode)
	s := &server{Options: Options{Log: slog.New(slog.DiscardHandler)}}
	answer := func(err error) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		g, engine := gin.CreateTestContext(w)
		engine.ContextWithFallback = true
		g.Request = httptest.NewRequest("GET", "/", nil).WithContext(
			context.WithValue(t.Context(), requestKey, &request{id: "r"}),
		)
		s.fail(g, err)
		return w
	}
	w := answer(errors.New("a secret"))
	if got := problemOf(t, w); got.Status != 500 || got.Code != "failed" || strings.Contains(w.Body.String(), "secret") {
		t.Errorf("got %+v %s, want 500, failed and no word of why", got, w.Body)
	}
	for kind, status := range statuses {
		w := answer(fmt.Errorf("wrapped: %w", &problem.Problem{Kind: kind, Code: "c", After: 3}))
		if got := problemOf(t, w); got.Status != status || got.Code != "c" {
			t.Errorf("kind %v: got %+v, want the status %d", kind, got, status)
		}
		if got := w.Header().Get("Retry-After"); got != "3" {
			t.Errorf("kind %v: got Retry-After %q, want 3", kind, got)
		}
	}
}
