package journal

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"

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
		Args:     "[INSTANCE|ID]",
		Max:      1,
		Flags:    runWatch,
		Summary:  "Watch a run until it ends",
		Detail:   `It watches the newest run, the newest on an instance, or one by its id.`,
		Examples: []string{"plumlatch run watch atlas-web-1", "plumlatch run watch"},
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
		client, err := s.Connect()
		if err != nil {
			return err
		}
		id, err := runMeant(ctx, client, args)
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

// runMeant returns the run that args mean: the newest, or what is named.
func runMeant(ctx context.Context, client *apiclient.Client, args []string) (uuid.UUID, error) {
	text := strings.Join(args, "")
	l, err := kit.Answer[kit.Page[apiclient.Run]](
		client.ListRuns(ctx, &apiclient.ListRunsParams{Limit: new(kit.MeantOf), Meant: kit.Optional(text)}),
	)
	if err != nil {
		return uuid.Nil, err
	}
	things := make([]kit.Thing, len(l.Items))
	for n, r := range l.Items {
		things[n] = kit.Thing{
			ID: r.Id, Names: []string{r.Instance},
			What: fmt.Sprintf("%s of %s, "+
				"%s", r.Kind, r.Instance, kit.Moment(r.CreatedAt)),
		}
	}
	return kit.Meant("run", text, "run list", things)
}
