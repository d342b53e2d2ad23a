package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/restore"
)

// limitFlags are the limits that a route must keep to.
type limitFlags struct {
	maxDowntime         time.Duration
	keepAddress, noStop bool
}

func (l *limitFlags) flags(f *flag.FlagSet) {
	f.DurationVar(&l.maxDowntime, "max-downtime", 0, "the longest `time` for which nobody gets in, such as 5m")
	f.BoolVar(&l.keepAddress, "keep-address", false, "the public address must stay")
	f.BoolVar(&l.noStop, "no-stop", false, "the instance must not be stopped or replaced")
}

func (l limitFlags) params() *apiclient.ListRoutesParams {
	p := &apiclient.ListRoutesParams{}
	if l.maxDowntime > 0 {
		p.MaxDowntime = new(int(l.maxDowntime.Seconds()))
	}
	if l.keepAddress {
		p.KeepAddress = new(true)
	}
	if l.noStop {
		p.NoStop = new(true)
	}
	return p
}

func restoreRoutes(rehearse bool) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *session, []string) error {
		var limits limitFlags
		var lost names
		limits.flags(f)
		f.Var(&lost, "lost", "the `name` of a key to be taken for lost; can be given several times")
		return func(ctx context.Context, s *session, args []string) error {
			client, err := s.connect()
			if err != nil {
				return err
			}
			params := limits.params()
			if len(lost) > 0 {
				params.Lost = new([]string(lost))
			}
			if rehearse {
				params.Rehearse = new(true)
			}
			routes, err := answer[apiclient.Routes](client.ListRoutes(ctx, args[0], params))
			if err != nil {
				return err
			}
			switch {
			case s.json:
				if err := s.writeJSON(routes); err != nil {
					return err
				}
			case s.quiet:
				for _, o := range routes.Routes {
					if o.WithinLimits {
						fmt.Fprintln(s.env.Out, o.Route)
					}
				}
			case rehearse:
				s.showRehearsal(routes)
			default:
				s.showRoutes(routes)
			}
			if !routes.Routes[0].WithinLimits || rehearse && routes.Worry != "" {
				return &quietError{exitNotAsItShould}
			}
			return nil
		}
	}
}

func spanOf(s float32) time.Duration { return time.Duration(float64(s) * float64(time.Second)) }

func (s *session) showRoutes(r apiclient.Routes) {
	s.routesHead(r)
	var within, outside, none []apiclient.RouteOption
	for _, o := range r.Routes {
		switch {
		case o.WithinLimits:
			within = append(within, o)
		case o.Possible:
			outside = append(outside, o)
		default:
			none = append(none, o)
		}
	}
	s.compareRoutes(within)
	if len(outside) > 0 {
		fmt.Fprintln(s.env.Out, "Possible, but outside your limits:")
		for _, o := range outside {
			fmt.Fprintf(s.env.Out, "  %-16s  %s\n", o.Route, strings.Join(o.Outside, "; "))
		}
		fmt.Fprintln(s.env.Out)
	}
	if len(none) > 0 {
		fmt.Fprintln(s.env.Out, "Not possible as things are:")
		for _, o := range none {
			for n, m := range o.Missing {
				name := string(o.Route)
				if n > 0 {
					name = ""
				}
				fmt.Fprintf(s.env.Out, "  %-16s  %s\n", name, m.What)
				if given(m.Remedy) != "" {
					fmt.Fprintf(s.env.Out, "%s%s\n", strings.Repeat(" ", 20), s.faint(*m.Remedy))
				}
			}
		}
		fmt.Fprintln(s.env.Out)
	}
	if len(within) > 0 {
		fmt.Fprintf(s.env.Out, "Get back in:  plumlatch restore start %s -route %s -new NAME\n", r.Login, within[0].Route)
	}
}

