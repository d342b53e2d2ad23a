package rotation

import "testing"

func TestARotationPausesWhereSomebodyHasToDecide(t *testing.T) {
	for name, c := range map[string]struct {
		tally     Tally
		stopAfter int
		why       PauseWhy
		logins    int
	}{
		"nothing failed":                    {Tally{Left: 3}, 1, NoPause, 0},
		"fewer failed than allowed":         {Tally{Left: 3, Failed: 4}, 5, NoPause, 0},
		"as many as allowed":                {Tally{Left: 3, Failed: 5}, 5, ManyFailed, 5},
		"any number may fail":               {Tally{Left: 3, Failed: 500}, 0, NoPause, 0},
		"one of the first group failed":     {Tally{Left: 3, Failed: 1, GroupFailed: 1}, 0, GroupFailed, 1},
		"the first group was taken back":    {Tally{Left: 3, GroupUndone: 2}, 0, GroupUndone, 2},
		"failed counts before taken back":   {Tally{Left: 3, Failed: 1, GroupFailed: 1, GroupUndone: 2}, 0, GroupFailed, 1},
		"the limit counts before the group": {Tally{Left: 3, Failed: 2, GroupFailed: 1}, 2, ManyFailed, 2},
		"the first group is done":           {Tally{Left: 3, Group: 2, GroupDone: 2}, 0, GroupDone, 2},
		"the first group is at work":        {Tally{Left: 3, Group: 2, GroupDone: 1}, 0, NoPause, 0},
		"the rest needs no word":            {Tally{Left: 3, GroupDone: 2}, 0, NoPause, 0},
		"nothing is left, so it ends":       {Tally{Failed: 9, GroupFailed: 1}, 1, NoPause, 0},
	} {
		if why, n := Pause(c.tally, c.stopAfter); why != c.why || n != c.logins {
			t.Errorf("%s: %q about %d, want %q about %d", name, why, n, c.why, c.logins)
		}
	}
}
