package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"plumlatch/internal/apiclient"
)

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
			head: []string{
				"INSTANCE",
				"OPEN",
				"SINCE",
				"CLOSED BY",
				"RESTORE",
			}, name: func(c apiclient.Closing) string { return c.Instance }, none: "Nothing is held open.",
			cells: func(c apiclient.Closing) []string {
				since := "not answered yet"
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
		client, id, err := s.restoreAt(ctx, args)
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
	s.facts(
		"Restore of",
		r.Login,
		"Route",
		string(r.Route),
		"State",
		string(r.Run.State),
		"Asked for by",
		r.Run.RequestedBy,
		"Why",
		given(r.Run.Reason),
		"Begun",
		moment(r.Run.CreatedAt),
		"Ended",
		ended,
		"New key",
		r.Key,
		"Login with it",
		proved,
		"Lost keys",
		strings.Join(r.Lost, ", "),
		"Instance now",
		r.Target,
		"Address",
		address,
		"Report of",
		moment(p.MadeAt),
		"Run",
		r.Run.Id.String(),
	)
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
