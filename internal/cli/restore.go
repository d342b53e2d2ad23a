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
		examples: []string{
			"plumlatch restore routes tide-gauge-3",
			"plumlatch restore routes atlas-tiles -max-downtime 5m -keep-address",
			"plumlatch restore routes gateway-3 -no-stop -lost gateway-field",
		},
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
			"plumlatch restore start tide-gauge-3 -route guest-agent -new tide-gauge-3-key",
			"plumlatch restore start gateway-3 -route helper-disk -key oona-main -lost gateway-field",
			`plumlatch restore start song-archive -route replacement -new archive-2 -stop-first -port 2222 ` +
				`-reason "marek's laptop was stolen"`,
		},
	},
	{
		name: "restore watch", args: "[ID]", max: 1, flags: restoreWatch,
		summary: "Watch a restore, and do from this machine what it waits for",
		detail: "It watches the newest unless an id is given. With the private halves that are here it places the line, " +
			"logs in, and removes the lost line, where the restore waits for that.",
		examples: []string{
			"plumlatch restore watch",
			"plumlatch restore watch 01a2… -with ~/.ssh/oona",
			"plumlatch restore watch 01a2… -password",
		},
	},
	{
		name:     "restore undo",
		args:     "ID",
		min:      1,
		max:      1,
		flags:    restoreUndo,
		summary:  "Cut a restore off and put everything back as it was",
		examples: []string{`plumlatch restore undo 01a2… -reason "wrong machine"`},
	},
	{
		name:     "restore list",
		flags:    restoreList,
		summary:  "List restores, the newest first",
		examples: []string{"plumlatch restore list", "plumlatch restore list -instance tide-gauge-3"},
	},
	{
		name: "restore report", args: "[ID]", max: 1, flags: restoreReport,
		summary:  "Show what a restore did, what is left, and where the lost keys stand elsewhere",
		detail:   "It is of the newest restore unless an id is given, and ends with status 3 if something is left to do.",
		examples: []string{"plumlatch restore report", "plumlatch restore report 01a2… -json"},
	},
	{
		name:     "restore open",
		flags:    restoreOpen,
		summary:  "Show what restores hold open right now, and until when",
		detail:   "It ends with status 3 if something is open.",
		examples: []string{"plumlatch restore open"},
	},
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
	stopFirst := f.Bool(
		"stop-first",
		false,
		"for replacement: stop it before its image is made, so that nothing written is lost",
	)
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
		request := apiclient.StartRestore{
			Login:   routes.Login,
			Route:   apiclient.RestoreRoute(*route),
			Key:     *key,
			Reason:  optional(*reason),
			Confirm: optional(*confirm),
			NewName: optional(*as),
		}
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
		if err := s.restoreKey(ctx, client, &request, *newKey, pair, &work, at >= 0 &&
			routes.Routes[at].WithinLimits); err != nil {
			return err
		}
		begun, err := answer[apiclient.Restore](
			client.StartRestore(ctx, &apiclient.StartRestoreParams{IdempotencyKey: newRequestKey()}, request),
		)
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
func (s *session) restoreKey(
	ctx context.Context,
	client *apiclient.Client,
	request *apiclient.StartRestore,
	newKey string,
	pair pairFlags,
	work *restoreWork,
	possible bool,
) error {
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
	lines := []string{
		fmt.Sprintf("The route %s stops %s for about %s.", o.Route, r.Instance, restore.Words(spanOf(o.DowntimeSeconds))),
	}
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

// restoreAt connects to the service, for the restore with the id, or the newest where none is
// given.
func (s *session) restoreAt(ctx context.Context, args []string) (*apiclient.Client, uuid.UUID, error) {
	var id uuid.UUID
	if len(args) > 0 {
		var err error
		if id, err = uuid.Parse(args[0]); err != nil {
			return nil, id, &usageError{fmt.Sprintf("%q is not the id of a restore; see: plumlatch restore list", args[0])}
		}
	}
	client, err := s.connect()
	if err != nil || len(args) > 0 {
		return client, id, err
	}
	l, err := answer[page[apiclient.Restore]](client.ListRestores(ctx, &apiclient.ListRestoresParams{Limit: new(1)}))
	if err == nil && len(l.Items) == 0 {
		err = errors.New("there is no restore yet")
	}
	if err != nil {
		return nil, id, err
	}
	return client, l.Items[0].Run.Id, nil
}

func restoreWatch(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var work restoreWork
	work.flags(f)
	return func(ctx context.Context, s *session, args []string) error {
		client, id, err := s.restoreAt(ctx, args)
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
		client, id, err := s.restoreAt(ctx, args)
		if err != nil {
			return err
		}
		r, err := answer[apiclient.Restore](client.GetRestore(ctx, id))
		if err != nil {
			return err
		}
		if r.Undoable {
			if err := s.confirm(
				*yes,
				fmt.Sprintf(
					"This cuts the restore of %s off and puts everything back as it was; the instance may be stopped and started "+
						"once more for it.",
					r.Login,
				),
				"undo",
			); err != nil {
				return err
			}
		}
		if _, err := answer[apiclient.Restore](
			client.UndoRestore(ctx, id, &apiclient.UndoRestoreParams{Reason: optional(*reason)}),
		); err != nil {
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
		rows, total, err := fetch[apiclient.Restore](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListRestores(
					ctx,
					&apiclient.ListRestoresParams{After: after, Limit: &limit, Total: count, Instance: optional(*instance)},
				)
			},
		)
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
			state = "waits for " + r.Waits.Who
		} else if len(r.Left) > 0 {
			state += ", something left"
		}
		return []string{r.Login, string(r.Route), r.Key, state, moment(r.Run.CreatedAt), r.Run.RequestedBy, r.Run.Id.String()}
	},
}
