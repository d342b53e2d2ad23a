package settle

import (
	"testing"

	"plumlatch/internal/runs/runstest"
)

func FuzzSettlePayload(f *testing.F) { runstest.FuzzPayload(f, settleWork{}) }
