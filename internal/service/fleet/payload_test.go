package fleet

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzLifecyclePayload(f *testing.F) { runstest.FuzzPayload(f, lifecycleWork{}) }
