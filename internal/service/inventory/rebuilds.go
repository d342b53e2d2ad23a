package inventory

import (
	"context"
	"fmt"
	"slices"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/reading"
)

// afterRebuilds takes the host keys of instances that their cloud set up anew from its boot output. What opens them is
// read again. One whose boot output shows no host key stays as it is pinned, and is asked again.
func (s *Service) afterRebuilds(ctx context.Context, c record.Cloud) error {
	rebuilt, err := s.store.Rebuilt(ctx, c.ID)
	if err != nil || len(rebuilt) == 0 {
		return err
	}
	can, err := s.clouds.Of(&c.ID).Capabilities(ctx)
	if err != nil || !slices.Contains(can.Capabilities, cloud.CanBootOutput) {
		return err
	}
	var read []string
	for _, one := range rebuilt {
		output, err := s.clouds.Of(&c.ID).BootOutput(ctx, one.Instance.CloudID)
		if err != nil {
			return fmt.Errorf("the boot output of %s, which was set up anew: %w", one.Instance.Name, err)
		}
		keys := cloud.HostKeys(output)
		if len(keys) == 0 {
			s.log.Info("an instance was set up anew and tells no host key", "cloud", c.Name, "instance", one.Instance.Name)
			continue
		}
		err = s.fleet.TakeHostKeys(ctx, one.Instance, keys, fleet.Took{
			By: journal.ByService, Told: "hostkey.pin:rebuilt", Learnt: "cloud boot output",
			Reason: "its cloud set it up anew on " + one.Now.RebuiltAt.UTC().Format("2 Jan 2006 15:04"),
			Change: record.InstanceChange{RebuiltAt: one.Now.RebuiltAt},
		})
		if err != nil {
			return err
		}
		read = append(read, one.Instance.Name)
	}
	if len(read) > 0 { // where this fails, the schedule comes to them
		by := people.Actor{Name: "service", Via: "service", Role: people.Admin}
		_, _ = s.reading.StartSweep(ctx, by, reading.SweepWanted{Instances: read})
	}
	return nil
}
