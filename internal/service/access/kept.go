package access

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// KeepReach keeps how the reach of logins is now, so that it can be told later how it developed.
func KeepReach(
	ctx context.Context, tx *store.Store, logins []record.ReachLogin, standings []reach.Standing, at time.Time,
) error {
	before, err := tx.KeptReach(ctx)
	if err != nil {
		return err
	}
	changed := map[uuid.UUID]reach.State{}
	for n, l := range logins {
		if before[l.ID] != standings[n].State {
			changed[l.ID] = standings[n].State
		}
		delete(before, l.ID)
	}
	for id := range before {
		changed[id] = "" // gone
	}
	return tx.KeepReach(ctx, changed, at)
}
