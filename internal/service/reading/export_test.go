package reading

import "plumlatch/internal/core/reading"

// What the tests of this package reach.
const (
	SweepAsBefore   = reading.AsBefore
	SweepBatch      = sweepBatch
	SweepBatchAgain = sweepBatchAgain
	SweepChanged    = reading.Changed
	SweepFailed     = reading.Failed
)
