// Package restore holds the commands that get back in to an instance whose private key is lost.
package restore

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
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/fleet"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
)

var RestoreCommands = []kit.Command{
	{
		Name: "restore routes", Args: "LOGIN", Min: 1, Max: 1, Flags: restoreRoutes(false),
		Summary: "Compare the routes back into a login, the best first, with what each costs",
		Detail: `LOGIN is user@instance, or an instance for its image's own login. Nothing is changed. The
order is: within your limits first, then routes that lose nothing, replace no machine, stop
nothing, keep the address, need nobody else and open nothing. It ends with status 3 if no
route is possible within the limits.`,
		Examples: []string{
			"plumlatch restore routes tide-gauge-3",
			"plumlatch restore routes atlas-tiles -max-downtime 5m -keep-address",
			"plumlatch restore routes gateway-3 -no-stop -lost gateway-field",
		},
	},
	{
		Name: "restore rehearse", NoNames: true, Args: "LOGIN", Min: 1, Max: 1, Flags: restoreRoutes(true),
		Summary:  "Check whether each route back into a login would work, without changing anything",
		Detail:   "It ends with status 3 if the best route is a bad one, so that you can improve it before you need it.",
		Examples: []string{"plumlatch restore rehearse atlas-web-1"},
	},
	{
		Name: "restore start", Args: "LOGIN", Min: 1, Max: 1, Flags: restoreStart,
		Summary: "Get back into a login by a route, step by step, and prove it with a login",
		Detail: `With -new a pair is made on this machine first (-make service: in the service, which keeps
the private key in its safe, logs in itself, and hands it over to you:
plumlatch key private NAME). Each step is recorded before it begins; if one fails, all
are undone. Anything opened temporarily is closed again by a deadline. The lines of the lost keys
(-lost, or those that nobody can use) are removed only after a completed login with the new
key; the keys are marked as lost everywhere. Where the route stops the instance, it asks for
the instance's name. Ctrl-C stops watching; the restore continues.`,
		Examples: []string{
			"plumlatch restore start tide-gauge-3 -route guest-agent -new tide-gauge-3-key",
			"plumlatch restore start gateway-3 -route helper-disk -key oona-main -lost gateway-field",
			`plumlatch restore start song-archive -route guest-agent -stolen marek -new archive-2 -reason "his laptop"`,
			`plumlatch restore start song-archive -route replacement -lost archive-song -new archive-2 -stop-first ` +
				`-port 2222 -reason "marek's laptop was stolen"`,
		},
	},
	{
		Name: "restore watch", Args: "[LOGIN|ID]", Max: 1, Flags: restoreWatch,
		Summary: "Watch a restore, and do its pending steps on this machine",
		Detail: "It watches the newest restore, or the newest of a login or an instance. With the private keys on " +
			"this machine it does the pending steps: it places the line, logs in, and removes the lost line.",
		Examples: []string{
			"plumlatch restore watch",
			"plumlatch restore watch tide-gauge-3 -with ~/.ssh/oona",
			"plumlatch restore watch win-console -password",
		},
	},
	{
		Name:     "restore undo",
		Args:     "LOGIN|ID",
		Min:      1,
		Max:      1,
		Flags:    restoreUndo,
		Summary:  "Abort a restore and roll back its changes",
		Examples: []string{`plumlatch restore undo tide-gauge-3 -reason "wrong machine"`},
	},
	{
		Name:     "restore list",
		Flags:    restoreList,
		Summary:  "List restores, the newest first",
		Examples: []string{"plumlatch restore list", "plumlatch restore list -instance tide-gauge-3"},
	},
	{
		Name: "restore report", Args: "[LOGIN|ID]", Max: 1, Flags: restoreReport,
		Summary: "Report what a restore did, what is left to do, and where the lost keys still are",
		Detail: "It reports the newest restore, or the newest of a login or an instance, and ends with status 3 if " +
			"something " +
			"is left to do.",
		Examples: []string{"plumlatch restore report", "plumlatch restore report debian@tide-gauge-3 -json"},
	},
	{
		Name:     "restore open",
		Flags:    restoreOpen,
		Summary:  "Show what restores have opened, and until when",
		Detail:   "It ends with status 3 if something is open.",
		Examples: []string{"plumlatch restore open"},
	},
}

