package paddock

import (
	"context"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"plumlatch/internal/adapter"
)

// everything is what the stand-in can do.
var everything = []adapter.Capability{
	adapter.CapabilityLaunch,
	adapter.CapabilityStartStop,
	adapter.CapabilityBootOutput,
	adapter.CapabilityFirewall,
	adapter.CapabilityGuestAgent,
	adapter.CapabilitySnapshots,
	adapter.CapabilityDisks,
	adapter.CapabilityStaticAddresses,
	adapter.CapabilityMetadataKeys,
	adapter.CapabilityBrowserShell,
	adapter.CapabilityPasswords,
	adapter.CapabilityInstanceChanges,
	adapter.CapabilityKeyCatalogue,
	adapter.CapabilityGroupKeys,
}

func (c *Cloud) capabilities() []adapter.Capability {
	return slices.DeleteFunc(
		slices.Clone(everything),
		func(one adapter.Capability) bool { return slices.Contains(c.opts.Without, one) },
	)
}

// faults are what is scheduled to go wrong.
type faults struct {
	mu   sync.Mutex
	list []adapter.Fault
}

// next counts a call, and returns what goes wrong with it, "" for nothing.
func (f *faults) next(call string) adapter.FaultKind {
	f.mu.Lock()
	defer f.mu.Unlock()
	for n := range f.list {
		fault := &f.list[n]
		if fault.Call != "*" && !strings.EqualFold(fault.Call, call) || fault.Call == "*" && call == "GetOperation" {
			continue
		}
		if *fault.Nth--; *fault.Nth > 0 {
			continue
		}
		kind := fault.Kind
		if *fault.Times--; *fault.Times == 0 {
			f.list = slices.Delete(f.list, n, n+1)
		} else {
			*fault.Nth = 1
		}
		return kind
	}
	return ""
}

func (a api) ScheduleFault(
	_ context.Context, r adapter.ScheduleFaultRequestObject,
) (adapter.ScheduleFaultResponseObject, error) {
	f := *r.Body
	for _, n := range []**int{&f.Nth, &f.Times} {
		if *n == nil {
			*n = new(1)
		}
	}
	if f.Call == "" || *f.Nth < 1 || *f.Times < 1 || !f.Kind.Valid() {
		return nil, adapter.BadRequest("a fault needs a call, a kind, and numbers from 1 on")
	}
	a.faults.mu.Lock()
	defer a.faults.mu.Unlock()
	a.faults.list = append(a.faults.list, f)
	return adapter.ScheduleFault204Response{}, nil
}

func (a api) ClearFaults(context.Context, adapter.ClearFaultsRequestObject) (adapter.ClearFaultsResponseObject, error) {
	a.faults.mu.Lock()
	defer a.faults.mu.Unlock()
	a.faults.list = nil
	return adapter.ClearFaults204Response{}, nil
}

// brokenKey is where a request says that the operation it begins is to fail.
const brokenKey = "plumlatch/paddock broken"

// isBroken reports whether the operation that a call begins is to fail.
func isBroken(ctx context.Context) bool { return ctx.Value(brokenKey) != nil }

// mostHung is for how long a call that hangs is held.
const mostHung = 10 * time.Minute

// goWrong does what is scheduled.
func (c *Cloud) goWrong(next adapter.StrictHandlerFunc, call string) adapter.StrictHandlerFunc {
	if call == "ScheduleFault" || call == "ClearFaults" {
		return next
	}
	return func(g *gin.Context, request any) (any, error) {
		switch c.faults.next(call) {
		case adapter.FaultKindFail:
			adapter.WriteProblem(g, http.StatusInternalServerError, "failed", "scheduled: "+call+" fails")
			return nil, nil
		case adapter.FaultKindRefuse:
			adapter.WriteProblem(g, http.StatusConflict, "conflict", "scheduled: "+call+" is refused")
			return nil, nil
		case adapter.FaultKindHang:
			select {
			case <-g.Request.Context().Done():
			case <-c.ctx.Done():
			case <-time.After(mostHung):
			}
			cut(g)
			return nil, nil
		case adapter.FaultKindTwice:
			if answer, err := next(g, request); err != nil {
				return answer, err
			}
		case adapter.FaultKindLoseReply:
			next(g, request)
			cut(g)
			return nil, nil
		case adapter.FaultKindBreak:
			g.Set(brokenKey, true)
		}
		return next(g, request)
	}
}

// cut ends the connection without an answer.
func cut(g *gin.Context) {
	if conn, _, err := g.Writer.Hijack(); err == nil {
		conn.Close()
	}
	g.Abort()
}
