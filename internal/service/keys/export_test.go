package keys

// What the tests of this package reach.
const (
	ConsentHolds       = consentHolds
	ProofForForgetting = proofForForgetting
	ReleaseInfo        = releaseInfo
)
