package route

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/fleet"
)

// browserShell places the line in a short session through the cloud.
var browserShell = Route{
	Way: must(restore.BrowserShell),
	by:  func(*restoring) string { return "through the browser shell" },
	prepare: func(_ context.Context, _ *Service, b *Beginning) error {
		b.Work.Opens = !b.Facts.ShellAdmitted
		return nil
	},
	rehearse: rehearseShell,
	steps: func(r *restoring) map[restore.Step]runs.Step {
		return map[restore.Step]runs.Step{
			restore.OpenPort: {
				Title:      "Open the SSH port",
				Intent:     "Let the cloud's own range in to the SSH port, and nobody else",
				UndoIntent: "Close it again",
				Do:         r.openPort,
				Undo:       r.closing(closing.Port),
			},
			restore.ClosePort: {
				Title:  "Close the SSH port",
				Intent: "Close the SSH port to the cloud's own range, and see that it is closed",
				Do:     r.closed(closing.Port),
			},
		}
	},
	place: func(
		ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		return r.placeBy(ctx, p, k, l, byShell)
	},
	takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
		if !r.work.Journal.HasPlaced(k.Blob) {
			return nil
		}
		return r.takeBackInShell(ctx, p, k, l)
	},
}

// byShell is in the browser shell.
func byShell(_ context.Context, r *restoring, l record.LoginToSweep) (entrance, error) {
	return entrance{means.InShell(r.cloud, l.Instance.CloudID, l.OSUser), "read in the browser shell", func() {}}, nil
}

func rehearseShell(s *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
	return "a command in the browser shell", func(ctx context.Context) (string, error) {
		if !c.Facts.ShellAdmitted {
			return "", errors.New("it was not tried, since the SSH port is closed to " + c.Facts.ShellRange +
				"; it would be opened temporarily")
		}
		said, err := s.clouds.Of(c.Instance.InCloud).Shell(ctx, c.Instance.CloudID, nil, "whoami")
		return "it answers as " + text.Line(strings.TrimSpace(string(said.Output)), text.MaxLine), err
	}
}

// openPort lets the browser shell's range in temporarily.
func (r *restoring) openPort(ctx context.Context, _ *runs.Progress) (string, error) {
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil {
		return "", fleet.Calling(err)
	}
	if can.ShellRange == nil {
		return "", errors.New("the cloud does not tell the address of its browser shell")
	}
	i, err := r.cloud.Instance(ctx, r.instance.CloudID)
	if err != nil {
		return "", fleet.Calling(err)
	}
	what := "the SSH port to the cloud's own " + *can.ShellRange
	details := map[string]string{"group": i.Firewall, "source": *can.ShellRange, "port": fmt.Sprint(i.SshPort)}
	err = r.closings.Open(ctx, r.run, closing.Port, what, details, restore.ShellOpenFor, func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	})
	return "opened to " + *can.ShellRange + " alone", err
}

func (r *restoring) takeBackInShell(ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
	can, _, err := r.clouds.Outline(ctx, r.instance.InCloud)
	if err != nil {
		return err
	}
	i, err := r.cloud.Instance(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	rules, err := r.cloud.FirewallRules(ctx)
	if err != nil {
		return err
	}
	opened, err := r.openForUndo(ctx, closing.Port)
	if err != nil {
		return err
	}
	if can.ShellRange == nil || !opened && Admits(rules, i, *can.ShellRange) {
		return r.lineOut(ctx, p, k, l, byShell)
	}
	open := func(token string) error {
		_, err := r.cloud.OpenPort(ctx, token, i.Firewall, *can.ShellRange, i.SshPort)
		return err
	}
	return r.again(
		ctx,
		closing.Port,
		"the SSH port to the cloud's own "+*can.ShellRange,
		map[string]string{},
		open,
		func() error { return r.lineOut(ctx, p, k, l, byShell) },
	)
}

// Admits reports whether the rules let a range in to the SSH port of an instance.
func Admits(rules []cloud.FirewallRule, i cloud.Instance, source string) bool {
	list := make([]restore.FirewallRule, len(rules))
	for n, r := range rules {
		list[n] = restore.FirewallRule{Group: r.Group, Source: r.Source, Port: r.Port}
	}
	return restore.Admits(list, i.Firewall, i.SshPort, source)
}
