// Package conformance goes through the contract between the service and a cloud against a running adapter, call by
// call, and says of each rule whether it is kept.
package conformance

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"plumlatch/api"
	"plumlatch/internal/cloud"
	"plumlatch/internal/core/text"
)

// Options say what is checked.
type Options struct {
	Adapter cloud.Adapter
	// Launch and Size are the image and the size of an instance that is launched, started, stopped and ended for the
	// check; "" for one that changes nothing in the cloud.
	Launch, Size string
	// Within is for how long an operation may take.
	Within time.Duration
}

// Verdict is what came of a case.
type Verdict string

// The verdicts.
const (
	Passed  Verdict = "passed"
	Failed  Verdict = "failed"
	Skipped Verdict = "skipped"
)

// Result is a case with what came of it.
type Result struct {
	Name    string
	Rule    string
	Verdict Verdict
	// Call is the operationId that it is about, and Line where the contract has that.
	Call string
	Line int
	// Detail is what was wrong, or why it was skipped; Answered is the last answer that was had.
	Detail, Answered string
	Took             time.Duration
}

// check is one case on its way.
type check struct {
	*run
	ctx context.Context
	// told is the last answer.
	told string
}

// run is what the cases know of the adapter.
type run struct {
	o         Options
	over      http.RoundTripper
	nobody    http.RoundTripper // without the right token
	can       cloud.Capabilities
	instances []cloud.Instance
	launched  string   // the id of what was launched for the check
	twins     []string // the ids of what was launched with it, and should not have been
}

// errSkip ends a case that cannot be tried.
type errSkip struct{ why string }

func (e errSkip) Error() string { return e.why }

const (
	callWithin = 60 * time.Second
	// mostShown is how much of an answer is shown, in characters.
	mostShown = 300
)

// Check goes through all cases in their order and tells of each once it is over.
func Check(ctx context.Context, o Options, tell func(Result)) error {
	r := &run{o: o}
	var err error
	if r.over, err = o.Adapter.Way(callWithin); err != nil {
		return err
	}
	wrong := o.Adapter
	wrong.Token = "not-" + wrong.Token
	if r.nobody, err = wrong.Way(callWithin); err != nil {
		return err
	}
	for _, c := range cases {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		began := time.Now()
		one := &check{run: r, ctx: ctx}
		err := c.try(one)
		out := Result{
			Name: c.name, Rule: c.rule, Call: c.call, Line: lineOf(c.call), Verdict: Passed,
			Answered: one.told, Took: time.Since(began),
		}
		var skip errSkip
		switch {
		case errors.As(err, &skip):
			out.Verdict, out.Detail = Skipped, skip.why
		case err != nil:
			out.Verdict, out.Detail = Failed, text.Line(err.Error(), text.MaxMessage)
		}
		tell(out)
	}
	return nil
}

// lineOf is where the contract has a call.
func lineOf(call string) int {
	for n, line := range strings.Split(api.Adapter, "\n") {
		if strings.TrimSpace(line) == "operationId: "+call {
			return n + 1
		}
	}
	return 0
}

// answer is what an adapter answered.
type answer struct {
	status int
	body   []byte
}

// ask sends one request.
func (c *check) ask(method, path string, body any) (answer, error) {
	return c.askBy(c.over, method, path, body)
}

func (c *check) askBy(over http.RoundTripper, method, path string, body any) (answer, error) {
	var sent io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return answer{}, err
		}
		sent = bytes.NewReader(data)
	}
	ctx, cancel := context.WithTimeout(c.ctx, callWithin)
	defer cancel()
	r, err := http.NewRequestWithContext(ctx, method, "http://adapter/v1"+path, sent)
	if err != nil {
		return answer{}, err
	}
	r.Header.Set("Content-Type", "application/json")
	resp, err := over.RoundTrip(r)
	if err != nil {
		return answer{}, fmt.Errorf("%s %s is not answered: %w", method, path, err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
	c.told = fmt.Sprintf("%s %s: %d %s", method, path, resp.StatusCode, shown(data))
	return answer{resp.StatusCode, data}, err
}

func shown(data []byte) string {
	s := []rune(text.Line(string(data), text.MaxMessage))
	if len(s) > mostShown {
		return string(s[:mostShown]) + "…"
	}
	return string(s)
}

// get reads what a call answers with 200.
func (c *check) get(path string, into any) error { return c.as(http.MethodGet, path, nil, into, 200) }

// as reads what a call answers with one of the statuses.
func (c *check) as(method, path string, body, into any, statuses ...int) error {
	a, err := c.ask(method, path, body)
	if err != nil {
		return err
	}
	if !slices.Contains(statuses, a.status) {
		return fmt.Errorf("%s %s answers %d, want %v", method, path, a.status, statuses)
	}
	if into == nil {
		return nil
	}
	if err := json.Unmarshal(a.body, into); err != nil {
		return fmt.Errorf("%s %s: the answer is not what the contract says: %w", method, path, err)
	}
	return nil
}

// refused sees that a call is refused with one of the statuses, and says why.
func (c *check) refused(method, path string, body any, statuses ...int) error {
	a, err := c.ask(method, path, body)
	if err != nil {
		return err
	}
	if !slices.Contains(statuses, a.status) {
		return fmt.Errorf("%s %s answers %d, want %v", method, path, a.status, statuses)
	}
	var problem struct{ Detail string }
	if json.Unmarshal(a.body, &problem) != nil || problem.Detail == "" {
		return fmt.Errorf("%s %s is refused without a detail that says why", method, path)
	}
	return nil
}

// needs skips a case where the adapter does not say that it has the capability; then the call must not be there.
func (c *check) needs(capability cloud.Capability, path string) error {
	if slices.Contains(c.can.Capabilities, capability) {
		return nil
	}
	a, err := c.ask(http.MethodGet, path, nil)
	if err != nil {
		return err
	}
	if a.status != http.StatusNotFound {
		return fmt.Errorf("it does not say that it can %s, and GET %s answers %d, want 404", capability, path, a.status)
	}
	return errSkip{fmt.Sprintf("it does not say that it can %s, and has no call for it", capability)}
}

// running is an instance of the cloud that runs, to be asked about.
func (c *check) running() (cloud.Instance, error) {
	for _, i := range c.instances {
		if i.State == cloud.Running {
			return i, nil
		}
	}
	return cloud.Instance{}, errSkip{"no instance runs there"}
}
