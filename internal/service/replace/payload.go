package replace

import (
	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/means"
)

// Work is the payload of the run that replaces one key in one login.
type Work struct {
	Rotation uuid.UUID      `json:"rotation"`
	Item     uuid.UUID      `json:"item"`
	Login    uuid.UUID      `json:"login"`
	Old      uuid.UUID      `json:"old"`
	New      uuid.UUID      `json:"new"`
	OldName  string         `json:"old_name"`
	NewName  string         `json:"new_name"`
	Phase    rotation.Phase `json:"phase"`
	// Means is by what the files are changed.
	Means Means `json:"means"`
	// Kept is whether the service has the new key's private key.
	Kept bool `json:"kept,omitempty"`
	// Worker is who changes the lines from their own machine; "" for the service.
	Worker string `json:"worker,omitempty"`
	// Override has the old line go without a login by the new key.
	Override *Override `json:"override,omitempty"`
	// Proved is whether the new key was shown to open the login before this run.
	Proved  bool          `json:"proved,omitempty"`
	Journal means.Journal `json:"journal"`
}

// Override is who has taken on that a line goes without a login, and why.
type Override struct {
	By     string `json:"by"`
	Reason string `json:"reason"`
}

func (o *Override) String() string { return o.By + ": " + o.Reason }

func (w *Work) names() string { return w.OldName + " by " + w.NewName }
