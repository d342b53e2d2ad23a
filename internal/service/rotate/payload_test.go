package rotate

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzRotationPayload(f *testing.F) { runstest.FuzzPayload(f, rotateWork{Proved: true}) }
