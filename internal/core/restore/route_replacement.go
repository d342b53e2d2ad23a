package restore

import (
	"fmt"
	"time"
)

// Replacement launches another instance from an image of this one.
const Replacement Route = "replacement"

var replacementWay = Way{
	Route:   Replacement,
	Title:   "Replacement",
	Summary: "Another instance is launched from an image of this one and takes its place",
	Windows: true,
	Judge:   Facts.judgeReplacement,
	Bring: func(p Plan) []Step {
		var out []Step
		if p.StopFirst {
			out = append(out, StopIt)
		}
		out = append(out, Image, LaunchNew)
		if p.Checks {
			out = append(out, Check)
		}
		return append(out, Ask)
	},
	Last: func(p Plan) []Step {
		var out []Step
		if p.Static {
			out = append(out, MoveAddress)
		}
		if !p.StopFirst {
			out = append(out, StopOld)
		}
		return out
	},
	Replaces: true,
}

func (f Facts) judgeReplacement(o *Option) {
	o.Undo = "until it has ended: the address moves back and the new instance is deleted. The old one is stopped, " +
		"not deleted, " +
		"so that it can be started again"
	if !f.Can.Snapshots || !f.Can.Launch {
		o.miss("the cloud has no call that makes an image of an instance", "")
	}
	if f.Disk.Encrypted {
		o.miss("its disk is encrypted with a key of the owner's, so no image is made of it", "Take another route")
	}
	if !f.State.Settled() {
		o.miss("it is "+string(f.State), "Wait until it runs or has stopped: plumlatch instance show "+f.Instance)
	}
	f.spend(&o.Cost, Copy, Launch, Stop)
	o.NewIdentity = true
	o.Changes = append(o.Changes, "another instance with new host keys and another private address")
	o.Loses = append(o.Loses, "writes between the image and the switch, unless it is stopped first")
	if f.TemporaryGiB > 0 {
		o.Loses = append(o.Loses, fmt.Sprintf("the temporary disk (%d GiB): the new one is empty", f.TemporaryGiB))
	}
	switch {
	case !f.Static:
		o.NewAddress = true
		o.Changes = append(o.Changes, "another public address"+instead(f.PublicAddress))
	case !f.Can.Addresses:
		o.Agree = append(o.Agree, "you move the static address by hand when the run asks for it")
		o.Downtime = 2 * time.Minute
	default:
		o.Downtime = time.Second
	}
}
