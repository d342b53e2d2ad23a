package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/restore"
)

var restoreCommands = []command{
	{
		name: "restore routes", args: "LOGIN", min: 1, max: 1, flags: restoreRoutes(false),
		summary: "Lay the ways back into a login side by side, the best first, with what each costs",
		detail: `LOGIN is user@instance, or an instance for its image's own login. Nothing is touched. The order
is explained: what can be done within your limits comes first, then what loses nothing, puts no
other machine there, stops nothing, keeps the address, needs nobody else and opens nothing. It ends
with status 3 if no route is possible within the limits.`,
		examples: []string{"plumlatch restore routes tide-gauge-3", "plumlatch restore routes atlas-tiles -max-downtime 5m -keep-address", "plumlatch restore routes gateway-3 -no-stop -lost gateway-field"},
	},
	{
		name: "restore rehearse", args: "LOGIN", min: 1, max: 1, flags: restoreRoutes(true),
		summary:  "Try, without touching anything, whether each way back into a login would work today",
		detail:   "It ends with status 3 if the best way back is a bad one, so that it can be mended before it is needed.",
		examples: []string{"plumlatch restore rehearse atlas-web-1"},
	},
	{
		name: "restore start", args: "LOGIN", min: 1, max: 1, flags: restoreStart,
		summary: "Get back into a login by a route, step by step, and prove it with a login",
		detail: `With -new a pair is made on this machine first (-make service: in the service, which keeps the private
half in its safe, logs in itself, and hands it over to you with: plumlatch key private NAME). Each step
is written down before it begins; one that fails has all undone. What is opened for the while is closed
by itself, with a deadline. The lines of the lost keys (-lost, or those that nobody can use any more)
go only after a completed login with the new key; the keys are marked as lost everywhere.
Where the route stops the instance, it asks for the instance's name. Ctrl-C stops the watching, not
the restore.`,
		examples: []string{
			"plumlatch restore start tide-gauge-3 -route guest-agent -new tide-gauge-3-key", "plumlatch restore start gateway-3 -route helper-disk -key oona-main -lost gateway-field",
			`plumlatch restore start song-archive -route replacement -new archive-2 -stop-first -port 2222 -reason "marek's laptop was stolen"`,
		},
	},
	{
		name: "restore watch", args: "ID", min: 1, max: 1, flags: restoreWatch,
		summary:  "Watch a restore, and do from this machine what it waits for",
		detail:   "With the private halves that are here it places the line, logs in, and removes the lost line, where the restore waits for that.",
		examples: []string{"plumlatch restore watch 01a2…", "plumlatch restore watch 01a2… -with ~/.ssh/oona", "plumlatch restore watch 01a2… -password"},
	},
	{name: "restore undo", args: "ID", min: 1, max: 1, flags: restoreUndo, summary: "Cut a restore off and put everything back as it was", examples: []string{`plumlatch restore undo 01a2… -reason "wrong machine"`}},
	{name: "restore list", flags: restoreList, summary: "List restores, the newest first", examples: []string{"plumlatch restore list", "plumlatch restore list -instance tide-gauge-3"}},
	{
		name: "restore report", args: "ID", min: 1, max: 1, flags: restoreReport,
		summary: "Show what a restore did, what is left, and where the lost keys stand elsewhere",
		detail:  "It ends with status 3 if something is left to do.", examples: []string{"plumlatch restore report 01a2…", "plumlatch restore report 01a2… -json"},
	},
	{name: "restore open", flags: restoreOpen, summary: "Show what restores hold open right now, and until when", detail: "It ends with status 3 if something is open.", examples: []string{"plumlatch restore open"}},
}

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
		t.add(string(o.Route), stops(o), takes, addressOf(o), short(o.Loses, "nothing"), exposures(o), short(o.Agree, "nobody"))
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
		for _, extra := range slices.Concat(prefixed("afterwards: ", o.Changes), prefixed("stays: ", o.Stays), []string{"undone: " + o.Undo}) {
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
	fmt.Fprintf(s.env.Out, "\n%s: %s.\nMend it while you can get in: a steward key makes it seconds (plumlatch instance steward %s -with FILE), and so does a second keeper (plumlatch grant add KEY %s -with FILE).\n", s.bad("Mend this"), r.Worry, r.Instance, r.Login)
}

