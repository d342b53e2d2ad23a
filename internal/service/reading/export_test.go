package reading

// What the tests of this package reach.
const (
	SweepAsBefore   = sweepAsBefore
	SweepBatch      = sweepBatch
	SweepBatchAgain = sweepBatchAgain
	SweepChanged    = sweepChanged
	SweepFailed     = sweepFailed
)
