package people

import (
	"context"
	"fmt"
	"maps"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// Role is what an operator or a token may do.
type Role string

var rank = map[Role]int{Viewer: 1, Operator: 2, Admin: 3}

// May reports whether r may do what needs the role least.
func (r Role) May(least Role) bool { return rank[r] > 0 && rank[least] > 0 && rank[r] >= rank[least] }

// Actor is who makes a call, and by which way.
type Actor struct {
	ID        uuid.UUID
	Name      string
	Role      Role
	Via       string // api, cli, console or service
	ByToken   bool
	RequestID string
	// Limits are the labels of the instances that the actor sees and touches.
	Limits map[string]string
	// Only is what a token for a program may do: sweep, read, compare or settle; "" for all. One that settles does so for
	// the charter of that name, with a signature by a person unless it is Unsigned.
	Only     string
	Charter  string
	Unsigned bool
	// Machine is whether it is the account of a machine.
	Machine bool
	// Session is the console session that the call was made in, and ConfirmedAt when its person
	// last gave their password or a code.
	Session     uuid.UUID
	ConfirmedAt time.Time
	// AwaitsCode is whether the session is none before a code is given.
	AwaitsCode bool
}

// TheService acts by itself, as a duty does.
var TheService = Actor{Name: journal.ByService.Name, Via: journal.ByService.Via}

// By is how the daybook names the actor.
func (a Actor) By() journal.By { return journal.By{Name: a.Name, Via: a.Via, RequestID: a.RequestID} }

// Within returns a context in which the actor's limits hold.
func (a Actor) Within(ctx context.Context) context.Context {
	if len(a.Limits) == 0 {
		return ctx
	}
	return store.WithLimit(ctx, store.Limit{Labels: a.Limits, Person: a.Name})
}

// Labelled adds the labels of the actor's limits, so that what the actor brings in
// is within them.
func (a Actor) Labelled(labels map[string]string) (map[string]string, error) {
	out := maps.Clone(labels)
	for k, v := range a.Limits {
		if given, ok := labels[k]; ok && given != v {
			return nil, &problem.Problem{
				Kind:   problem.Forbidden,
				Code:   "beyond-your-limit",
				Field:  "labels",
				Detail: fmt.Sprintf("you work on instances with %s=%s alone, and the label given is %s=%s", k, v, k, given),
				Remedy: "Leave that label out; it is set for you",
			}
		}
		if out == nil {
			out = map[string]string{}
		}
		out[k] = v
	}
	return out, nil
}

// FleetWide refuses those with a limit.
func FleetWide(ctx context.Context, what string) error {
	if store.Limited(ctx) {
		return &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "beyond-your-limit",
			Detail: what + " reaches the whole fleet, and you work on a part of it",
			Remedy: "Ask somebody without a limit",
		}
	}
	return nil
}
