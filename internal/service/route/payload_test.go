package route

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzRestorePayload(f *testing.F) { runstest.FuzzPayload(f, Work{Kept: true}) }
