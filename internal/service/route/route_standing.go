package route

import (
	"context"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/reading"
)

// standingKey has the steward key, or whoever holds another key in place, put the new line beside it.
var standingKey = Route{
	Way: must(restore.StandingKey),
	by: func(r *restoring) string {
		if !r.work.Steward {
			return "from the machine of somebody whose key is in place there"
		}
		return "by the steward key"
	},
	prepare: func(_ context.Context, _ *Service, b *Beginning) error {
		b.Work.Steward = b.Facts.Steward
		return nil
	},
	rehearse: rehearseStanding,
	place: func(
		ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
	) (string, error) {
		if r.work.Steward {
			return r.placeBy(ctx, p, k, l, bySteward)
		}
		return r.placedElsewhere(ctx, k, l, func(what, _ string) error {
			return r.waitFor(strings.Join(r.work.Holders, " or "), what)
		})
	},
	takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
		if r.work.Steward {
			return r.lineOut(ctx, p, k, l, bySteward)
		}
		return r.tellOfLine(ctx, p, k, l)
	},
}

func rehearseStanding(s *Service, c Rehearsing) (string, func(context.Context) (string, error)) {
	if !c.Facts.Steward {
		return "a proof that is fresh", func(context.Context) (string, error) { return c.Option.Agree[0], nil }
	}
	return "a login with the steward key, which reads the file", func(ctx context.Context) (string, error) {
		found, err := s.store.LoginsToSweep(ctx, []uuid.UUID{c.Login.ID})
		if err != nil {
			return "", err
		}
		session, end, err := s.reading.StewardSession(ctx, found[0])
		if err != nil {
			return "", err
		}
		defer end()
		read, err := reading.ReadFiles(ctx, session)
		return fmt.Sprintf("it completes, and reads %s", text.Counted(len(read.Files), "file")), err
	}
}