// compareRoutes lays routes side by side, and says why they are in this order.
func (s *session) compareRoutes(of []apiclient.RouteOption) {
	if len(of) == 0 {
		return
	}
	t := table{head: []string{"ROUTE", "STOPS IT", "TAKES", "ADDRESS", "LOSES", "OPENS MEANWHILE", "WHO ELSE"}}
	assumed := false
	for _, o := range of {
		takes := "about " + restore.Words(spanOf(o.ExpectedSeconds))
		if !o.Measured {
			takes, assumed = takes+" *", true
		}
		t.add(
			string(o.Route),
			stops(o),
			takes,
			addressOf(o),
			short(o.Loses, "nothing"),
			exposures(o),
			short(o.Agree, "nobody"),
		)
	}
	t.write(s)
	if assumed {
		fmt.Fprintln(s.env.Out, s.faint("* partly assumed: not all of it was measured here before"))
	}
	fmt.Fprintln(s.env.Out, "\nWhy in this order:")
	for n, o := range of {
		word := "then"
		if n == 0 {
			word = "first"
		}
		fmt.Fprintf(s.env.Out, "  %-5s  %-16s  %s\n", word, o.Route, o.Why)
		for _, extra := range slices.Concat(
			prefixed("afterwards: ", o.Changes),
			prefixed("stays: ", o.Stays),
			[]string{"undone: " + o.Undo},
		) {
			fmt.Fprintf(s.env.Out, "%s%s\n", strings.Repeat(" ", 27), s.faint(extra))
		}
	}
	fmt.Fprintln(s.env.Out)
}

func prefixed(prefix string, list []string) []string {
	out := make([]string, len(list))
	for n, l := range list {
		out[n] = prefix + l
	}
	return out
}

func (s *session) routesHead(r apiclient.Routes) {
	fmt.Fprintf(s.env.Out, "%s is %s; %s is %s.", r.Login, r.Reach, r.Instance, r.State)
	if len(r.Lost) > 0 {
		var names []string
		for _, k := range r.Lost {
			names = append(names, k.Name)
		}
		fmt.Fprintf(s.env.Out, " Nobody can use any more: %s.", strings.Join(names, ", "))
	}
	if l := labelText(r.Labels); l != "" {
		fmt.Fprintf(s.env.Out, " Labels: %s.", l)
	}
	fmt.Fprint(s.env.Out, "\n\n")
}

func stops(o apiclient.RouteOption) string {
	switch {
	case o.NewIdentity:
		return "another machine"
	case o.Stops:
		return "about " + restore.Words(spanOf(o.DowntimeSeconds))
	}
	return "no"
}

func addressOf(o apiclient.RouteOption) string {
	if o.NewAddress {
		return "changes"
	}
	return "stays"
}

func short(list []string, none string) string {
	switch len(list) {
	case 0:
		return none
	case 1:
		return list[0]
	}
	return fmt.Sprintf("%s, and %d more", list[0], len(list)-1)
}

func exposures(o apiclient.RouteOption) string {
	var out []string
	for _, e := range o.Opens {
		out = append(out, fmt.Sprintf("%s for %s at most", e.What, restore.Words(time.Duration(e.Seconds)*time.Second)))
	}
	return short(out, "nothing")
}

func (s *session) showRehearsal(r apiclient.Routes) {
	s.routesHead(r)
	for _, h := range r.Rehearsed {
		mark := s.good("works    ")
		if !h.Works {
			mark = s.bad("not seen ")
		}
		fmt.Fprintf(s.env.Out, "%s  %-16s  %s: %s\n", mark, h.Route, h.What, h.Detail)
	}
	for _, o := range r.Routes {
		if !o.Possible {
			fmt.Fprintf(s.env.Out, "%s  %-16s  %s\n", s.faint("no way   "), o.Route, o.Missing[0].What)
		}
	}
	if r.Worry == "" {
		fmt.Fprintf(s.env.Out, "\nShould the last key be lost: %s.\n", r.Routes[0].Why)
		return
	}
	fmt.Fprintf(
		s.env.Out,
		"\n%s: %s.\nMend it while you can get in: a steward key makes it seconds (plumlatch instance steward %s -with "+
			"FILE), and so does a second keeper (plumlatch grant add KEY %s -with FILE).\n",
		s.bad("Mend this"),
		r.Worry,
		r.Instance,
		r.Login,
	)
}
