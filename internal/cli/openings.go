package cli

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"

	"plumlatch/internal/apiclient"
)

var openingCommands = []command{
	{
		name:    "find",
		args:    "TEXT",
		min:     1,
		max:     1,
		flags:   findNames,
		summary: "Find instances, logins, keys, persons and teams by a part of a name",
		detail: `Names, addresses, purposes and comments of keys are looked through, in any letter case; what is called
just that comes first. With an @ in the text it looks for logins. For a fingerprint or a key file there is
plumlatch trace. It ends with status 3 if nothing is found.`,
		examples: []string{"plumlatch find tide", "plumlatch find 127.64.1.9", "plumlatch find pi@"},
	},
	{
		name:     "opens",
		args:     "KEY",
		min:      1,
		max:      1,
		flags:    opens,
		summary:  "Show which logins a key opens",
		detail:   driftDetail,
		examples: []string{"plumlatch opens hides-shared"},
	},
	{
		name:     "openers",
		args:     "INSTANCE",
		min:      1,
		max:      1,
		flags:    openers,
		summary:  "Show which keys open an instance",
		detail:   driftDetail,
		examples: []string{"plumlatch openers atlas-web-1"},
	},
}

const driftDetail = `It ends with status 3 if a granted key was not there at the last look ("missing"), or
one is there that nobody granted ("ungranted").`

func findNames(f *flag.FlagSet) func(context.Context, *session, []string) error {
	limit := f.Int("limit", 20, "the greatest `number` of rows, 50 at most")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		found, err := answer[[]apiclient.Named](client.ListNames(ctx, &apiclient.ListNamesParams{Q: args[0], Limit: limit}))
		if err == nil {
			err = nameListing.show(s, found, len(found))
		}
		if err == nil && len(found) == 0 {
			err = &quietError{exitNotAsItShould}
		}
		return err
	}
}

var nameListing = listing[apiclient.Named]{
	head: []string{"KIND", "NAME", "ABOUT", "SEE"},
	name: func(n apiclient.Named) string { return n.Name },
	none: "Nothing bears a name with that in it.",
	cells: func(n apiclient.Named) []string {
		see := map[apiclient.NamedKind]string{
			apiclient.NamedKindInstance: "plumlatch instance show ", apiclient.NamedKindLogin: "plumlatch login show ",
			apiclient.NamedKindKey:    "plumlatch key show ",
			apiclient.NamedKindPerson: "plumlatch key list -keeper ",
			apiclient.NamedKindTeam:   "plumlatch key list -keeper ",
		}[n.Kind]
		return []string{string(n.Kind), n.Name, n.About, see + n.Name}
	},
}

func opens(f *flag.FlagSet) func(context.Context, *session, []string) error {
	return openingsOf(
		f,
		false,
		"%s opens nothing.",
		func(
			ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
		) (*http.Response, error) {
			return c.ListOpens(ctx, name, &apiclient.ListOpensParams{After: after, Limit: &limit, Total: count})
		},
	)
}

func openers(f *flag.FlagSet) func(context.Context, *session, []string) error {
	return openingsOf(
		f,
		true,
		"No key that is known opens %s.",
		func(
			ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
		) (*http.Response, error) {
			return c.ListOpeners(ctx, name, &apiclient.ListOpenersParams{After: after, Limit: &limit, Total: count})
		},
	)
}

type openingsCall func(
	ctx context.Context, c *apiclient.Client, name string, after *string, limit int, count *bool,
) (*http.Response, error)

// openingsOf lists what the call gives for the one argument; none is said where
// that is nothing.
func openingsOf(
	f *flag.FlagSet,
	byInstance bool,
	none string,
	call openingsCall,
) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		rows, total, err := fetch[apiclient.Opening](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return call(ctx, client, args[0], after, limit, count)
			},
		)
		if err != nil {
			return err
		}
		return s.showOpenings(rows, total, byInstance, fmt.Sprintf(none, args[0]))
	}
}

// showOpenings shows the rows, and ends with status 3 if one is not as it should be.
func (s *session) showOpenings(rows []apiclient.Opening, total int, byInstance bool, none string) error {
	switch {
	case s.json:
		if err := s.writeJSON(rows); err != nil {
			return err
		}
	case s.quiet:
		for _, o := range rows {
			if byInstance {
				fmt.Fprintln(s.env.Out, o.Key.Name)
			} else {
				fmt.Fprintln(s.env.Out, o.Login)
			}
		}
	case len(rows) == 0:
		fmt.Fprintln(s.env.Out, none)
	default:
		s.openingTable(rows, byInstance)
		s.rest(len(rows), total)
	}
	if slices.ContainsFunc(rows, adrift) {
		return &quietError{exitNotAsItShould}
	}
	return nil
}

// adrift reports whether what was seen is not what is wanted.
func adrift(o apiclient.Opening) bool {
	return o.Fit == apiclient.FitMissing || o.Fit == apiclient.FitUngranted
}

// openingTable shows logins of one key, or keys of one instance.
func (s *session) openingTable(rows []apiclient.Opening, byInstance bool) {
	t := table{head: []string{"LOGIN", "REGION", "FIT", "GRANTED", "LAST SEEN", "WHY"}}
	if byInstance {
		t.head = []string{"KEY", "LOGIN", "TYPE", "KEEPER", "FIT", "GRANTED", "LAST SEEN"}
	}
	for _, o := range rows {
		granted, looked := "not granted", "never looked"
		if o.GrantedAt != nil {
			granted = day(*o.GrantedAt) + " by " + given(o.GrantedBy)
		}
		switch {
		case o.SeenAt != nil && o.Fit == apiclient.FitMissing:
			looked = "not there on " + day(*o.SeenAt)
		case o.SeenAt != nil:
			looked = day(*o.SeenAt) + ", " + given(o.SeenBy)
		}
		fit := string(o.Fit)
		if adrift(o) {
			fit += " !"
		}
		keeper := given(o.Key.Keeper)
		if given(o.Steward) {
			keeper = "the service's own"
		}
		if byInstance {
			t.add(o.Key.Name, o.Login, fmt.Sprintf("%s %d", o.Key.Type, o.Key.Bits), keeper, fit, granted, looked)
		} else {
			t.add(o.Login, o.Region, fit, granted, looked, given(o.Reason))
		}
	}
	t.write(s)
}
