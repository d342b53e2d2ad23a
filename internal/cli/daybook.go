package cli

import (
	"context"
	"flag"
	"net/http"
	"strconv"

	"plumlatch/internal/apiclient"
)

var daybookCommands = []command{
	{name: "daybook list", flags: daybookList, summary: "Show what was done, newest first", examples: []string{"plumlatch daybook list", "plumlatch daybook list -about atlas-web-1", "plumlatch daybook list -person marek -limit 10"}},
}

func daybookList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	person := f.String("person", "", "only what this person did")
	about := f.String("about", "", "only about the thing of this `name`")
	action := f.String("action", "", "only this action, such as key.import")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		entries, total, err := fetch[apiclient.Entry](ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			return client.ListDaybook(ctx, &apiclient.ListDaybookParams{After: after, Limit: &limit, Total: count, Person: optional(*person), Subject: optional(*about), Action: optional(*action)})
		})
		if err != nil {
			return err
		}
		return entryListing.show(s, entries, total)
	}
}

var entryListing = listing[apiclient.Entry]{
	head: []string{"WHEN", "BY", "WAY", "OUTCOME", "WHAT"},
	name: func(e apiclient.Entry) string { return strconv.Itoa(e.Seq) },
	none: "No entry fits.",
	cells: func(e apiclient.Entry) []string {
		what := e.Sentence
		if e.Why != nil {
			what += " Why: " + *e.Why
		}
		return []string{moment(e.At), e.Person, e.Via, e.Outcome, what}
	},
}
