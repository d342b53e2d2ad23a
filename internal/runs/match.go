package runs

import (
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/record"
)

// MismatchError tells that a run was begun with steps that this version cannot continue from.
type MismatchError struct {
	// Why says what does not fit.
	Why string
	// Done are the steps that were begun, with how to undo each by hand; Left are those
	// that were not.
	Done, Left []string
}

func (e *MismatchError) Error() string {
	text := "this version cannot continue with the run: " + e.Why
	if len(e.Done) > 0 {
		text += ". Begun: " + strings.Join(e.Done, "; ")
	}
	if len(e.Left) > 0 {
		text += ". Not begun: " + strings.Join(e.Left, "; ")
	}
	return text
}

func begun(s record.RunStep) bool { return s.State != StepWaiting }

// match brings the steps of a run, as they were written down when it was made, together with
// those of the plan as it is now, by their names. It returns the run's steps in the order of the
// plan. A step that was inserted or renamed after what was begun, and one that was
// removed and had not begun, do no harm; whatever else differs is a *MismatchError.
func match(rows []record.RunStep, plan []Step) ([]record.RunStep, error) {
	fail := func(format string, args ...any) ([]record.RunStep, error) {
		e := &MismatchError{Why: fmt.Sprintf(format, args...)}
		for _, r := range rows {
			switch {
			case !begun(r):
				e.Left = append(e.Left, r.Title)
			case r.Undo != "" && r.State != StepUndone:
				e.Done = append(e.Done, fmt.Sprintf("%s (%s; to undo it: %s)", r.Title, r.State, r.Undo))
			default:
				e.Done = append(e.Done, fmt.Sprintf("%s (%s)", r.Title, r.State))
			}
		}
		return nil, e
	}
	used := make([]bool, len(rows))
	out := make([]record.RunStep, len(plan))
	for n, step := range plan {
		at := slices.IndexFunc(
			rows,
			func(r record.RunStep) bool { return r.Name == step.Name || slices.Contains(step.Was, r.Name) },
		)
		if at < 0 {
			out[n] = record.RunStep{
				Name:   step.Name,
				Title:  step.Title,
				State:  StepWaiting,
				Intent: step.Intent,
				Undo:   step.UndoIntent,
			}
			continue
		}
		if used[at] {
			return fail("it has the step %q twice", step.Name)
		}
		used[at], out[n] = true, rows[at]
		out[n].Name = step.Name
	}
	for n, r := range rows {
		if !used[n] && begun(r) {
			return fail("it has begun the step %q, which no longer exists", r.Name)
		}
	}
	frontier := false // a step that has not begun was seen
	for _, r := range out {
		if !begun(r) {
			frontier = true
		} else if frontier {
			return fail("it has begun the step %q, and one that comes before it now was not begun", r.Name)
		}
	}
	for n := range out {
		out[n].Seq = n
	}
	return out, nil
}

// same reports whether the steps are those that are written down.
func same(rows, matched []record.RunStep) bool {
	return slices.EqualFunc(rows, matched, func(a, b record.RunStep) bool { return a.Seq == b.Seq && a.Name == b.Name })
}