func restoreStart(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var limits limitFlags
	var pair keys.PairFlags
	var work restoreWork
	var lost, ports kit.Names
	limits.flags(f)
	work.flags(f)
	route := f.String("route", "", "the `route`; see: plumlatch restore routes LOGIN")
	key := f.String("key", "", "the `name` of the key to open it with")
	newKey := f.String("new", "", "first make a pair of this `name`, which opens the login")
	f.StringVar(&pair.Maker, "make", "here", "with -new: `where` the pair is made, here or service")
	f.StringVar(&pair.Typ, "type", "", "with -new: ed25519, rsa or ecdsa; what the route takes unless given")
	f.IntVar(&pair.Bits, "bits", 0, "with -new: the size of an rsa or ecdsa key")
	f.StringVar(&pair.Out, "out", "", "with -new: `file` for the private key; ~/.ssh/NAME unless given")
	f.Var(&lost, "lost", "the `name` of a lost key whose line is removed after the proof; can be given several times")
	stolen := f.String("stolen", "", "the `holder` whose machine was stolen: all their keys in this login are lost")
	keepLines := f.Bool("lost-none", false, "no line is removed")
	stopFirst := f.Bool(
		"stop-first", false, "for replacement: stop the instance before its image is made, so that no data is lost",
	)
	f.Var(&ports, "port", "for replacement: a TCP `port` that the new instance must answer on; can be given several times")
	as := f.String("as", "", "for replacement: the `name` of the new instance")
	reason := f.String("reason", "", "why, for the daybook")
	confirm := f.String("confirm", "", "the instance's `name`, where the route stops it; asked for unless given")
	yes := f.Bool("yes", false, "do not ask")
	noWait := f.Bool("no-wait", false, "end when the restore has begun")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		see := "\nSee what there is and what each costs: plumlatch restore routes " + args[0]
		switch {
		case *route == "":
			return kit.Usage("no route was given" + see)
		case (*key == "") == (*newKey == ""):
			return kit.Usage("say which key is to open it: one that exists (-key NAME), or a new one (-new NAME)")
		case *keepLines && len(lost)+len(*stolen) > 0:
			return kit.Usage("-lost and -stolen exclude -lost-none")
		}
		if *stolen != "" {
			theirs, err := keysOfIn(ctx, client, *stolen, args[0])
			if err != nil {
				return err
			}
			lost = append(lost, theirs...)
		}
		looked := limits.params()
		if len(lost) > 0 {
			looked.Lost = new([]string(lost))
		}
		routes, err := kit.Answer[apiclient.Routes](client.ListRoutes(ctx, args[0], looked))
		if err != nil {
			return err
		}
		p := limits.params()
		request := apiclient.StartRestore{
			Login:       routes.Login,
			Route:       apiclient.RestoreRoute(*route),
			Key:         *key,
			Reason:      kit.Optional(*reason),
			Confirm:     kit.Optional(*confirm),
			NewName:     kit.Optional(*as),
			MaxDowntime: p.MaxDowntime,
			KeepAddress: p.KeepAddress,
			NoStop:      p.NoStop,
		}
		if *stopFirst {
			request.StopFirst = stopFirst
		}
		if request.Ports, err = portsIn(ports); err != nil {
			return err
		}
		if len(lost) > 0 || *keepLines {
			request.Lost = new(append([]string{}, lost...))
		}
		if err := confirmLost(s, ctx, client, routes, lost, *yes); err != nil {
			return err
		}
		at := slices.IndexFunc(routes.Routes, func(o apiclient.RouteOption) bool { return string(o.Route) == *route })
		open := at >= 0 && routes.Routes[at].WithinLimits
		if open && *confirm == "" {
			o := routes.Routes[at]
			if err := confirmRoute(s, routes, o, *yes); err != nil {
				return err
			}
			if o.Stops || o.NewIdentity {
				request.Confirm = &routes.Instance
			}
		}
		if err := restoreKey(s, ctx, client, &request, *newKey, pair, &work, open); err != nil {
			return err
		}
		begun, err := kit.Answer[apiclient.Restore](
			client.StartRestore(ctx, &apiclient.StartRestoreParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if *noWait {
			return fleet.Begun(s, begun.Run, routes.Instance)
		}
		if !s.Json && !s.Quiet {
			fmt.Fprintf(s.Env.Err, "Getting back into %s by the route %s\n", begun.Login, begun.Route)
		}
		return followRestore(s, ctx, client, begun.Run.Id, &work)
	}
}

func portsIn(given []string) (*[]int, error) {
	if len(given) == 0 {
		return nil, nil
	}
	var out []int
	for _, text := range given {
		n, err := strconv.Atoi(text)
		if err != nil {
			return nil, kit.Usage(fmt.Sprintf("%q is no port", text))
		}
		out = append(out, n)
	}
	return &out, nil
}

// keysOfIn returns the keys of a holder that are in place in a login.
func keysOfIn(ctx context.Context, client *apiclient.Client, holder, login string) (names []string, err error) {
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, login))
	if err != nil {
		return nil, err
	}
	for _, o := range l.Openers {
		if kit.Given(o.Key.Holder) == holder && o.SeenAt != nil && o.Status != apiclient.StatusMissing {
			names = append(names, o.Key.Name)
		}
	}
	if len(names) == 0 {
		return nil, kit.Missing(
			"no-such-key", "no key of "+holder+" is in place in "+l.Reach.Login, "See whose are: plumlatch login show "+login,
		)
	}
	return names, nil
}

