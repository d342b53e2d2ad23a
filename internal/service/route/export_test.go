package route

import (
	"context"

	"plumlatch/internal/core/restore"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
)

// What the tests of this package reach.

const (
	ForUndo    = forUndo
	MaxHelpers = maxHelpers
)

// StepsIn are the steps of the restore that a run is.
func StepsIn(run record.Run) ([]restore.Step, error) {
	w, err := WorkOf(run)
	if err != nil {
		return nil, err
	}
	return must(w.Route).Steps(w.plan()), nil
}

// Undoes reports whether the step of a route has an undo.
func Undoes(s *Service, name restore.Route, step restore.Step) bool {
	r := &restoring{Service: s, route: s.Route(name), work: &Work{}}
	return r.steps()[step].Undo != nil
}

// Pigeon is a ninth way back in: all that another one takes is a value of core's and a value here.
const Pigeon restore.Route = "carrier-pigeon"

const fly restore.Step = "fly"

// AddPigeon adds the ninth way to those of the service. flown is called in its own step.
func AddPigeon(s *Service, flown func()) {
	pigeon := Route{
		Way: restore.Way{
			Route:   Pigeon,
			Title:   "Carrier pigeon",
			Summary: "A pigeon takes the line there",
			Judge:   func(_ restore.Facts, o *restore.Option) { o.Undo = "wholly" },
			Bring:   func(restore.Plan) []restore.Step { return []restore.Step{fly, restore.Place, restore.Ask} },
		},
		by: func(*restoring) string { return "by the pigeon" },
		steps: func(*restoring) map[restore.Step]runs.Step {
			return map[restore.Step]runs.Step{fly: {
				Title:  "Fly",
				Intent: "Send the pigeon",
				Do: func(context.Context, *runs.Progress) (string, error) {
					flown()
					return "it is there", nil
				},
			}}
		},
		rehearse: func(*Service, Rehearsing) (string, func(context.Context) (string, error)) {
			return "the pigeon", func(context.Context) (string, error) { return "it coos", nil }
		},
		place: func(
			ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep,
		) (string, error) {
			return r.placeBy(ctx, p, k, l, bySteward)
		},
		takeBack: func(ctx context.Context, r *restoring, p *runs.Progress, k record.Key, l record.LoginToSweep) error {
			return r.lineOut(ctx, p, k, l, bySteward)
		},
	}
	s.routes = append(s.routes[:len(s.routes):len(s.routes)], pigeon)
	s.Ways = waysOf(s.routes)
}
