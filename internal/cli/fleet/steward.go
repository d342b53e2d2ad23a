package fleet

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/grants"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/steward"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

var stewardCommand = kit.Command{
	Name: "instance steward", Args: "NAME", Min: 1, Max: 1, Flags: instanceSteward,
	Summary: "Place, show or withdraw the steward key of an instance, using a private key on this machine",
	Detail: `The steward key logs in as the login user, or with -account as an OS user of its own: one
that is made for it and that nobody else logs in to. That user reads the whole machine as root and
changes files with the rights of the login user (and of those of -may-change), by a rule of
sudoers(5) that is shown first, checked with visudo, and removed with -withdraw. It takes a login
by which you may use sudo without a password. Without -with, -agent or -account the command shows
what steward key there is.`,
	Examples: []string{
		"plumlatch instance steward tide-gauge-1 -with ~/.ssh/oona",
		"plumlatch instance steward tide-gauge-1 -account plumlatch -with ~/.ssh/oona",
		"plumlatch instance steward tide-gauge-1",
		"plumlatch instance steward tide-gauge-1 -withdraw -with ~/.ssh/oona",
	},
}

func instanceSteward(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	account := f.String("account", "", "have it log in as this OS `user` of its own, which is made")
	mayChange := f.String("may-change", "", "with -account: further OS `users` whose files it may change, by commas")
	withdraw := f.Bool("withdraw", false, "withdraw the steward key, with its account and its sudoers rule")
	reason := f.String("reason", "", "why it is withdrawn, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		switch {
		case *withdraw && *account != "":
			return kit.Usage("-withdraw needs no -account: the service knows it")
		case *mayChange != "" && *account == "":
			return kit.Usage("-may-change goes with -account USER; another steward key changes files of its own login alone")
		case (*withdraw || *account != "") && !h.Given():
			return kit.Usage("say with which private key: -with FILE or -agent")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if !h.Given() {
			return showSteward(s, ctx, client, args[0])
		}
		signers, end, err := s.LocalKeys(h)
		if err != nil {
			return err
		}
		defer end()
		switch {
		case *withdraw:
			return withdrawSteward(s, ctx, client, args[0], signers, *reason, *yes)
		case *account != "":
			err = placeAccount(s, ctx, client, args[0], signers, *account, splitUsers(*mayChange), *yes)
		default:
			err = placeSteward(s, ctx, client, args[0], signers)
		}
		if err != nil {
			return err
		}
		i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		return adopted(s, ctx, client, i)
	}
}

func splitUsers(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' || r == ' ' })
}

func showSteward(s *kit.Session, ctx context.Context, client *apiclient.Client, instance string) error {
	st, err := kit.Answer[apiclient.Steward](client.GetSteward(ctx, instance))
	switch {
	case err != nil:
		return err
	case s.Json:
		return s.WriteJSON(st)
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, st.Key)
		return nil
	}
	fmt.Fprintf(s.Env.Out, "Steward key  %s\nLogs in as   %s", st.Key, st.Login)
	if st.OwnAccount {
		fmt.Fprint(s.Env.Out, ", an account of its own")
	}
	if len(st.Changes) > 0 {
		fmt.Fprintf(s.Env.Out, "\nChanges      files of %s, by sudo", strings.Join(st.Changes, ", "))
	}
	fmt.Fprintf(s.Env.Out, "\nWithdraw it  plumlatch instance steward %s -withdraw -with FILE\n", instance)
	return nil
}

func placeLine(ctx context.Context, d *means.Door, _ sshio.Entry, line means.Key, _ apiclient.Grant) error {
	_, err := d.Place(ctx, line)
	return err
}

