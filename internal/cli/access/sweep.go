package access

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/reading"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

var SweepCommands = []kit.Command{
	{
		Name: "sweep", Args: "[INSTANCE ...]", Max: -1, Flags: sweep,
		Summary: "Read the authorized_keys of logins and compare them with the grants",
		Detail: `The service reads them with the steward keys. Where an instance has none, -with FILE or
-agent has this machine log in, read them and report what it saw; the private key stays
here. It ends with status 3 if a login could not be read, if the keys in place differ from the
grants, or if anything else lets somebody in or was left unread.`,
		Examples: []string{
			"plumlatch sweep -all",
			"plumlatch sweep -label team=cameras",
			"plumlatch sweep tide-gauge-1 -with ~/.ssh/oona",
		},
	},
}

func sweep(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	label := f.String("label", "", "instances with this label, `name=value`")
	all := f.Bool("all", false, "all instances")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if len(args) == 0 && *label == "" && !*all {
			return kit.Usage("say which: INSTANCE ..., -label name=value, or -all")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if h.Given() {
			if len(args) == 0 {
				return kit.Usage("with -with or -agent, name the instances")
			}
			return sweepFromHere(s, ctx, client, args, h)
		}
		request := apiclient.StartSweep{Label: kit.Optional(*label)}
		if *all {
			request.All = all
		}
		if len(args) > 0 {
			request.Instances = &args
		}
		w, err := kit.Answer[apiclient.Sweep](client.StartSweep(ctx, request))
		if err != nil {
			return err
		}
		if w, err = awaitSweep(s, ctx, client, w); err != nil {
			return err
		}
		return sweptLogins(s, ctx, client, w)
	}
}

const sweepPause = 200 * time.Millisecond

// awaitSweep shows how far the sweep is until it has ended.
func awaitSweep(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	w apiclient.Sweep,
) (apiclient.Sweep, error) {
	live := s.Live() && !s.Json && !s.Quiet
	patience := s.Patience()
	patience.Answered() // it has told of what is watched
	for w.EndedAt == nil {
		if live {
			done := w.Total - w.Waiting
			fmt.Fprintf(s.Env.Err, "\r\x1b[K  %s %d of %d read", kit.Bar(done*100/max(w.Total, 1)), done, w.Total)
		}
		select {
		case <-ctx.Done():
			return w, kit.Stopped("sweep", "")
		case <-time.After(sweepPause):
		}
		fresh, err := kit.Answer[apiclient.Sweep](client.GetSweep(ctx, w.Id))
		if err != nil && ctx.Err() == nil {
			if err := patience.Wait(ctx, err); err != nil {
				return w, err
			}
		}
		if err == nil {
			patience.Answered()
			w = fresh
		}
	}
	if live {
		fmt.Fprint(s.Env.Err, "\r\x1b[K")
	}
	return w, nil
}

func sweptLogins(s *kit.Session, ctx context.Context, client *apiclient.Client, w apiclient.Sweep) error {
	items, _, err := kit.Fetch[apiclient.SweepItem](
		ctx,
		kit.Paging{Limit: 1, All: true},
		func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			return client.ListSweepItems(ctx, w.Id, &apiclient.ListSweepItemsParams{After: after, Limit: &limit})
		},
	)
	if err != nil {
		return err
	}
	switch {
	case s.Json:
		err = s.WriteJSON(struct {
			apiclient.Sweep
			Logins []apiclient.SweepItem `json:"logins"`
		}{w, items})
	case s.Quiet:
		for _, i := range items {
			if !asGranted(i) {
				fmt.Fprintln(s.Env.Out, i.Login)
			}
		}
	default:
		t := kit.Table{Head: []string{"LOGIN", "READ", "IN PLACE"}}
		for _, i := range items {
			state, outcome := string(i.State), i.Outcome
			if !asGranted(i) {
				state += " !"
			}
			beside := reading.Counts{OtherWays: kit.Given(i.OtherWays), Unread: kit.Given(i.Unread)}
			if words := beside.Words(); words != "" {
				outcome += "; " + words
			}
			t.Add(i.Login, state, outcome)
		}
		t.Write(s)
		fmt.Fprintf(
			s.Env.Out,
			"\n%d read as before, %d changed, %d failed. See the result: plumlatch reach\n", w.AsBefore, w.Changed,
			w.Failed,
		)
	}
	if err == nil && (w.Failed > 0 || !all(items, asGranted)) {
		err = kit.Quiet(kit.ExitNotAsItShould)
	}
	return err
}

func all[T any](of []T, fits func(T) bool) bool {
	return !slices.ContainsFunc(of, func(t T) bool { return !fits(t) })
}

// asGranted reports whether a login was read, its granted keys get in, nobody else does, and nothing is unread.
func asGranted(i apiclient.SweepItem) bool {
	return i.State != apiclient.SweepItemStateFailed && reading.Counts{
		Missing: i.Missing, Ungranted: i.Ungranted, Strangers: i.Strangers,
		OtherWays: kit.Given(i.OtherWays), Unread: kit.Given(i.Unread),
	}.AsGranted()
}

