package runs

import (
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// PayloadVersion is that of all payloads. A field may be added without another one; a field that
// gets another meaning needs it, and a way to read the one before.
const PayloadVersion = 1

// ErrKind is wrapped by the error of a run whose kind nobody has registered.
var ErrKind = errors.New("this version does not know runs of this kind")

// Register has the runs of a kind go by the planner; to be called before Start. The package that
// a kind belongs to registers it, so that no list of all kinds is needed.
func (e *Engine) Register(kind string, plan Planner) {
	if e.planners[kind] != nil {
		panic("runs: the kind " + kind + " is registered twice")
	}
	e.planners[kind] = plan
}

// planOf gives the plan of a run.
func (e *Engine) planOf(run record.Run) (Plan, error) {
	planner := e.planners[run.Kind]
	if planner == nil {
		return Plan{}, fmt.Errorf("%w: %s", ErrKind, run.Kind)
	}
	plan, err := planner(run)
	if err == nil && e.StepHook != nil {
		for n, step := range plan.Steps {
			plan.Steps[n] = e.StepHook(run, step)
		}
	}
	return plan, err
}

// Request says which run will be made.
type Request struct {
	Kind     string
	Instance record.Instance
	// By is who asks for it, Reason why.
	By, Reason string
	Payload    any
	At         time.Time
}

// NewRun makes a run with its steps as they will be shown, which may depend on the payload. It is
// the caller's to keep it. It panics where the kind is not registered or the payload is not the kind's.
func (e *Engine) NewRun(r Request) record.Run {
	payload, err := Encode(r.Payload)
	if err != nil {
		panic(err)
	}
	run := record.Run{
		ID:             uuid.Must(uuid.NewV7()),
		Kind:           r.Kind,
		InstanceID:     r.Instance.ID,
		Instance:       r.Instance,
		State:          Queued,
		Version:        1,
		RequestedBy:    r.By,
		Reason:         r.Reason,
		Payload:        payload,
		PayloadVersion: PayloadVersion,
		CreatedAt:      r.At.Truncate(time.Microsecond),
	}
	plan, err := e.planOf(run)
	if err != nil {
		panic(err)
	}
	for seq, step := range plan.Steps {
		run.Steps = append(run.Steps, record.RunStep{
			RunID:  run.ID,
			Seq:    seq,
			Name:   step.Name,
			Title:  step.Title,
			State:  StepWaiting,
			Intent: step.Intent,
			Undo:   step.UndoIntent,
		})
	}
	return run
}

// PayloadOf reads the payload of a run. Those from before there were payloads are read by
// earlier.
func PayloadOf[T any](run record.Run, earlier func(facts map[string]string) (T, error)) (*T, error) {
	if run.PayloadVersion > 0 {
		return Decode[T](run, PayloadVersion)
	}
	w, err := earlier(run.Facts)
	return &w, err
}

// NoEarlier is for kinds whose runs from before payloads are not resumed.
func NoEarlier[T any](map[string]string) (w T, err error) { return w, ErrPayload }