// placeSteward logs in first, so that no steward key is made for a machine that
// cannot be reached, then has one made and places its line.
func placeSteward(
	s *kit.Session, ctx context.Context, client *apiclient.Client, instance string, signers []kit.AtHand,
) error {
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	session, signer, err := s.EnterToHelp(ctx, i.Connection, signers)
	if err != nil {
		return err
	}
	defer session.Close()
	grant, err := kit.Answer[apiclient.Grant](client.AddSteward(ctx, instance, apiclient.AddSteward{}))
	if err != nil {
		return err
	}
	failed := grants.EditGranted(s, ctx, client, grant, session, placeLine)
	if err := placed(s, ctx, client, grant, failed); err != nil {
		return err
	}
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, grant.Login))
	if err != nil {
		return err
	}
	_, err = s.ReportEntry(ctx, client, l, session, signer)
	return err
}

// placed reports that the line of a steward key was placed, or with what error it was not, and looks at how the run
// ended.
func placed(s *kit.Session, ctx context.Context, client *apiclient.Client, grant apiclient.Grant, failed error) error {
	if err := grants.ReportStep(ctx, client, grant.Run.Id, "place", "the line is placed, from here", failed); err != nil {
		return err
	}
	if failed != nil {
		return fmt.Errorf("the line of the steward key %s was not placed: %w", grant.Key, failed)
	}
	if err := grants.ReportStep(ctx, client, grant.Run.Id, "ask", "the line is placed", nil); err != nil {
		return err
	}
	run, err := kit.Answer[apiclient.Run](client.GetRun(ctx, grant.Run.Id))
	if err != nil {
		return err
	}
	return s.RunEnded(run)
}

// placeAccount has a steward key made that logs in as an account of its own, shows the rule of the account, makes the
// account as root and places the line there. Where that fails, the account and its rule are removed again.
func placeAccount(
	s *kit.Session, ctx context.Context, client *apiclient.Client, instance string, signers []kit.AtHand,
	account string, mayChange []string, yes bool,
) error {
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	a := steward.Account{User: account, Changes: []string{i.Connection.User}, Server: steward.DefaultServer}
	for _, u := range mayChange {
		if !slices.Contains(a.Changes, u) {
			a.Changes = append(a.Changes, u)
		}
	}
	if err := a.Check(); err != nil {
		return kit.Usage(err.Error())
	}
	session, _, err := s.EnterToHelp(ctx, i.Connection, signers)
	if err != nil {
		return err
	}
	defer session.Close()
	a.Server = session.SFTPServer()
	if err := s.Confirm(yes, fmt.Sprintf(
		"This makes the OS user %s on %s, who has no password and whose one key is in the service's safe, and writes %s:\n\n"+
			"  %s\n\n%s",
		a.User, i.Name, a.File(), strings.ReplaceAll(strings.TrimSpace(a.Rule()), "\n", "\n  "), a.Means(),
	), "yes"); err != nil {
		return err
	}
	grant, err := kit.Answer[apiclient.Grant](client.AddSteward(ctx, instance, apiclient.AddSteward{Account: &account}))
	if err != nil {
		return err
	}
	failed := session.AsRoot(a.Place())
	if failed != nil {
		return placed(s, ctx, client, grant, fmt.Errorf("make the user %s: %w", a.User, failed))
	}
	if failed = placeInAccount(s, ctx, client, session, grant, a); failed == nil {
		failed = grants.AskHere(s, ctx, grant, true)
	}
	if err = placed(s, ctx, client, grant, failed); err == nil {
		return nil
	}
	if left := session.AsRoot(a.Remove()); left != nil {
		return fmt.Errorf("%w\nThe user %s and %s may be left: %w", err, a.User, a.File(), left)
	}
	return errors.Join(err, readAgain(s, ctx, client, instance, signers))
}

// readAgain reads the machine and reports it, so that nothing is told of an account that is no longer there.
func readAgain(
	s *kit.Session, ctx context.Context, client *apiclient.Client, instance string, signers []kit.AtHand,
) error {
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, instance))
	if err == nil {
		_, err = access.ReadAndReport(s, ctx, client, l, signers)
	}
	return err
}

