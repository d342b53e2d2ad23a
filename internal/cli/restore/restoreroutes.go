package restore

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/restore"
)

// limitFlags are the limits that a route must keep to.
type limitFlags struct {
	maxDowntime         kit.Span
	keepAddress, noStop bool
}

func (l *limitFlags) flags(f *flag.FlagSet) {
	f.Var(&l.maxDowntime, "max-downtime", "the longest `time` without access, such as 5m")
	f.BoolVar(&l.keepAddress, "keep-address", false, "the public address must stay")
	f.BoolVar(&l.noStop, "no-stop", false, "the instance must not be stopped or replaced")
}

func (l limitFlags) params() *apiclient.ListRoutesParams {
	p := &apiclient.ListRoutesParams{}
	if l.maxDowntime.Duration > 0 {
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

func restoreRoutes(rehearse bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		var limits limitFlags
		var lost kit.Names
		limits.flags(f)
		f.Var(&lost, "lost", "the `name` of a key to treat as lost; can be given several times")
		return func(ctx context.Context, s *kit.Session, args []string) error {
			client, err := s.Connect()
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
			routes, err := kit.Answer[apiclient.Routes](client.ListRoutes(ctx, args[0], params))
			if err != nil {
				return err
			}
			switch {
			case s.Json:
				if err := s.WriteJSON(routes); err != nil {
					return err
				}
			case s.Quiet:
				for _, o := range routes.Routes {
					if o.WithinLimits {
						fmt.Fprintln(s.Env.Out, o.Route)
					}
				}
			case rehearse:
				showRehearsal(s, routes)
			default:
				showRoutes(s, routes)
			}
			if !routes.Routes[0].WithinLimits || rehearse && routes.Worry != "" {
				return kit.Quiet(kit.ExitNotAsItShould)
			}
			return nil
		}
	}
}

func spanOf(s float32) time.Duration { return time.Duration(float64(s) * float64(time.Second)) }

func showRoutes(s *kit.Session, r apiclient.Routes) {
	routesHead(s, r)
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
	compareRoutes(s, within)
	if len(outside) > 0 {
		fmt.Fprintln(s.Env.Out, "Possible, but outside your limits:")
		for _, o := range outside {
			fmt.Fprintf(s.Env.Out, "  %-16s  %s\n", o.Route, strings.Join(o.Outside, "; "))
		}
		fmt.Fprintln(s.Env.Out)
	}
	if len(none) > 0 {
		fmt.Fprintln(s.Env.Out, "Not possible as things are:")
		for _, o := range none {
			for n, m := range o.Missing {
				name := string(o.Route)
				if n > 0 {
					name = ""
				}
				s.Below(fmt.Sprintf("  %-16s  ", name), m.What, kit.AsItIs)
				if kit.Given(m.Remedy) != "" {
					fmt.Fprintf(s.Env.Out, "%s%s\n", strings.Repeat(" ", 20), s.Faint(*m.Remedy))
				}
			}
		}
		fmt.Fprintln(s.Env.Out)
	}
	if len(within) > 0 {
		fmt.Fprintf(s.Env.Out, "Get back in:\n  plumlatch restore start %s -route %s -new NAME\n", r.Login, within[0].Route)
	}
}

// compareRoutes lays routes side by side, and says why they are in this order.
func compareRoutes(s *kit.Session, of []apiclient.RouteOption) {
	if len(of) == 0 {
		return
	}
	t := kit.Table{Head: []string{"ROUTE", "STOPS IT", "TAKES", "ADDRESS", "LOSES", "OPENS MEANWHILE", "WHO ELSE"}}
	assumed := false
	for _, o := range of {
		takes := "about " + restore.Words(spanOf(o.ExpectedSeconds))
		if !o.Measured {
			takes, assumed = takes+" *", true
		}
		t.Add(
			string(o.Route), stops(o), takes, addressOf(o), short(o.Loses, "nothing"), exposures(o),
			short(o.Agree, "nobody"),
		)
	}
	t.WriteCompared(s)
	if assumed {
		fmt.Fprintln(s.Env.Out, s.Faint("* partly assumed: not all of it was measured here before"))
	}
	fmt.Fprintln(s.Env.Out, "\nWhy in this order:")
	for n, o := range of {
		word := "then"
		if n == 0 {
			word = "first"
		}
		s.Below(fmt.Sprintf("  %-5s  %-16s  ", word, o.Route), o.Why, kit.AsItIs)
		for _, extra := range slices.Concat(
			prefixed("afterwards: ", o.Changes), prefixed("stays: ", o.Stays), []string{"undone: " + o.Undo},
		) {
			s.Below(strings.Repeat(" ", 27), extra, s.Faint)
		}
	}
	fmt.Fprintln(s.Env.Out)
}

func prefixed(prefix string, list []string) []string {
	out := make([]string, len(list))
	for n, l := range list {
		out[n] = prefix + l
	}
	return out
}

func routesHead(s *kit.Session, r apiclient.Routes) {
	said := fmt.Sprintf("%s is %s; %s is %s.", r.Login, r.Reach, r.Instance, r.State)
	if len(r.Lost) > 0 {
		var names []string
		for _, k := range r.Lost {
			names = append(names, k.Name)
		}
		said += fmt.Sprintf(" Keys nobody can use: %s.", strings.Join(names, ", "))
	}
	if l := kit.LabelText(r.Labels); l != "" {
		said += fmt.Sprintf(" Labels: %s.", l)
	}
	s.Below("", said, kit.AsItIs)
	fmt.Fprintln(s.Env.Out)
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

func showRehearsal(s *kit.Session, r apiclient.Routes) {
	routesHead(s, r)
	for _, h := range r.Rehearsed {
		mark := s.Good("works    ")
		if !h.Works {
			mark = s.Bad("not seen ")
		}
		fmt.Fprintf(s.Env.Out, "%s  %-16s  %s: %s\n", mark, h.Route, h.What, h.Detail)
	}
	for _, o := range r.Routes {
		if !o.Possible {
			fmt.Fprintf(s.Env.Out, "%s  %-16s  %s\n", s.Faint("no way   "), o.Route, o.Missing[0].What)
		}
	}
	if r.Worry == "" {
		fmt.Fprintf(s.Env.Out, "\nShould the last key be lost: %s.\n", r.Routes[0].Why)
		return
	}
	fmt.Fprintf(
		s.Env.Out,
		"\n%s: %s.\nMend it while you can get in: a steward key makes it seconds (plumlatch instance steward %s -with "+
			"FILE), and so does a second holder (plumlatch grant add KEY %s -with FILE).\n",
		s.Bad("Mend this"),
		r.Worry,
		r.Instance,
		r.Login,
	)
}
