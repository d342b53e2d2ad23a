package subscribers

import (
	"testing"
	"time"
)

func TestADeliveryIsTriedLessAndLessOftenAndThenGivenUp(t *testing.T) {
	var all time.Duration
	for n, want := range []time.Duration{5, 15, 45, 135, 405, 1215, 3645} {
		after, dead := NextTry(n + 1)
		if after != want*time.Second || dead {
			t.Errorf("after %d attempts: %s, %v, want %s", n+1, after, dead, want*time.Second)
		}
		all += after
	}
	if _, dead := NextTry(8); !dead {
		t.Error("after eight attempts it is tried again")
	}
	if all < 80*time.Minute || all > 100*time.Minute {
		t.Errorf("it is given up after %s, want about an hour and a half", all)
	}
}
