package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/sshio"
)

var sweepCommands = []command{
	{
		name: "sweep", args: "[INSTANCE ...]", max: -1, flags: sweep,
		summary: "Read the real authorized_keys of logins and compare with the grants",
		detail: `The service reads them with the steward keys. Where an instance has none, -with FILE or
-agent has this machine log in, read them and report what it saw; the private half stays
here. It ends with status 3 if a login could not be read, or if not just the granted keys
stand there.`,
		examples: []string{
			"plumlatch sweep -all",
			"plumlatch sweep -label team=cameras",
			"plumlatch sweep tide-gauge-1 -with ~/.ssh/oona",
		},
	},
}

func sweep(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var h holderFlags
	h.flags(f)
	label := f.String("label", "", "instances with this label, `name=value`")
	all := f.Bool("all", false, "all instances")
	return func(ctx context.Context, s *session, args []string) error {
		if len(args) == 0 && *label == "" && !*all {
			return &usageError{"say which: INSTANCE ..., -label name=value, or -all"}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		if h.given() {
			if len(args) == 0 {
				return &usageError{"with -with or -agent, name the instances"}
			}
			return s.sweepFromHere(ctx, client, args, h)
		}
		request := apiclient.StartSweep{Label: optional(*label)}
		if *all {
			request.All = all
		}
		if len(args) > 0 {
			request.Instances = &args
		}
		w, err := answer[apiclient.Sweep](client.StartSweep(ctx, request))
		if err != nil {
			return err
		}
		if w, err = s.awaitSweep(ctx, client, w); err != nil {
			return err
		}
		return s.sweptLogins(ctx, client, w)
	}
}

const sweepPause = 200 * time.Millisecond

// awaitSweep shows how far the sweep is until it has ended.
func (s *session) awaitSweep(
	ctx context.Context,
	client *apiclient.Client,
	w apiclient.Sweep,
) (apiclient.Sweep, error) {
	live := isTerminal(s.env.Err) && !s.json && !s.quiet
	for w.EndedAt == nil {
		if live {
			done := w.Total - w.Waiting
			fmt.Fprintf(s.env.Err, "\r\x1b[K  %s %d of %d read", bar(done*100/max(w.Total, 1)), done, w.Total)
		}
		select {
		case <-ctx.Done():
			return w, errors.New("you stopped watching; the sweep goes on in the service")
		case <-time.After(sweepPause):
		}
		fresh, err := answer[apiclient.Sweep](client.GetSweep(ctx, w.Id))
		if err != nil {
			return w, err
		}
		w = fresh
	}
	if live {
		fmt.Fprint(s.env.Err, "\r\x1b[K")
	}
	return w, nil
}

func (s *session) sweptLogins(ctx context.Context, client *apiclient.Client, w apiclient.Sweep) error {
	items, _, err := fetch[apiclient.SweepItem](
		ctx,
		paging{limit: 1, all: true},
		func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			return client.ListSweepItems(ctx, w.Id, &apiclient.ListSweepItemsParams{After: after, Limit: &limit})
		},
	)
	if err != nil {
		return err
	}
	switch {
	case s.json:
		err = s.writeJSON(struct {
			apiclient.Sweep
			Logins []apiclient.SweepItem `json:"logins"`
		}{w, items})
	case s.quiet:
		for _, i := range items {
			if i.State == apiclient.SweepItemStateFailed || i.State == apiclient.SweepItemStateChanged {
				fmt.Fprintln(s.env.Out, i.Login)
			}
		}
	default:
		t := table{head: []string{"LOGIN", "READ", "WHAT STANDS THERE"}}
		for _, i := range items {
			state := string(i.State)
			if i.State != apiclient.SweepItemStateAsBefore {
				state += " !"
			}
			t.add(i.Login, state, i.Outcome)
		}
		t.write(s)
		fmt.Fprintf(
			s.env.Out,
			"\n%d read as before, %d changed, %d failed. See how they stand: plumlatch reach\n",
			w.AsBefore,
			w.Changed,
			w.Failed,
		)
	}
	if err == nil && w.Changed+w.Failed > 0 {
		err = &quietError{exitNotAsItShould}
	}
	return err
}

// sweepFromHere reads the files of the instances with a private half that is here.
func (s *session) sweepFromHere(
	ctx context.Context,
	client *apiclient.Client,
	instances []string,
	h holderFlags,
) error {
	halves, end, err := s.holder(h)
	if err != nil {
		return err
	}
	defer end()
	drift := false
	for _, name := range instances {
		l, err := answer[apiclient.Login](client.GetLogin(ctx, name))
		if err != nil {
			return err
		}
		if l, err = s.readAndReport(ctx, client, l, halves); err != nil {
			return fmt.Errorf("%s: %w", l.Reach.Login, err)
		}
		drift = drift || l.Reach.Missing+l.Reach.Ungranted+l.Reach.Strangers > 0
		switch {
		case s.json:
			if err := s.writeJSON(l); err != nil {
				return err
			}
		case s.quiet:
			fmt.Fprintln(s.env.Out, l.Reach.Login)
		default:
			fmt.Fprintf(s.env.Out, "%s is read from here.\n", l.Reach.Login)
			s.showLogin(l)
		}
	}
	if drift {
		return &quietError{exitNotAsItShould}
	}
	return nil
}

// readAndReport logs in, reads the login's files and reports them. The
// completed login is reported as a proof of entry too.
func (s *session) readAndReport(
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Login,
	halves []atHand,
) (apiclient.Login, error) {
	session, half, err := enter(ctx, l.Connection, halves)
	if err != nil {
		return l, err
	}
	defer session.Close()
	fresh, err := report(ctx, client, l.Reach.Login, session)
	if err != nil {
		return l, err
	}
	return s.reportEntry(ctx, client, fresh, session, half)
}

// report reads the files of a login in a session and tells the service.
func report(
	ctx context.Context,
	client *apiclient.Client,
	login string,
	session *sshio.Session,
) (apiclient.Login, error) {
	files, err := session.ReadAll()
	if err != nil {
		return apiclient.Login{}, err
	}
	request := apiclient.ReportFiles{HostKey: ssh.FingerprintSHA256(session.HostKey)}
	for _, f := range files {
		request.Files = append(
			request.Files,
			apiclient.SeenFile{Path: f.Path, There: f.There, Content: f.Content, Mode: int(f.Mode)},
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
	return answer[apiclient.Login](client.ReportFiles(ctx, login, request))
}
