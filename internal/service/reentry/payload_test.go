package reentry

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzRestorePayload(f *testing.F) { runstest.FuzzPayload(f, restoreWork{Kept: true}) }
