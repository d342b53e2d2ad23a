package rotate

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

func rotateGoals(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	older := kit.Days(180)
	f.Var(&older, "older", "from what `age` on a key is old, such as 180d")
	weaker := f.String("weaker-than", "rsa3072", "the `strength` under which a key is weak")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		goals, err := kit.Answer[[]apiclient.RotationGoal](client.ListRotationGoals(
			ctx, &apiclient.ListRotationGoalsParams{OlderDays: new(int(older)), WeakerThan: weaker},
		))
		if err != nil {
			return err
		}
		words := map[apiclient.RotationGoalName][2]string{
			apiclient.RotationGoalNameOld: {
				fmt.Sprintf("renew keys older than %d days", int(older)), fmt.Sprintf("-older %dd", int(older)),
			},
			apiclient.RotationGoalNameWeak:   {"replace keys weaker than " + *weaker, "-weaker-than " + *weaker},
			apiclient.RotationGoalNameShared: {"end sharing", "-shared -each instance"},
			apiclient.RotationGoalNameLost:   {"replace lost keys", "-lost -urgent"},
		}
		return kit.Listing[apiclient.RotationGoal]{
			Head:  []string{"GOAL", "KEYS", "KEY LINES", "PREVIEW IT"},
			Whole: []string{"PREVIEW IT"},
			Name:  func(g apiclient.RotationGoal) string { return string(g.Goal) },
			Cells: func(g apiclient.RotationGoal) []string {
				next := ""
				if g.Keys > 0 {
					next = "plumlatch rotate plan " + words[g.Goal][1]
				}
				return []string{words[g.Goal][0], strconv.Itoa(g.Keys), strconv.Itoa(g.Lines), next}
			},
		}.Show(s, goals, len(goals))
	}
}
