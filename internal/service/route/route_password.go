package route

import (
	"context"
	"errors"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/sshio"
)

// password has whoever knows the password place the line, and turns password login off after.
var password = Route{
	Way: must(restore.Password),
	by:  func(*restoring) string { return "after a login with the password" },
	rehearse: func(*Service, Rehearsing) (string, func(context.Context) (string, error)) {
		return "whether the SSH server takes passwords", func(context.Context) (string, error) {
			return "it does; whether anybody knows one is not seen", nil
		}
	},
	steps: func(r *restoring) map[restore.Step]runs.Step {
		return map[restore.Step]runs.Step{
			restore.PasswordOff: {
				Title:  "Turn password login off",
				Intent: "Turn password login off in the settings of the SSH server",
				Do:     r.passwordsOff,
			},
		}
	},
	place: func(
		ctx context.Context, r *restoring, _ *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		return r.placedElsewhere(ctx, k, l, func(what, login string) error {
			return runs.WaitFor(record.Waits{
				Who:  "a person who knows the password of " + login,
				What: what,
				Next: "plumlatch restore watch " + login + " -password",
			})
		})
	},
	takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
		return r.tellOfLine(ctx, p, k, l)
	},
}

func (r *restoring) passwordsOff(ctx context.Context, _ *runs.Progress) (string, error) {
	k, l, err := r.subject(ctx)
	if err != nil {
		return "", err
	}
	if r.work.Kept {
		session, err := r.keptSession(ctx, k, l)
		if err != nil {
			return "", err
		}
		defer session.Close()
		if err := session.PasswordsOff(); err != nil {
			return "", err
		}
	}
	takes, err := sshio.TakesPasswords(ctx, r.fleet.Target(l.Instance, l.OSUser))
	if err != nil {
		return "", fleet.Answering(err)
	}
	if takes && !r.work.Kept {
		return "", r.waitFor(r.run.RequestedBy, "to turn password login off on "+l.Instance.Name)
	}
	if takes {
		return "", errors.New("the SSH server still takes passwords")
	}
	return "the SSH server no longer takes passwords", nil
}
