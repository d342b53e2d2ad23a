package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"

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
		if s.json {
			return s.writeJSON(entries)
		}
		if len(entries) == 0 {
			fmt.Fprintln(s.env.Err, "No entry fits.")
			return nil
		}
		t := table{head: []string{"WHEN", "BY", "WAY", "OUTCOME", "WHAT"}}
		for _, e := range entries {
			if s.quiet {
				fmt.Fprintln(s.env.Out, e.Seq)
				continue
			}
			what := e.Sentence
			if e.Why != nil {
				what += " Why: " + *e.Why
			}
			t.add(moment(e.At), e.Person, e.Via, e.Outcome, what)
		}
		if !s.quiet {
			t.write(s)
			s.rest(len(entries), total)
		}
		return nil
	}
}
