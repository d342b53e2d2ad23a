package reentry

import (
	"context"

	"github.com/google/uuid"

	"plumlatch/internal/core/restore"
)

// What the tests of this package reach.

const (
	ForUndo    = forUndo
	AgentKind  = agentKind
	PortKind   = portKind
	MaxHelpers = maxHelpers
)

func ClosingID(run uuid.UUID, kind string) uuid.UUID { return closingID(run, kind) }

func (s *Service) CloseDue(ctx context.Context) error { return s.closeDue(ctx) }

// StepsIn are the steps of a restore, in their order.
func StepsIn(r Restore) []restore.Step { return restore.Steps(r.work.plan()) }

// Undoes reports whether the step of a route has an undo.
func Undoes(s *Service, route restore.Route, step restore.Step) bool {
	r := &restoring{Service: s, route: route, work: &restoreWork{}}
	return r.steps()[step].Undo != nil
}
