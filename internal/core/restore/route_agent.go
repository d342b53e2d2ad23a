package restore

// GuestAgent places the line as root through the cloud's agent in the guest.
const GuestAgent Route = "guest-agent"

var guestAgentWay = Way{
	Route:   GuestAgent,
	Title:   "Guest agent",
	Summary: "The cloud's agent in the guest places the line as root",
	Judge:   Facts.judgeAgent,
	Bring: func(p Plan) []Step {
		if p.Permits {
			return []Step{Permit, Place, Ask, Forbid}
		}
		return []Step{Place, Ask}
	},
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
