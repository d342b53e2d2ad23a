package restore

import (
	"fmt"
	"strings"
	"time"
)

// took returns what an operation needs, and whether that was measured.
func (f Facts) took(op Operation) (time.Duration, bool) {
	if d, known := f.Took[op]; known {
		return d, true
	}
	return assumed[op], false
}

// spend adds what operations need to the expected time.
func (f Facts) spend(c *Cost, ops ...Operation) (sum time.Duration) {
	for _, op := range ops {
		d, measured := f.took(op)
		if op == Copy {
			d *= time.Duration(max(f.Disk.GiB, 1))
		}
		sum += d
		c.Measured = c.Measured && measured
	}
	c.Expected += sum
	return sum
}

// judge says what a route needs and costs for this login.
func (f Facts) judge(r Route) Option {
	o := Option{Route: r, Cost: Cost{Expected: editing, Measured: true}}
	if f.Adopted && r != StandingKey && r != Password {
		o.miss(
			"it was adopted, so no cloud is asked about it",
			"Where it runs, use what its own cloud offers, and then: plumlatch sweep "+f.Instance+" -with FILE",
		)
		return o
	}
	if f.Windows && r != StandingKey && r != WindowsPassword && r != Replacement {
		o.miss("on Windows no line is placed this way", "Take the route "+string(WindowsPassword)+" or "+string(Replacement))
		return o
	}
	switch r {
	case StandingKey:
		f.judgeStanding(&o)
	case GuestAgent:
		f.judgeAgent(&o)
	case MetadataKeys:
		f.judgeMetadata(&o)
	case BrowserShell:
		f.judgeShell(&o)
	case Password:
		f.judgePassword(&o)
	case HelperDisk:
		f.judgeHelper(&o)
	case Replacement:
		f.judgeReplacement(&o)
	case WindowsPassword:
		f.judgeWindows(&o)
	}
	return o
}

func (o *Option) miss(what, remedy string) { o.Missing = append(o.Missing, Missing{what, remedy}) }

// running notes that a route needs the instance to run.
func (f Facts) running(o *Option) {
	if f.State != "running" {
		o.miss("it is "+f.State+", and has to run", "plumlatch instance start "+f.Instance)
	}
}

const undoLine = "wholly, until somebody has logged in with the new key: the new line goes again"

func (f Facts) judgeStanding(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case f.Steward: // nobody needs to be asked
	case len(f.Holders) > 0:
		var who []string
		for _, h := range f.Holders {
			who = append(who, h.Keeper+" (with "+h.Key+")")
		}
		o.Agree = append(o.Agree, strings.Join(who, " or ")+" places the line from their machine")
		o.Expected += 10 * time.Minute // somebody has to be found
		o.Measured = false
	default:
		o.miss(
			"no other key stands there that somebody has freshly proved, and no steward key",
			"If somebody holds one: plumlatch prove "+f.Login+" -with FILE",
		)
	}
}

func (f Facts) judgeAgent(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case !f.Can.Agent:
		o.miss("the cloud has no guest agent", "")
	case f.Agent == AgentAbsent:
		o.miss("its image has no guest agent", "Choose an image with one for its next launch")
	case f.Agent == AgentReady: // it is permitted for good, and stays so
	default:
		o.Opens = append(o.Opens, Exposure{"the guest agent's permission", AgentOpenFor})
		f.spend(&o.Cost, Agent)
	}
}

func (f Facts) judgeMetadata(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case !f.Can.Metadata:
		o.miss("the cloud hands no keys to instances", "")
	case !f.MetadataImage:
		o.miss("no process in its image takes keys from the cloud", "Choose an image with one for its next launch")
	default:
		o.Expected += 10 * time.Second // until the process has looked
		o.Stays = append(o.Stays, "the entry in the instance's metadata: without it the process takes the line out again")
	}
}

func (f Facts) judgeShell(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case !f.Can.Shell:
		o.miss("the cloud has no browser shell", "")
	case !f.ShellImage:
		o.miss("its image lets no browser shell in", "Choose an image that does for its next launch")
	case f.ShellAdmitted:
	case !f.Can.Firewall:
		o.miss("the cloud has no call for firewall rules, so what is opened could not be closed by itself", "")
	default:
		o.Opens = append(o.Opens, Exposure{"the SSH port to the cloud's own " + f.ShellRange, ShellOpenFor})
	}
}

func (f Facts) judgePassword(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch f.Passwords {
	case Yes:
		o.Agree = append(o.Agree, "whoever knows the password types it on their machine")
		o.Changes = append(o.Changes, "password login is off afterwards")
		o.Expected += time.Minute
		o.Measured = false
	case No:
		o.miss("the SSH server takes no passwords", "")
	default:
		o.miss("it is not known whether the SSH server takes passwords", "See that it answers: plumlatch why "+f.Instance)
	}
}

// address notes what a stop does to the public address, and to temporary disks.
func (f Facts) stopCosts(o *Option) {
	if !f.Static {
		o.NewAddress = true
		o.Changes = append(o.Changes, "another public address"+instead(f.PublicAddress))
	}
	if f.TemporaryGiB > 0 {
		o.Loses = append(o.Loses, fmt.Sprintf("the temporary disk (%d GiB)", f.TemporaryGiB))
	}
}

func instead(address string) string {
	if address == "" {
		return ""
	}
	return " instead of " + address
}

func (f Facts) judgeHelper(o *Option) {
	o.Undo = "wholly, until somebody has logged in with the new key; but what a stop costs is not undone"
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
	if f.State != "running" && f.State != "stopped" {
		o.miss("it is "+f.State, "Wait until it runs or has stopped: plumlatch instance show "+f.Instance)
	}
	f.spend(&o.Cost, Launch, Agent)
	down := f.spend(&o.Cost, Stop, Detach, Attach, Detach, Attach, Start) + editing
	if f.State == "running" {
		o.Stops, o.Downtime = true, down
		f.stopCosts(o)
		if !f.Can.StartStop {
			o.Agree = append(o.Agree, "you stop and start it by hand when the run asks for it")
		}
	}
}

func (f Facts) judgeReplacement(o *Option) {
	o.Undo = "until it is over: the address goes back and the new instance is ended. The old one is stopped, not ended, " +
		"so that it can be started again"
	if !f.Can.Snapshots || !f.Can.Launch {
		o.miss("the cloud has no call that makes an image of an instance", "")
	}
	if f.Disk.Encrypted {
		o.miss("its disk is encrypted with a key of the owner's, so no image is made of it", "Take another route")
	}
	if f.State != "running" && f.State != "stopped" {
		o.miss("it is "+f.State, "Wait until it runs or has stopped: plumlatch instance show "+f.Instance)
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

func (f Facts) judgeWindows(o *Option) {
	o.Undo = "not at all once the password is set: the one of before is gone"
	f.running(o)
	switch {
	case !f.Windows:
		o.miss("it is no Windows instance", "")
		return
	case !f.Can.Passwords || !f.Can.Agent:
		o.miss("the cloud has no call that sets the administrator's password", "")
	case f.Agent == AgentAbsent:
		o.miss("its image has no guest agent", "")
	case f.Agent != AgentReady:
		o.Opens = append(o.Opens, Exposure{"the guest agent's permission", AgentOpenFor})
		f.spend(&o.Cost, Agent)
	}
	if f.RSA == No {
		o.miss("the password is sealed to RSA keys alone, and the new key is none", "plumlatch key new NAME -type rsa")
	}
	o.Changes = append(o.Changes, "the administrator's password of before opens nothing any more")
}
