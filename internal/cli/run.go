package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
)

var runCommands = []command{
	{
		name:     "run list",
		flags:    runList,
		summary:  "List runs: launches, starts, stops",
		examples: []string{"plumlatch run list -instance atlas-web-1", "plumlatch run list -state running"},
	},
	{
		name:     "run watch",
		args:     "ID",
		min:      1,
		max:      1,
		flags:    runWatch,
		summary:  "Watch a run until it ends",
		examples: []string{"plumlatch run watch 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
}

func runList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	state := f.String("state", "", "only in this state: queued, running, undoing, done, undone, failed or needs-person")
	instance := f.String("instance", "", "only on this instance")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		runs, total, err := fetch[apiclient.Run](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListRuns(
					ctx,
					&apiclient.ListRunsParams{
						After:    after,
						Limit:    &limit,
						Total:    count,
						State:    optional(*state),
						Instance: optional(*instance),
					},
				)
			},
		)
		if err != nil {
			return err
		}
		return runListing.show(s, runs, total)
	}
}

var runListing = listing[apiclient.Run]{
	head: []string{"RUN", "INSTANCE", "STATE", "BEGUN", "BY", "ID"},
	name: func(r apiclient.Run) string { return r.Id.String() },
	none: "No run fits.",
	cells: func(r apiclient.Run) []string {
		state := string(r.State)
		if r.Waits != nil && r.EndedAt == nil {
			state = "waits for " + r.Waits.Who
		}
		return []string{string(r.Kind), r.Instance, state, moment(r.CreatedAt), r.RequestedBy, r.Id.String()}
	},
}

func runWatch(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		id, err := uuid.Parse(args[0])
		if err != nil {
			return &usageError{fmt.Sprintf("%q is not the id of a run; see: plumlatch run list", args[0])}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		run, err := s.watch(ctx, client, id)
		if err != nil {
			return err
		}
		return s.runEnded(run)
	}
}
