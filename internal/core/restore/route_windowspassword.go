package restore

// WindowsPassword has the guest agent set a new administrator's password, encrypted to
// an RSA key.
const WindowsPassword Route = "windows-password"

var windowsPasswordWay = Way{
	Route:   WindowsPassword,
	Title:   "Windows password",
	Summary: "The guest agent sets a new administrator's password, encrypted to your RSA key",
	Windows: true,
	Judge:   Facts.judgeWindows,
	Bring: func(p Plan) []Step {
		if p.Permits {
			return []Step{Permit, Reset, Forbid}
		}
		return []Step{Reset}
	},
	Proof:       Open,
	WindowsOnly: true,
	NoLines:     true,
}

func (f Facts) judgeWindows(o *Option) {
	o.Undo = "not once the password is set: the previous one is gone"
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
		o.miss("the password is encrypted to RSA keys alone, and the new key is none", "plumlatch key new NAME -type rsa")
	}
	o.Changes = append(o.Changes, "the administrator's previous password no longer opens anything")
}
