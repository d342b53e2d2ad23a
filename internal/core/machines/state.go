package machines

// State is what a machine is doing, as its cloud says or as was asked of the cloud.
type State string

// The states.
const (
	Launching State = "launching"
	Running   State = "running"
	Stopping  State = "stopping"
	Stopped   State = "stopped"
	Starting  State = "starting"
	Deleting  State = "deleting"
	Deleted   State = "deleted"
	Failed    State = "failed"
)

// Settled reports whether the machine runs or has stopped, and is on its way to neither.
func (s State) Settled() bool { return s == Running || s == Stopped }
