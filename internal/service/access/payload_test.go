package access

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzGrantPayload(f *testing.F) { runstest.FuzzPayload(f, grantWork{Worker: "ines", Added: true}) }
