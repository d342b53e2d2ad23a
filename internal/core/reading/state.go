package reading

// State is how far the reading of one login in a sweep is, and what came of it.
type State string

// The states. The login's files were found as before, or changed, or could not be read.
const (
	Waiting  State = "waiting"
	AsBefore State = "as before"
	Changed  State = "changed"
	Failed   State = "failed"
)
