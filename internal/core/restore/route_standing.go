package restore

import (
	"strings"
	"time"
)

// StandingKey has whoever holds another key in place put the new line beside it.
const StandingKey Route = "standing-key"

var standingKeyWay = Way{
	Route:   StandingKey,
	Title:   "Key in place",
	Summary: "Another key in place lets somebody in, who places the new line beside it",
	Adopted: true,
	Windows: true,
	Judge:   Facts.judgeStanding,
	Bring:   func(Plan) []Step { return []Step{Place, Ask} },
}

func (f Facts) judgeStanding(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case f.Steward: // nobody needs to be asked
	case len(f.Holders) > 0:
		var who []string
		for _, h := range f.Holders {
			with := h.Key
			if h.Certifies {
				with = "a certificate of " + h.Key
			}
			who = append(who, h.Holder+" (with "+with+")")
		}
		o.Agree = append(o.Agree, strings.Join(who, " or ")+" places the line from their machine")
		o.Expected += 10 * time.Minute // somebody has to be found
		o.Measured = false
	default:
		o.miss(
			"no other key is in place there that somebody has freshly proved, and no steward key",
			"If somebody has one: plumlatch prove "+f.Login+" -with FILE",
		)
	}
}