func restoreStart(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var limits limitFlags
	var pair pairFlags
	var work restoreWork
	var lost, ports names
	limits.flags(f)
	work.flags(f)
	route := f.String("route", "", "the `route`; see: plumlatch restore routes LOGIN")
	key := f.String("key", "", "the `name` of the key that is to open it")
	newKey := f.String("new", "", "make a pair of this `name` first, and let it open the login")
	f.StringVar(&pair.maker, "make", "here", "with -new: `where` the pair is made, here or service")
	f.StringVar(&pair.typ, "type", "", "with -new: ed25519, rsa or ecdsa; what the route takes unless given")
	f.IntVar(&pair.bits, "bits", 0, "with -new: the size of an rsa or ecdsa key")
	f.StringVar(&pair.out, "out", "", "with -new: `file` for the private half; ~/.ssh/NAME unless given")
	f.Var(&lost, "lost", "the `name` of a lost key whose line goes after the proof; can be given several times")
	keepLines := f.Bool("lost-none", false, "no line goes")
	stopFirst := f.Bool("stop-first", false, "for replacement: stop it before its image is made, so that nothing written is lost")
	f.Var(&ports, "port", "for replacement: a TCP `port` at which the new one has to answer; can be given several times")
	as := f.String("as", "", "for replacement: the `name` of the new instance")
	reason := f.String("reason", "", "why, for the daybook")
	confirm := f.String("confirm", "", "the instance's `name`, where the route stops it; asked for unless given")
	yes := f.Bool("yes", false, "do not ask")
	noWait := f.Bool("no-wait", false, "end when the restore has begun")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		see := "\nSee what there is and what each costs: plumlatch restore routes " + args[0]
		switch {
		case *route == "":
			return &usageError{"no route was given" + see}
		case (*key == "") == (*newKey == ""):
			return &usageError{"say which key is to open it: one that exists (-key NAME), or a new one (-new NAME)"}
		case *keepLines && len(lost) > 0:
			return &usageError{"-lost and -lost-none exclude each other"}
		}
		looked := limits.params()
		if len(lost) > 0 {
			looked.Lost = new([]string(lost))
		}
		routes, err := answer[apiclient.Routes](client.ListRoutes(ctx, args[0], looked))
		if err != nil {
			return err
		}
		request := apiclient.StartRestore{Login: routes.Login, Route: apiclient.RestoreRoute(*route), Key: *key, Reason: optional(*reason), Confirm: optional(*confirm), NewName: optional(*as)}
		p := limits.params()
		request.MaxDowntime, request.KeepAddress, request.NoStop = p.MaxDowntime, p.KeepAddress, p.NoStop
		if *stopFirst {
			request.StopFirst = stopFirst
		}
		for _, text := range ports {
			n, err := strconv.Atoi(text)
			if err != nil {
				return &usageError{fmt.Sprintf("%q is no port", text)}
			}
			if request.Ports == nil {
				request.Ports = new([]int)
			}
			*request.Ports = append(*request.Ports, n)
		}
		if len(lost) > 0 || *keepLines {
			request.Lost = new(append([]string{}, lost...))
		}
		at := slices.IndexFunc(routes.Routes, func(o apiclient.RouteOption) bool { return string(o.Route) == *route })
		if at >= 0 && routes.Routes[at].WithinLimits && *confirm == "" {
			o := routes.Routes[at]
			if err := s.confirmRoute(routes, o, *yes); err != nil {
				return err
			}
			if o.Stops || o.NewIdentity {
				request.Confirm = &routes.Instance
			}
		}
		if err := s.restoreKey(ctx, client, &request, *newKey, pair, &work, at >= 0 && routes.Routes[at].WithinLimits); err != nil {
			return err
		}
		begun, err := answer[apiclient.Restore](client.StartRestore(ctx, &apiclient.StartRestoreParams{IdempotencyKey: newRequestKey()}, request))
		if err != nil {
			return err
		}
		if *noWait {
			return s.begun(begun.Run, routes.Instance)
		}
		if !s.json && !s.quiet {
			fmt.Fprintf(s.env.Err, "Getting back into %s by the route %s (%s)\n", begun.Login, begun.Route, begun.Run.Id)
		}
		return s.followRestore(ctx, client, begun.Run.Id, &work)
	}
}

