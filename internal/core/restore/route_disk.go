package restore

import "plumlatch/internal/core/machines"

// HelperDisk edits the root disk while it is attached to another instance.
const HelperDisk Route = "helper-disk"

var helperDiskWay = Way{
	Route:   HelperDisk,
	Title:   "Helper disk",
	Summary: "The root disk is moved to a helper, edited there, and moved back",
	Judge:   Facts.judgeHelper,
	Bring: func(Plan) []Step {
		return []Step{Helper, StopIt, DetachRoot, Lend, Mount, Place, Unmount, Fetch, Reattach, StartIt, Ask, DropHelper}
	},
}

func (f Facts) judgeHelper(o *Option) {
	o.Undo = "completely, until somebody has logged in with the new key; but what a stop costs is not undone"
	switch {
	case !f.Can.Disks:
		o.miss("the cloud has no call that moves disks", "")
		return
	case !f.Disk.Known:
		o.miss("the cloud names no root disk of it", "")
		return
	case !f.Can.Launch || !f.Can.Agent || f.HelperImage == "":
		o.miss("there is no image with a guest agent to make a helper of", "")
	}
	if f.Disk.Encrypted {
		o.miss("its disk is encrypted with a key of the owner's, so a helper cannot read it", "Take another route")
	}
	if f.Disk.Shared {
		o.miss("its disk is attached to another instance as well, which would see it change", "Detach it there first")
	}
	if !f.State.Settled() {
		o.miss("it is "+string(f.State), "Wait until it runs or has stopped: plumlatch instance show "+f.Instance)
	}
	f.spend(&o.Cost, Launch, Agent)
	down := f.spend(&o.Cost, Stop, Detach, Attach, Detach, Attach, Start) + editing
	if f.State == machines.Running {
		o.Stops, o.Downtime = true, down
		f.stopCosts(o)
		if !f.Can.StartStop {
			o.Agree = append(o.Agree, "you stop and start it by hand when the run asks for it")
		}
	}
}
