package replace

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzRotationPayload(f *testing.F) { runstest.FuzzPayload(f, Work{Proved: true}) }