// confirmLost shows what it does elsewhere that keys are marked as lost, and asks where it does something.
func confirmLost(
	s *kit.Session, ctx context.Context, client *apiclient.Client, r apiclient.Routes, lost []string, yes bool,
) error {
	if len(lost) == 0 {
		return nil
	}
	loss, err := kit.Answer[apiclient.Loss](client.GetLoss(ctx, &apiclient.GetLossParams{Key: &lost}))
	if err != nil {
		return err
	}
	loss.Changes = slices.DeleteFunc(loss.Changes, func(c apiclient.LossChange) bool { return c.Login == r.Login })
	if len(loss.Changes) == 0 {
		return nil
	}
	if !s.Json && !s.Quiet {
		access.ShowLoss(s, loss)
	}
	return s.Confirm(yes, fmt.Sprintf(
		"%s are marked as lost everywhere, which makes %s less safe.", strings.Join(lost, ", "),
		text.Counted(len(loss.Changes), "other login"),
	), "lost")
}

// restoreKey makes the new key where one is wanted, once the route is known to do.
func restoreKey(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	request *apiclient.StartRestore,
	newKey string,
	pair keys.PairFlags,
	work *restoreWork,
	possible bool,
) error {
	if newKey == "" {
		return nil
	}
	request.Key = newKey
	if pair.Typ == "" {
		if pair.Typ = "ed25519"; request.Route == apiclient.RestoreRoute(restore.WindowsPassword) {
			pair.Typ = "rsa"
		}
	}
	if pair.Maker == "service" {
		request.Make = new(true)
		return nil
	}
	if !possible { // the service says why, before a pair is made for nothing
		_, err := kit.Answer[apiclient.Restore](client.StartRestore(ctx, &apiclient.StartRestoreParams{}, *request))
		return cmpErr(err, errors.New("the route is not possible"))
	}
	k, path, err := keys.NewPair(s, ctx, newKey, pair)
	if err != nil {
		return err
	}
	if !s.Json && !s.Quiet {
		fmt.Fprintf(s.Env.Err, "Made the key %s; its private key is in %s.\n", k.Name, s.Shown(path))
	}
	signer, err := s.FileKey(path, pair.PassphraseFile, false)
	work.found = append(work.found, signer)
	return err
}

