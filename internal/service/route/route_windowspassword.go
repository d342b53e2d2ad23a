package route

import (
	"context"
	"fmt"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/keys"
)

// windowsPassword has the guest agent set a new administrator's password, encrypted to an RSA key.
var windowsPassword = Route{
	Way:      must(restore.WindowsPassword),
	Key:      keypair.Spec{Type: keypair.RSA, Bits: rsaBits},
	NoGrant:  true,
	prepare:  guestAgent.prepare,
	rehearse: rehearseAgent,
	steps: func(r *restoring) map[restore.Step]runs.Step {
		steps := permitting(r)
		steps[restore.Reset] = runs.Step{
			Title:  "Set a new password",
			Intent: "Have the guest agent set a new administrator's password, encrypted to " + r.work.KeyName,
			Do:     r.reset,
		}
		steps[restore.Open] = runs.Step{
			Title: "Open the password",
			Intent: "Wait until somebody has opened the password with the private key of " + r.work.KeyName +
				", on their machine",
			Do: r.awaitOpened,
		}
		return steps
	},
	told: "restore.ended:password",
}

// rsaBits is how long an RSA key is that the service makes.
const rsaBits = 3072

// reset has the guest agent set a new administrator's password.
func (r *restoring) reset(ctx context.Context, _ *runs.Progress) (string, error) {
	k, err := r.key(ctx)
	if err != nil {
		return "", err
	}
	password, err := r.cloud.ResetPassword(ctx, r.instance.CloudID, keys.LineOf(k))
	if err != nil {
		return "", fleet.Calling(err)
	}
	if !holdsKey(password.PublicKey, k) {
		return "", fmt.Errorf("the cloud encrypted the password to another key than %s", k.Name)
	}
	return "the new password is encrypted to " + k.Name, nil
}

// awaitOpened waits until somebody has opened the password.
func (r *restoring) awaitOpened(ctx context.Context, p *runs.Progress) (string, error) {
	opened, err := p.Report(ctx, string(restore.Open))
	if err != nil {
		return "", err
	}
	if opened != nil {
		return "opened by " + opened.By + ", who should change it at once", r.proved(ctx, p, r.now())
	}
	return "", runs.WaitFor(record.Waits{
		Who:  r.run.RequestedBy,
		What: "to open the password with the private key of " + r.work.KeyName,
		Next: fmt.Sprintf("plumlatch instance password %s -with FILE", r.instance.Name),
	})
}
