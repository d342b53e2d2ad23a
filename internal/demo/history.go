package demo

import (
	"context"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/access"
	"plumlatch/internal/store"
)

const (
	// kept is how many days of history the sample has.
	kept = 90
	// provedEvery is how often, in days, a holder who proves keys did so before.
	provedEvery = 28
	// gone is how many days ago tomas left, who alone had the key of a tide gauge.
	gone = 60
)

// history writes down what the reach of each login was on each day, as the sample's launches, proofs and leavings would
// have made it. Each holder is taken to have proved their keys every four weeks before the last time that is recorded.
func (l *Loader) history(ctx context.Context) error {
	w, err := l.Service.Access.World(ctx, record.ReachFilter{})
	if err != nil {
		return err
	}
	step := 1
	if len(w.Logins) > 2000 {
		step = 10 // a fleet for load tests
	}
	// Who looked at a login has seen some key there, or none where one should be.
	swept := make([]bool, len(w.Logins))
	for _, p := range w.Input.Pairs {
		swept[p.Login] = swept[p.Login] || p.Sighting != reach.NeverLooked
	}
	for back := kept; back >= 0; back -= step {
		at := l.Now.AddDate(0, 0, -back)
		in := w.Input
		in.Now, in.Swept = at, swept
		in.Keys = make([]reach.Key, len(w.Input.Keys))
		for n, k := range w.Input.Keys {
			k.Proved, k.OtherProved = before(k.Proved, at), before(k.OtherProved, at)
			if w.Keys[n].Holder == nil && w.Keys[n].HolderName != nil && back > gone && w.Keys[n].State != custody.Lost {
				k.Holder, k.Proved = w.HolderPlace(w.Keys[n].ID), at
			}
			in.Keys[n] = k
		}
		in.Pairs = make([]reach.Pair, len(w.Input.Pairs))
		for n, p := range w.Input.Pairs {
			p.Entered, p.OtherEntered = before(p.Entered, at), before(p.OtherEntered, at)
			in.Pairs[n] = p
		}
		var logins []record.ReachLogin
		var standings []reach.Standing
		for n, st := range reach.Standings(in) {
			if born := l.born[w.Logins[n].ID]; !born.After(at) {
				logins, standings = append(logins, w.Logins[n]), append(standings, st)
			}
		}
		if err := l.Store.InTx(ctx, func(tx *store.Store) error {
			return access.KeepReach(ctx, tx, logins, standings, at)
		}); err != nil {
			return err
		}
	}
	return nil
}

// before is the last of a row of proofs that was at a time; the zero time where there was none.
func before(proved, at time.Time) time.Time {
	if proved.IsZero() {
		return proved
	}
	for proved.After(at) {
		proved = proved.AddDate(0, 0, -provedEvery)
	}
	return proved
}

// births are when logins came to be.
type births map[uuid.UUID]time.Time
