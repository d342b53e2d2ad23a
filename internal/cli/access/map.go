package access

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

var MapCommands = []kit.Command{{
	Name: "reach map", NoNames: true, Flags: reachMap,
	Summary: "Draw a map of logins and keys: which key is in place where",
	Detail: `One row for each login, the worst first; one column for each key, the one with the most
logins first. Below it each key is named.`,
	Examples: []string{
		"plumlatch reach map",
		"plumlatch reach map -region south-marsh",
		"plumlatch reach map -holder oona -keys 12",
		"plumlatch reach map -together",
	},
}}

// statusSigns are how a map shows a fit.
var statusSigns = map[apiclient.Status]string{
	apiclient.StatusInPlace:   "●",
	apiclient.StatusMissing:   "○",
	apiclient.StatusUngranted: "◆",
	apiclient.StatusUnswept:   "?",
}

func reachMap(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	limit := f.Int("limit", 200, "at most this `many` logins, up to 1000")
	columns := f.Int("keys", 30, "at most this `many` keys")
	state := f.String("state", "", "only logins with this reach")
	drift := f.Bool("drift", false, "only logins with drift: the keys in place differ from the grants")
	label := f.String("label", "", "only instances with this label, `name=value`")
	region := f.String("region", "", "only this region")
	holder := f.String("holder", "", "only logins that a key of this holder opens or should")
	key := f.String("key", "", "only logins that this key opens or should")
	find := f.String("find", "", "`part` of a login's name")
	together := f.Bool("together", false, "logins with the same keys as one row, keys with the same logins as one column")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		if *columns < 1 {
			return kit.Usage("-keys is at least 1")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		params := apiclient.GetReachMapParams{
			Limit:  limit,
			Label:  kit.Optional(*label),
			Region: kit.Optional(*region),
			Holder: kit.Optional(*holder),
			Key:    kit.Optional(*key),
			Q:      kit.Optional(*find),
		}
		if *state != "" {
			params.State = new(apiclient.ReachState(*state))
		}
		if *drift {
			params.Drift = drift
		}
		if *together {
			return mapTogether(ctx, s, client, apiclient.GetReachGroupsParams{
				Limit: params.Limit, Label: params.Label, Region: params.Region, Holder: params.Holder, Key: params.Key,
				Q: params.Q, State: params.State, Drift: params.Drift,
			}, *columns)
		}
		m, err := kit.Answer[apiclient.ReachMap](client.GetReachMap(ctx, &params))
		switch {
		case err != nil:
			return err
		case s.Json:
			return s.WriteJSON(m)
		case s.Quiet:
			for _, l := range m.Logins {
				fmt.Fprintln(s.Env.Out, l.Login)
			}
			return nil
		}
		drawMap(s, m, *columns)
		return nil
	}
}

func drawMap(s *kit.Session, m apiclient.ReachMap, columns int) {
	if len(m.Logins) == 0 {
		fmt.Fprintln(s.Env.Out, "No login matches.")
		return
	}
	shown := m.Keys[:min(columns, len(m.Keys))]
	heads := make([]string, len(shown))
	for n := range shown {
		heads[n] = fmt.Sprintf("%2d", n+1)
	}
	t := kit.Table{Head: []string{"LOGIN", "REACH", strings.Join(heads, " "), "", "STEWARD", ""}}
	for _, l := range m.Logins {
		cells := make([]string, len(shown))
		for n := range cells {
			cells[n] = " ·"
		}
		others := 0
		for _, c := range l.Cells {
			if c.Key >= len(shown) {
				others++
				continue
			}
			cells[c.Key] = " " + statusSigns[c.Status]
		}
		var more, strangers string
		if others > 0 {
			more = fmt.Sprintf("+%d", others)
		}
		if l.Strangers > 0 {
			strangers = fmt.Sprintf("▲ %d", l.Strangers)
		}
		steward := "none"
		if l.Steward {
			steward = "in place"
		}
		t.Add(l.Login, string(l.Reach), strings.Join(cells, " "), more, steward, strangers)
	}
	t.Write(s)
	fmt.Fprint(s.Env.Out, "\n● in place   ○ missing   ◆ nobody granted it   ? not read yet   ▲ strangers\n\n")
	legend := kit.Table{Head: []string{"", "KEY", "HOLDER", "LOGINS", "STATE"}}
	for n, k := range shown {
		holder, state := kit.Given(k.Holder), string(k.State)
		switch {
		case k.State != apiclient.KeyStateActive:
		case k.Fresh:
			state = "freshly proved"
		default:
			state = "not freshly proved"
		}
		legend.Add(heads[n], k.Name, holder, fmt.Sprint(k.Logins), state)
	}
	legend.Write(s)
	if len(m.Keys) > len(shown) {
		fmt.Fprintf(s.Env.Err, "%d of %d keys shown; -keys %d shows all\n", len(shown), len(m.Keys), len(m.Keys))
	}
	if len(m.Logins) < m.Total {
		fmt.Fprintf(s.Env.Err, "%d of %d logins shown, the worst; narrow them or raise -limit\n", len(m.Logins), m.Total)
	}
}

