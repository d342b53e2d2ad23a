package restore

// BrowserShell places the line in a short session through the cloud.
const BrowserShell Route = "browser-shell"

var browserShellWay = Way{
	Route:   BrowserShell,
	Title:   "Browser shell",
	Summary: "A short session through the cloud places the line",
	Judge:   Facts.judgeShell,
	Bring: func(p Plan) []Step {
		if p.Opens {
			return []Step{OpenPort, Place, ClosePort, Ask}
		}
		return []Step{Place, Ask}
	},
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
