package route

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/closing"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/reading"
)

// guestAgent places the line as root through the cloud's agent in the guest.
var guestAgent = Route{
	Way: must(restore.GuestAgent),
	by:  func(*restoring) string { return "through the guest agent" },
	prepare: func(_ context.Context, _ *Service, b *Beginning) error {
		b.Work.Permits = b.Facts.Agent != restore.AgentReady
		return nil
	},
	rehearse: rehearseAgent,
	steps:    permitting,
	place: func(
		ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		return r.placeBy(ctx, p, k, l, byAgent)
	},
	takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
		if r.work.Permits && r.work.Journal.HasPlaced(k.Blob) { // the permission may be taken back already
			return r.takeBackThroughAgent(ctx, p, k, l)
		}
		return r.lineOut(ctx, p, k, l, byAgent)
	},
}

// byAgent is through the guest agent.
func byAgent(ctx context.Context, r *restoring, l record.LoginToSweep) (entrance, error) {
	if err := r.reading.AgentReady(ctx, l); err != nil {
		return entrance{}, err
	}
	return entrance{r.reading.AgentOf(l), reading.AgentMethod, func() {}}, nil
}

// permitting are the steps that permit the guest agent temporarily.
func permitting(r *restoring) map[restore.Step]runs.Step {
	return map[restore.Step]runs.Step{
		restore.Permit: {
			Title:      "Permit the guest agent",
			Intent:     "Permit the guest agent of " + r.instance.Name + " and wait until it answers",
			UndoIntent: "Take the permission back",
			Do:         r.permit,
			Undo:       r.closing(closing.Agent),
			Patience:   r.Patience + restore.AgentOpenFor,
		},
		restore.Forbid: {
			Title:  "Take the permission back",
			Intent: "Take the guest agent's permission back, and see that it is gone",
			Do:     r.closed(closing.Agent),
		},
	}
}

func rehearseAgent(s *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
	return "an answer of the guest agent", func(ctx context.Context) (string, error) {
		if c.Facts.Agent != restore.AgentReady {
			return "", errors.New(
				"it was not asked, since it is " + strings.ReplaceAll(string(c.Facts.Agent), "-", " ") +
					"; permission would be given temporarily",
			)
		}
		at := cloud.AgentPlace{Instance: c.Instance.CloudID}
		read, err := s.clouds.Of(c.Instance.InCloud).AgentFile(ctx, at, "/etc/passwd", "")
		return "it reads /etc/passwd: " + string(read.Kind), err
	}
}

// permit permits the guest agent temporarily and waits until it answers.
func (r *restoring) permit(ctx context.Context, p *runs.Progress) (string, error) {
	id := r.instance.CloudID
	err := r.closings.Open(
		ctx,
		r.run,
		closing.Agent,
		"the guest agent's permission",
		map[string]string{"instance": id},
		restore.AgentOpenFor,
		func(string) error {
			return r.cloud.PermitAgent(ctx, id, true)
		},
	)
	if err != nil {
		return "", err
	}
	return "the guest agent answers", r.awaitAgent(ctx, id)
}

// awaitAgent returns an error that passes while an agent has not registered.
func (r *restoring) awaitAgent(ctx context.Context, id string) error {
	state, err := r.cloud.Agent(ctx, id)
	switch {
	case err != nil:
		return fleet.Calling(err)
	case state == cloud.AgentReady:
		return nil
	case state == cloud.AgentAbsent:
		return errors.New("there is no guest agent in the image")
	}
	return runs.Temporary(fmt.Errorf("the guest agent is %s", strings.ReplaceAll(string(state), "-", " ")))
}

func (r *restoring) takeBackThroughAgent(
	ctx context.Context, p *runs.Progress, k record.Key, l record.LoginToSweep,
) error {
	state, err := r.cloud.Agent(ctx, l.Instance.CloudID)
	if err != nil {
		return err
	}
	opened, err := r.openForUndo(ctx, closing.Agent)
	if err != nil {
		return err
	}
	if state == cloud.AgentReady && !opened {
		return r.lineOut(ctx, p, k, l, byAgent)
	}
	permit := func(string) error { return r.cloud.PermitAgent(ctx, l.Instance.CloudID, true) }
	return r.again(
		ctx,
		closing.Agent,
		"the guest agent's permission",
		map[string]string{"instance": l.Instance.CloudID},
		permit,
		func() error {
			if err := r.awaitAgent(ctx, l.Instance.CloudID); err != nil {
				return err
			}
			return r.lineOut(ctx, p, k, l, byAgent)
		},
	)
}
