package people

// What the tests of this package reach.
const (
	FactorStep    = factorStep
	FreeGuesses   = freeGuesses
	LongestWait   = longestWait
	RecoveryCodes = recoveryCodes
)
