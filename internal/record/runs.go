package record

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// RunState is a state of a run; internal/runs has them.
type RunState string

// StepState is a state of a step of a run; internal/runs has them.
type StepState string

// Run is a change in progress or ended.
type Run struct {
	ID          uuid.UUID
	Kind        string
	InstanceID  uuid.UUID
	Instance    Instance
	State       RunState
	Version     int64
	RequestedBy string
	Reason      string
	// Payload is what it works on and what its steps have left, in a form of its kind and
	// PayloadVersion. Facts is that of the version 0.
	Payload        json.RawMessage `gorm:"type:jsonb;serializer:json"`
	PayloadVersion int
	Facts          map[string]string `gorm:"serializer:json"`
	CreatedAt      time.Time
	EndedAt        *time.Time
	Error          string
	// Epoch is raised by whoever takes the run.
	Epoch   int64
	TakenAt *time.Time
	// CommittedAt is when it came to its point of no return.
	CommittedAt *time.Time
	UndoAskedAt *time.Time
	UndoWhy     string
	// Waits is what it waits for from somebody; nil for nothing.
	Waits *Waits `gorm:"serializer:json"`
	// Reports are what somebody outside the service has reported of its steps, by name.
	Reports map[string]Report `gorm:"serializer:json"`
	Steps   []RunStep
}

// Waits is what a run waits for from somebody.
type Waits struct {
	// Step is its name; Undo is whether it waits in the step's undo.
	Step string `json:"step"`
	Undo bool   `json:"undo,omitempty"`
	// Who is to do What; Next is the command that does it, "" where there is none.
	Who  string `json:"who"`
	What string `json:"what"`
	Next string `json:"next,omitempty"`
	// ByHand is whether it will be done outside of this product.
	ByHand bool      `json:"by_hand,omitempty"`
	Since  time.Time `json:"since"`
}

// Report is what somebody outside the service reported of a step.
type Report struct {
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Outcome string    `json:"outcome,omitempty"`
	Error   string    `json:"error,omitempty"`
}

// RunStep is one step of a run.
type RunStep struct {
	RunID     uuid.UUID
	Seq       int
	Name      string
	Title     string
	State     StepState
	Intent    string
	Undo      string
	Outcome   string
	Percent   int
	StartedAt *time.Time
	EndedAt   *time.Time
}

// RunFilter narrows a list of runs; empty fields do not.
type RunFilter struct {
	Kind, State, Instance string
	// Meant is an id or the beginning of one, or the name of an instance or a login.
	Meant string
}

// Sentence says in words what is waited for.
func (w Waits) Sentence() string {
	by := ""
	if w.ByHand {
		by = " by hand"
	}
	return "waits for " + w.Who + " " + w.What + by
}

// StepTime is the median time of a step in the runs of a kind, in seconds. Size is the
// median size of the disks of those runs in GiB, 0 where they have none.
type StepTime struct {
	Kind, Name    string
	Seconds, Size float64
}