func cmpErr(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// confirmRoute says what the route costs and asks, where it stops something.
func confirmRoute(s *kit.Session, r apiclient.Routes, o apiclient.RouteOption, yes bool) error {
	if !o.Stops && !o.NewIdentity {
		return nil
	}
	lines := []string{
		fmt.Sprintf("The route %s stops %s for about %s.", o.Route, r.Instance, restore.Words(spanOf(o.DowntimeSeconds))),
	}
	if o.NewIdentity {
		lines[0] = fmt.Sprintf("The route %s puts another instance in the place of %s.", o.Route, r.Instance)
	}
	if l := kit.LabelText(r.Labels); l != "" {
		lines = append(lines, "  it is       "+l)
	}
	for _, c := range o.Changes {
		lines = append(lines, "  afterwards  "+c)
	}
	for _, l := range o.Loses {
		lines = append(lines, "  lost        "+l)
	}
	lines = append(lines, "  undone      "+o.Undo)
	return s.Confirm(yes, strings.Join(lines, "\n"), r.Instance)
}

// restoreAt connects to the service, for the restore that args mean: the newest, or what is named.
func restoreAt(s *kit.Session, ctx context.Context, args []string) (*apiclient.Client, uuid.UUID, error) {
	client, err := s.Connect()
	if err != nil {
		return nil, uuid.Nil, err
	}
	text := strings.Join(args, "")
	l, err := kit.Answer[kit.Page[apiclient.Restore]](
		client.ListRestores(ctx, &apiclient.ListRestoresParams{Limit: new(kit.MeantOf), Meant: kit.Optional(text)}),
	)
	if err != nil {
		return nil, uuid.Nil, err
	}
	things := make([]kit.Thing, len(l.Items))
	for n, r := range l.Items {
		things[n] = kit.Thing{
			ID: r.Run.Id, Names: []string{r.Login, r.Run.Instance},
			What: fmt.Sprintf("%s by %s, %s", r.Login, r.Route, kit.Moment(r.Run.CreatedAt)),
		}
	}
	id, err := kit.Meant("restore", text, "restore list", things)
	return client, id, err
}

func restoreWatch(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var work restoreWork
	work.flags(f)
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := restoreAt(s, ctx, args)
		if err != nil {
			return err
		}
		return followRestore(s, ctx, client, id, &work)
	}
}

func restoreUndo(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := restoreAt(s, ctx, args)
		if err != nil {
			return err
		}
		r, err := kit.Answer[apiclient.Restore](client.GetRestore(ctx, id))
		if err != nil {
			return err
		}
		if r.Undoable {
			if err := s.Confirm(
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
		if _, err := kit.Answer[apiclient.Restore](
			client.UndoRestore(ctx, id, &apiclient.UndoRestoreParams{Reason: kit.Optional(*reason)}),
		); err != nil {
			return err
		}
		run, err := s.Watch(ctx, client, id)
		if err != nil {
			return err
		}
		if r, err = kit.Answer[apiclient.Restore](client.GetRestore(ctx, id)); err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(r)
		}
		if run.State != apiclient.RunStateUndone {
			return s.RunEnded(run)
		}
		if !s.Quiet {
			fmt.Fprintf(s.Env.Out, "The restore of %s is undone. %s\n", r.Login, differs(r))
		}
		return nil
	}
}

// differs says what is not as it was after an undo.
func differs(r apiclient.Restore) string {
	if d := kit.Given(r.Differs); d != "" {
		return "Not restored: " + d + "."
	}
	return "Everything is as it was before."
}

func restoreList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	instance := f.String("instance", "", "only of this instance")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		rows, total, err := kit.Fetch[apiclient.Restore](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListRestores(
					ctx,
					&apiclient.ListRestoresParams{After: after, Limit: &limit, Total: count, Instance: kit.Optional(*instance)},
				)
			},
		)
		if err != nil {
			return err
		}
		return restoreListing.Show(s, rows, total)
	}
}

var restoreListing = kit.Listing[apiclient.Restore]{
	Head: []string{"LOGIN", "ROUTE", "NEW KEY", "STATE", "BEGUN", "BY", "ID"},
	Name: func(r apiclient.Restore) string { return r.Run.Id.String() },
	None: "No login was restored yet. See the ways back into one: plumlatch restore routes LOGIN",
	Cells: func(r apiclient.Restore) []string {
		state := string(r.Run.State)
		if r.Waits != nil {
			state = "waits for " + r.Waits.Who
		} else if len(r.Left) > 0 {
			state += ", something left"
		}
		return []string{
			r.Login,
			string(r.Route),
			r.Key,
			state,
			kit.Moment(r.Run.CreatedAt),
			r.Run.RequestedBy,
			r.Run.Id.String(),
		}
	},
}
