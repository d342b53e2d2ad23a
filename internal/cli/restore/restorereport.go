package restore

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func restoreOpen(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		open, err := kit.Answer[[]apiclient.Closing](client.ListClosings(ctx))
		if err != nil {
			return err
		}
		l := kit.Listing[apiclient.Closing]{
			Head: []string{
				"INSTANCE",
				"OPEN",
				"SINCE",
				"CLOSED BY",
				"RESTORE",
			}, Name: func(c apiclient.Closing) string { return c.Instance }, None: "Nothing is held open.",
			Cells: func(c apiclient.Closing) []string {
				since := "not answered yet"
				if c.OpenedAt != nil {
					since = kit.Moment(*c.OpenedAt)
				}
				return []string{c.Instance, c.What, since, kit.Moment(c.Deadline), c.Restore.String()}
			},
		}
		if err := l.Show(s, open, len(open)); err != nil {
			return err
		}
		if len(open) > 0 {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	}
}

func restoreReport(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := restoreAt(s, ctx, args)
		if err != nil {
			return err
		}
		p, err := kit.Answer[apiclient.RestoreReport](client.ReportRestore(ctx, id))
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			err = s.WriteJSON(p)
		case s.Quiet:
			for _, l := range p.Restore.Left {
				fmt.Fprintln(s.Env.Out, l)
			}
		default:
			showRestoreReport(s, p)
		}
		if err == nil && (len(p.Restore.Left) > 0 || kit.Given(p.Restore.Differs) != "") {
			err = kit.Quiet(kit.ExitNotAsItShould)
		}
		return err
	}
}

func showRestoreReport(s *kit.Session, p apiclient.RestoreReport) {
	r := p.Restore
	ended, proved := "not yet", "not yet"
	if r.Run.EndedAt != nil {
		ended = kit.Moment(*r.Run.EndedAt)
	}
	if r.ProvedAt != nil {
		proved = kit.Moment(*r.ProvedAt)
	}
	address := kit.Given(p.AddressBefore)
	if after := kit.Given(p.AddressAfter); after != "" && after != address {
		address += ", now " + after
	}
	s.Facts(
		"Restore of", r.Login, "Route", string(r.Route), "State", string(r.Run.State), "Asked for by",
		r.Run.RequestedBy, "Why", kit.Given(r.Run.Reason), "Begun", kit.Moment(r.Run.CreatedAt), "Ended", ended,
		"New key", r.Key, "Login with it", proved, "Lost keys", strings.Join(r.Lost, ", "), "Instance now", r.Target,
		"Address", address, "Report of", kit.Moment(p.MadeAt), "Run", r.Run.Id.String(),
	)
	fmt.Fprintln(s.Env.Out, "\nSteps:")
	show := &kit.Steps{Session: s}
	show.FitTitles(r.Run)
	for _, step := range r.Run.Steps {
		if step.State != apiclient.StepStateWaiting && step.State != apiclient.StepStateRunning {
			fmt.Fprintln(s.Env.Out, show.Line(step))
		}
	}
	part := func(head string, lines []string) {
		if len(lines) == 0 {
			return
		}
		fmt.Fprintf(s.Env.Out, "\n%s:\n", head)
		for _, l := range lines {
			fmt.Fprintln(s.Env.Out, "  "+l)
		}
	}
	var opened, elsewhere, copies, readings []string
	for _, c := range r.Closings {
		state := "still open, closed by " + kit.Moment(c.Deadline)
		if c.ClosedAt != nil {
			state = "closed " + kit.Moment(*c.ClosedAt)
		}
		opened = append(opened, strings.TrimSuffix(fmt.Sprintf("%s: %s; %s", c.What, state, kit.Given(c.Note)), "; "))
	}
	for _, l := range p.Elsewhere {
		elsewhere = append(elsewhere, fmt.Sprintf("%s opens %s as well, which is %s", l.Key, l.Login, l.Reach))
	}
	for _, c := range p.Copies {
		copies = append(copies, fmt.Sprintf("%s %s: %s", c.Kind, c.Place, c.Note))
	}
	for _, w := range p.Passwords {
		readings = append(readings, fmt.Sprintf("%s %s it, %s", w.Person, w.What, kit.Moment(w.At)))
	}
	part("Opened temporarily", opened)
	part("Where else the lost keys are", elsewhere)
	part("Copies of the disk with the lost keys in them", copies)
	part("Who saw the administrator's password, the last first", readings)
	part("Left to do", r.Left)
	if d := kit.Given(r.Differs); d != "" {
		part("Not restored", strings.Split(d, "; "))
	}
	if e := kit.Given(r.Run.Error); e != "" {
		part("Why it was not done", []string{e})
	}
}
