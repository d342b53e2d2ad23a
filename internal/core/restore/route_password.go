package restore

import (
	"time"
)

// Password logs in with the password once, and turns password login off after.
const Password Route = "password"

var passwordWay = Way{
	Route:   Password,
	Title:   "Password",
	Summary: "A login with the password places the line; password login is turned off after",
	Adopted: true,
	Judge:   Facts.judgePassword,
	Bring:   func(Plan) []Step { return []Step{Place, Ask} },
	Then:    func(Plan) []Step { return []Step{PasswordOff} },
}

func (f Facts) judgePassword(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch f.Passwords {
	case Yes:
		o.Agree = append(o.Agree, "a person who knows the password types it on their machine")
		o.Changes = append(o.Changes, "password login is off afterwards")
		o.Expected += time.Minute
		o.Measured = false
	case No:
		o.miss("the SSH server takes no passwords", "")
	default:
		o.miss("it is not known whether the SSH server takes passwords", "See that it answers: plumlatch why "+f.Instance)
	}
}
