package journal

import (
	"context"
	"flag"
	"fmt"
	"net/http"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

var RunCommands = []kit.Command{
	{
		Name:     "run list",
		Flags:    runList,
		Summary:  "List runs: launches, starts, stops",
		Examples: []string{"plumlatch run list -instance atlas-web-1", "plumlatch run list -state running"},
	},
	{
		Name:     "run watch",
		Args:     "ID",
		Min:      1,
		Max:      1,
		Flags:    runWatch,
		Summary:  "Watch a run until it ends",
		Examples: []string{"plumlatch run watch 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
}

func runList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	state := f.String("state", "", "only in this state: queued, running, undoing, done, undone, failed or needs-person")
	instance := f.String("instance", "", "only on this instance")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		runs, total, err := kit.Fetch[apiclient.Run](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListRuns(ctx, &apiclient.ListRunsParams{
					After:    after,
					Limit:    &limit,
					Total:    count,
					State:    kit.Optional(*state),
					Instance: kit.Optional(*instance),
				})
			},
		)
		if err != nil {
			return err
		}
		return runListing.Show(s, runs, total)
	}
}

var runListing = kit.Listing[apiclient.Run]{
	Head: []string{"RUN", "INSTANCE", "STATE", "BEGUN", "BY", "ID"},
	Name: func(r apiclient.Run) string { return r.Id.String() },
	None: "No run matches.",
	Cells: func(r apiclient.Run) []string {
		state := string(r.State)
		if r.Waits != nil && r.EndedAt == nil {
			state = "waits for " + r.Waits.Who
		}
		return []string{string(r.Kind), r.Instance, state, kit.Moment(r.CreatedAt), r.RequestedBy, r.Id.String()}
	},
}

func runWatch(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		id, err := uuid.Parse(args[0])
		if err != nil {
			return kit.Usage(fmt.Sprintf("%q is not the id of a run; see: plumlatch run list", args[0]))
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		run, err := s.Watch(ctx, client, id)
		if err != nil {
			return err
		}
		return s.RunEnded(run)
	}
}