// restoreKey makes the new key where one is wanted, once the route is known to do.
func (s *session) restoreKey(ctx context.Context, client *apiclient.Client, request *apiclient.StartRestore, newKey string, pair pairFlags, work *restoreWork, possible bool) error {
	if newKey == "" {
		return nil
	}
	request.Key = newKey
	if pair.typ == "" {
		if pair.typ = "ed25519"; request.Route == apiclient.RestoreRoute(restore.WindowsPassword) {
			pair.typ = "rsa"
		}
	}
	if pair.maker == "service" {
		request.Make = new(true)
		return nil
	}
	if !possible { // the service says why, before a pair is made for nothing
		_, err := answer[apiclient.Restore](client.StartRestore(ctx, &apiclient.StartRestoreParams{}, *request))
		return cmpErr(err, errors.New("the route is not possible"))
	}
	k, path, err := s.newPair(ctx, newKey, pair)
	if err != nil {
		return err
	}
	if !s.json && !s.quiet {
		fmt.Fprintf(s.env.Err, "Made the key %s; its private half is in %s.\n", k.Name, s.shown(path))
	}
	half, err := s.fileHalf(path, pair.passphraseFile, false)
	work.found = append(work.found, half)
	return err
}

func cmpErr(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// confirmRoute says what the route costs and asks, where it stops something.
func (s *session) confirmRoute(r apiclient.Routes, o apiclient.RouteOption, yes bool) error {
	if !o.Stops && !o.NewIdentity {
		return nil
	}
	lines := []string{fmt.Sprintf("The route %s stops %s for about %s.", o.Route, r.Instance, restore.Words(spanOf(o.DowntimeSeconds)))}
	if o.NewIdentity {
		lines[0] = fmt.Sprintf("The route %s puts another instance in the place of %s.", o.Route, r.Instance)
	}
	if l := labelText(r.Labels); l != "" {
		lines = append(lines, "  it is       "+l)
	}
	for _, c := range o.Changes {
		lines = append(lines, "  afterwards  "+c)
	}
	for _, l := range o.Loses {
		lines = append(lines, "  lost        "+l)
	}
	lines = append(lines, "  undone      "+o.Undo)
	return s.confirm(yes, strings.Join(lines, "\n"), r.Instance)
}

// restoreAt reads the id of a restore.
func (s *session) restoreAt(text string) (*apiclient.Client, uuid.UUID, error) {
	id, err := uuid.Parse(text)
	if err != nil {
		return nil, id, &usageError{fmt.Sprintf("%q is not the id of a restore; see: plumlatch restore list", text)}
	}
	client, err := s.connect()
	return client, id, err
}

func restoreWatch(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var work restoreWork
	work.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		client, id, err := s.restoreAt(args[0])
		if err != nil {
			return err
		}
		return s.followRestore(ctx, client, id, &work)
	}
}

func restoreUndo(f *flag.FlagSet) func(context.Context, *session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		client, id, err := s.restoreAt(args[0])
		if err != nil {
			return err
		}
		r, err := answer[apiclient.Restore](client.GetRestore(ctx, id))
		if err != nil {
			return err
		}
		if r.Undoable {
			if err := s.confirm(*yes, fmt.Sprintf("This cuts the restore of %s off and puts everything back as it was; the instance may be stopped and started once more for it.", r.Login), "undo"); err != nil {
				return err
			}
		}
		if _, err := answer[apiclient.Restore](client.UndoRestore(ctx, id, &apiclient.UndoRestoreParams{Reason: optional(*reason)})); err != nil {
			return err
		}
		run, err := s.watch(ctx, client, id)
		if err != nil {
			return err
		}
		if r, err = answer[apiclient.Restore](client.GetRestore(ctx, id)); err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(r)
		}
		if run.State != apiclient.RunStateUndone {
			return s.runEnded(run)
		}
		if !s.quiet {
			fmt.Fprintf(s.env.Out, "The restore of %s is undone. %s\n", r.Login, differs(r))
		}
		return nil
	}
}

// differs says what is not as it was after an undo.
func differs(r apiclient.Restore) string {
	if d := given(r.Differs); d != "" {
		return "Not as it was: " + d + "."
	}
	return "All is as it was."
}

func restoreList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	instance := f.String("instance", "", "only of this instance")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		rows, total, err := fetch[apiclient.Restore](ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			return client.ListRestores(ctx, &apiclient.ListRestoresParams{After: after, Limit: &limit, Total: count, Instance: optional(*instance)})
		})
		if err != nil {
			return err
		}
		return restoreListing.show(s, rows, total)
	}
}

var restoreListing = listing[apiclient.Restore]{
	head: []string{"LOGIN", "ROUTE", "NEW KEY", "STATE", "BEGUN", "BY", "ID"},
	name: func(r apiclient.Restore) string { return r.Run.Id.String() },
	none: "No login was restored yet. See the ways back into one: plumlatch restore routes LOGIN",
	cells: func(r apiclient.Restore) []string {
		state := string(r.Run.State)
		if r.Waits != nil {
			state = "waits for you"
		} else if len(r.Left) > 0 {
			state += ", something left"
		}
		return []string{r.Login, string(r.Route), r.Key, state, moment(r.Run.CreatedAt), r.Run.RequestedBy, r.Run.Id.String()}
	},
}