// mapTogether draws logins with the same keys as one row.
func mapTogether(
	ctx context.Context, s *kit.Session, client *apiclient.Client, params apiclient.GetReachGroupsParams, columns int,
) error {
	g, err := kit.Answer[apiclient.ReachGroups](client.GetReachGroups(ctx, &params))
	switch {
	case err != nil:
		return err
	case s.Json:
		return s.WriteJSON(g)
	case s.Quiet:
		for _, r := range g.Rows {
			fmt.Fprintln(s.Env.Out, r.Id)
		}
		return nil
	case len(g.Rows) == 0:
		fmt.Fprintln(s.Env.Out, "No login matches.")
		return nil
	}
	shown := g.Columns[:min(columns, len(g.Columns))]
	heads := make([]string, len(shown))
	for n := range shown {
		heads[n] = fmt.Sprintf("%2d", n+1)
	}
	t := kit.Table{Head: []string{"LOGINS", "SUCH AS", strings.Join(heads, " "), "", "REACH", ""}}
	for _, r := range g.Rows {
		cells := slices.Repeat([]string{" ·"}, len(shown))
		others := 0
		for _, c := range r.Cells {
			if c.Key >= len(shown) {
				others++
				continue
			}
			cells[c.Key] = " " + statusSigns[c.Status]
		}
		var reach []string
		for _, state := range []string{"shut", "unswept", "stale", "thin", "solid"} {
			if n := r.Counts[state]; n > 0 {
				reach = append(reach, fmt.Sprintf("%d %s", n, state))
			}
		}
		var more, strangers string
		if others > 0 {
			more = fmt.Sprintf("+%d", others)
		}
		if r.Strangers > 0 {
			strangers = fmt.Sprintf("▲ %d", r.Strangers)
		}
		t.Add(fmt.Sprint(r.Count), r.Names[0], strings.Join(cells, " "), more, strings.Join(reach, ", "), strangers)
	}
	t.Write(s)
	fmt.Fprint(s.Env.Out, "\n● in place   ○ missing   ◆ nobody granted it   ? not read yet   ▲ strangers\n\n")
	legend := kit.Table{Head: []string{"", "KEYS", "SUCH AS", "HOLDER", "LOGINS", "FRESHLY PROVED"}}
	for n, c := range shown {
		legend.Add(
			heads[n],
			fmt.Sprint(c.Count),
			c.Keys[0].Name,
			kit.Given(c.Keys[0].Holder),
			fmt.Sprint(c.Logins),
			fmt.Sprint(c.Fresh),
		)
	}
	legend.Write(s)
	if len(g.Columns) > len(shown) {
		fmt.Fprintf(s.Env.Err, "%d of %d columns shown; -keys %d shows all\n", len(shown), len(g.Columns), len(g.Columns))
	}
	if len(g.Rows) < g.Total {
		fmt.Fprintf(s.Env.Err, "%d of %d rows shown; narrow them or raise -limit\n", len(g.Rows), g.Total)
	}
	return nil
}
