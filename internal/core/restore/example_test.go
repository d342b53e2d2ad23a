package restore_test

import (
	"fmt"

	"plumlatch/internal/core/restore"
)

// The facts of an instance go in; the ways back in come out, the least harmful first.
func ExampleWays_Rank() {
	facts := restore.Facts{
		Login: "debian@tide-gauge-3", Instance: "tide-gauge-3", State: "running",
		Can:   restore.Abilities{Launch: true, Disks: true, StartStop: true, Agent: true},
		Agent: restore.AgentNotPermitted, HelperImage: "debian-12",
		Disk: restore.Disk{Known: true, Device: "/dev/vda", GiB: 10}, Static: true,
	}
	for _, o := range restore.All.Rank(facts, restore.Limits{})[:2] {
		fmt.Println(o.Title, "stops it:", o.Stops)
	}
	// Output:
	// Guest agent stops it: false
	// Helper disk stops it: true
}

// No line of a lost key goes before a login with the new key was completed.
func ExampleWay_Steps() {
	way, _ := restore.All.Of(restore.GuestAgent)
	fmt.Println(way.Steps(restore.Plan{Permits: true, Lost: true}))
	// Output:
	// [look permit-agent place ask forbid-agent enter remove see settle]
}