func restoreOpen(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		open, err := answer[[]apiclient.Closing](client.ListClosings(ctx))
		if err != nil {
			return err
		}
		l := listing[apiclient.Closing]{
			head: []string{"INSTANCE", "OPEN", "SINCE", "CLOSED BY", "RESTORE"}, name: func(c apiclient.Closing) string { return c.Instance }, none: "Nothing is held open.",
			cells: func(c apiclient.Closing) []string {
				since := ""
				if c.OpenedAt != nil {
					since = moment(*c.OpenedAt)
				}
				return []string{c.Instance, c.What, since, moment(c.Deadline), c.Restore.String()}
			},
		}
		if err := l.show(s, open, len(open)); err != nil {
			return err
		}
		if len(open) > 0 {
			return &quietError{exitNotAsItShould}
		}
		return nil
	}
}

func restoreReport(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, id, err := s.restoreAt(args[0])
		if err != nil {
			return err
		}
		p, err := answer[apiclient.RestoreReport](client.ReportRestore(ctx, id))
		if err != nil {
			return err
		}
		switch {
		case s.json:
			err = s.writeJSON(p)
		case s.quiet:
			for _, l := range p.Restore.Left {
				fmt.Fprintln(s.env.Out, l)
			}
		default:
			s.showRestoreReport(p)
		}
		if err == nil && (len(p.Restore.Left) > 0 || given(p.Restore.Differs) != "") {
			err = &quietError{exitNotAsItShould}
		}
		return err
	}
}

func (s *session) showRestoreReport(p apiclient.RestoreReport) {
	r := p.Restore
	ended, proved := "not yet", "not yet"
	if r.Run.EndedAt != nil {
		ended = moment(*r.Run.EndedAt)
	}
	if r.ProvedAt != nil {
		proved = moment(*r.ProvedAt)
	}
	address := given(p.AddressBefore)
	if after := given(p.AddressAfter); after != "" && after != address {
		address += ", now " + after
	}
	s.facts("Restore of", r.Login, "Route", string(r.Route), "State", string(r.Run.State), "Asked for by", r.Run.RequestedBy, "Why", given(r.Run.Reason), "Begun", moment(r.Run.CreatedAt), "Ended", ended,
		"New key", r.Key, "Login with it", proved, "Lost keys", strings.Join(r.Lost, ", "), "Instance now", r.Target, "Address", address, "Report of", moment(p.MadeAt), "Run", r.Run.Id.String())
	fmt.Fprintln(s.env.Out, "\nSteps:")
	show := &steps{session: s}
	show.fit(r.Run)
	for _, step := range r.Run.Steps {
		if step.State != apiclient.StepStateWaiting && step.State != apiclient.StepStateRunning {
			fmt.Fprintln(s.env.Out, show.line(step))
		}
	}
	part := func(head string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(s.env.Out, "\n%s:\n", head)
		for _, l := range lines {
			fmt.Fprintln(s.env.Out, "  "+l)
		}
	}
	var opened, elsewhere, copies, readings []string
	for _, c := range r.Closings {
		state := "still open, closed by " + moment(c.Deadline)
		if c.ClosedAt != nil {
			state = "closed " + moment(*c.ClosedAt)
		}
		opened = append(opened, strings.TrimSuffix(fmt.Sprintf("%s: %s; %s", c.What, state, given(c.Note)), "; "))
	}
	for _, l := range p.Elsewhere {
		elsewhere = append(elsewhere, fmt.Sprintf("%s opens %s as well, which is %s", l.Key, l.Login, l.Reach))
	}
	for _, c := range p.Copies {
		copies = append(copies, fmt.Sprintf("%s %s: %s", c.Kind, c.Place, c.Note))
	}
	for _, w := range p.Passwords {
		readings = append(readings, fmt.Sprintf("%s %s it, %s", w.Person, w.What, moment(w.At)))
	}
	part("Opened for the while", opened)
	part("Where the lost keys stand elsewhere", elsewhere)
	part("Copies of the disk with the lost keys in them", copies)
	part("Who saw the administrator's password, the last first", readings)
	part("Left to do", r.Left)
	if d := given(r.Differs); d != "" {
		part("Not as it was", strings.Split(d, "; "))
	}
	if e := given(r.Run.Error); e != "" {
		part("Why it was not done", []string{e})
	}
}