// sweepFromHere reads the files of the instances with a private key that is here.
func sweepFromHere(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	instances []string,
	h kit.LocalKeyFlags,
) error {
	signers, end, err := s.LocalKeys(h)
	if err != nil {
		return err
	}
	defer end()
	beyond := false
	for _, name := range instances {
		l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, name))
		if err != nil {
			return err
		}
		if l, err = ReadAndReport(s, ctx, client, l, signers); err != nil {
			return fmt.Errorf("%s: %w", l.Reach.Login, err)
		}
		in, err := kit.Answer[apiclient.InstanceAccess](client.GetInstanceAccess(ctx, l.Reach.Instance))
		if err != nil {
			return err
		}
		beyond = beyond || !instanceAsGranted(in)
		switch {
		case s.Json:
			if err := s.WriteJSON(l); err != nil {
				return err
			}
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, l.Reach.Login)
		default:
			fmt.Fprintf(s.Env.Out, "%s is read from here.\n", l.Reach.Login)
			ShowLogin(s, l)
			sayMachine(s, in)
		}
	}
	if beyond {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

// ReadAndReport logs in, reads the login's files and reports them. The
// completed login is reported as a proof of entry too.
func ReadAndReport(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Login,
	signers []kit.AtHand,
) (apiclient.Login, error) {
	session, signer, err := s.EnterToHelp(ctx, l.Connection, signers)
	if err != nil {
		return l, err
	}
	defer session.Close()
	fresh, err := report(ctx, client, l.Reach.Login, session, true)
	if err != nil {
		return l, err
	}
	return s.ReportEntry(ctx, client, fresh, session, signer)
}

// Report reads the files of a login in a session and tells the service.
func Report(
	ctx context.Context, client *apiclient.Client, login string, session *sshio.Session,
) (apiclient.Login, error) {
	return report(ctx, client, login, session, false)
}

// report is Report, with all users of the machine where whole is set.
func report(
	ctx context.Context, client *apiclient.Client, login string, session *sshio.Session, whole bool,
) (apiclient.Login, error) {
	files, err := session.ReadAll()
	if err != nil {
		return apiclient.Login{}, err
	}
	request := apiclient.ReportFiles{HostKey: ssh.FingerprintSHA256(session.HostKey)}
	for _, f := range files {
		request.Files = append(
			request.Files, apiclient.SeenFile{Path: f.Path, There: f.There, Content: f.Content, Mode: int(f.Mode)},
		)
	}
	folders, err := session.Folders()
	if err != nil {
		return apiclient.Login{}, err
	}
	request.Folders = new([]apiclient.Folder)
	for _, f := range folders {
		*request.Folders = append(*request.Folders, apiclient.Folder{Path: f.Path, Mode: fmt.Sprintf("%04o", f.Mode)})
	}
	server, err := session.Server()
	if err != nil {
		return apiclient.Login{}, err
	}
	request.Server = serverSeen(server)
	if whole {
		m, err := means.ReadMachine(ctx, session)
		switch {
		case err == nil:
			request.Machine = machineSeen(m)
		case ctx.Err() != nil:
			return apiclient.Login{}, ctx.Err()
		}
	}
	return kit.Answer[apiclient.Login](client.ReportFiles(ctx, login, request))
}

// mostReported is how many other users of a machine are reported.
const mostReported = 1000

// machineSeen is what was read of all users of a machine, as it is reported.
func machineSeen(m means.Machine) *apiclient.ReportedMachine {
	out := &apiclient.ReportedMachine{
		Rights: apiclient.ReportedMachineRights(m.Rights), Accounts: m.Accounts, NoWay: m.NoWay, UnreadMore: m.UnreadMore,
		Unread: []apiclient.UnreadAccount{}, Gone: append([]string{}, m.Gone...), Remedy: kit.Optional(m.Remedy),
		Others: []apiclient.ReportedAccount{},
	}
	for _, u := range m.Unread {
		out.Unread = append(out.Unread, apiclient.UnreadAccount{User: u.User, Why: u.Why})
	}
	for n, o := range m.Others {
		if n == mostReported {
			out.UnreadMore += len(m.Others) - n
			break
		}
		account := apiclient.ReportedAccount{User: o.Name, Files: []apiclient.SeenFile{}, Server: *serverSeen(*o.Server)}
		for _, f := range o.Files {
			account.Files = append(
				account.Files, apiclient.SeenFile{Path: f.Path, There: f.There, Content: f.Content, Mode: int(f.Mode)},
			)
		}
		out.Others = append(out.Others, account)
	}
	return out
}

// serverSeen is what the SSH server lets in beside the keys of the files, as it is reported.
func serverSeen(s reading.Server) *apiclient.LoginServer {
	out := apiclient.LoginServer{
		Unread:            kit.Optional(s.Unread),
		Refused:           kit.Optional(s.Refused),
		Doubt:             kit.Optional(s.Doubt),
		KeysOff:           &s.KeysOff,
		Methods:           []string{},
		Authorities:       []apiclient.Authority{},
		AuthoritiesUnread: kit.Optional(s.AuthoritiesUnread),
		Principals:        append([]string{}, s.Principals...),
		KeysCommand:       kit.Optional(s.KeysCommand),
		PrincipalsCommand: kit.Optional(s.PrincipalsCommand),
		Conditional:       append([]string{}, s.Conditional...),
		KeysUnasked:       kit.Optional(s.KeysUnasked),
		PrincipalsUnasked: kit.Optional(s.PrincipalsUnasked),
	}
	if len(s.Names) > 0 {
		out.Names = &s.Names
	}
	if len(s.NamedKeys) > 0 {
		named := make([]apiclient.NamedKey, len(s.NamedKeys))
		for n, k := range s.NamedKeys {
			named[n] = apiclient.NamedKey{
				Type: k.Type, Fingerprint: k.Fingerprint, Comment: kit.Optional(k.Comment), Limits: kit.Optional(k.Limits),
			}
		}
		out.NamedKeys = &named
	}
	for _, m := range s.Methods {
		out.Methods = append(out.Methods, string(m))
	}
	for _, a := range s.Authorities {
		out.Authorities = append(
			out.Authorities, apiclient.Authority{Type: a.Type, Fingerprint: a.Fingerprint, Comment: kit.Optional(a.Comment)},
		)
	}
	return &out
}