func placeInAccount(
	s *kit.Session, ctx context.Context, client *apiclient.Client, session *sshio.Session, grant apiclient.Grant,
	a steward.Account,
) error {
	as, err := session.As(ctx, a.User)
	if err != nil {
		return err
	}
	defer as.Close()
	return grants.EditGranted(s, ctx, client, grant, as, placeLine)
}

// withdrawSteward ends the steward key of an instance. An account of its own is removed with its rule; else the line
// is.
func withdrawSteward(
	s *kit.Session, ctx context.Context, client *apiclient.Client, instance string, signers []kit.AtHand,
	reason string, yes bool,
) error {
	st, err := kit.Answer[apiclient.Steward](client.GetSteward(ctx, instance))
	if err != nil {
		return err
	}
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	session, _, err := s.EnterToHelp(ctx, i.Connection, signers)
	if err != nil {
		return err
	}
	defer session.Close()
	user, _, _ := strings.Cut(st.Login, "@")
	a := steward.Account{User: user, Changes: []string{i.Connection.User}, Server: steward.DefaultServer}
	does := "This removes the line of " + st.Key + " from " + st.Login
	if st.OwnAccount {
		if err := a.Check(); err != nil {
			return err
		}
		if err := nobodyElse(ctx, client, st); err != nil {
			return err
		}
		does = fmt.Sprintf("This removes the user %s of %s with its home folder, and %s", a.User, i.Name, a.File())
	}
	if err := s.Confirm(
		yes, does+". The service can then neither read the machine nor change what opens it by itself.", "yes",
	); err != nil {
		return err
	}
	grant, err := kit.Answer[apiclient.Grant](client.WithdrawGrant(
		ctx, apiclient.WithdrawGrant{Key: st.Key, Login: st.Login, Reason: kit.Optional(reason), FromHere: new(true)},
	))
	if err != nil {
		return err
	}
	failed := error(nil)
	if st.OwnAccount {
		failed = session.AsRoot(a.Remove())
	} else {
		failed = grants.EditGranted(s, ctx, client, grant, session, grants.RemoveLine)
	}
	if err := grants.ReportStep(ctx, client, grant.Run.Id, "remove", "it is removed, from here", failed); err != nil {
		return err
	}
	if failed != nil {
		return fmt.Errorf("the steward key %s was not withdrawn: %w", st.Key, failed)
	}
	seen := grants.AskHere(s, ctx, grant, false)
	if err := grants.ReportStep(ctx, client, grant.Run.Id, "ask", "the line is removed", seen); err != nil {
		return err
	}
	run, err := s.Watch(ctx, client, grant.Run.Id)
	if err != nil {
		return err
	}
	if err := s.RunEnded(run); err != nil {
		return err
	}
	if err := readAgain(s, ctx, client, instance, signers); err != nil || s.Json || s.Quiet {
		return err
	}
	fmt.Fprintf(
		s.Env.Out,
		"The steward key %s is withdrawn from %s, and its private key is destroyed.\n",
		st.Key,
		st.Login,
	)
	return nil
}

// nobodyElse refuses the removal of an account of the service's own that another key is in, or granted.
func nobodyElse(ctx context.Context, client *apiclient.Client, st apiclient.Steward) error {
	l, err := kit.Answer[apiclient.Login](client.GetLogin(ctx, st.Login))
	if err != nil {
		return err
	}
	var others []string
	for _, o := range l.Openers {
		if o.Key.Name != st.Key {
			others = append(others, o.Key.Name)
		}
	}
	for _, g := range l.Strangers {
		others = append(others, "the stranger "+g.Sha256)
	}
	if len(others) == 0 {
		return nil
	}
	return kit.Refused(
		"account-shared", fmt.Sprintf("%s is opened by others than the service: %s", st.Login, strings.Join(others, ", ")),
		"Take them out first; see them: plumlatch login show "+st.Login,
	)
}
