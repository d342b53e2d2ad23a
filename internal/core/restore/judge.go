package restore

import (
	"fmt"
	"time"

	"plumlatch/internal/core/machines"
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

// judge says what a way needs and costs for this login.
func (f Facts) judge(w Way) Option {
	o := Option{Route: w.Route, Title: w.Title, Summary: w.Summary}
	o.Cost = Cost{Expected: editing, Measured: true}
	if f.Adopted && !w.Adopted {
		o.miss(
			"it was adopted, so no cloud is asked about it",
			"Where it runs, use what its own cloud offers, and then: plumlatch sweep "+f.Instance+" -with FILE",
		)
		return o
	}
	if f.Windows && !w.Windows {
		o.miss("on Windows no line is placed this way", "Take the route "+string(WindowsPassword)+" or "+string(Replacement))
		return o
	}
	w.Judge(f, &o)
	return o
}

func (o *Option) miss(what, remedy string) { o.Missing = append(o.Missing, Missing{what, remedy}) }

// running notes that a route needs the instance to run.
func (f Facts) running(o *Option) {
	if f.State != machines.Running {
		o.miss("it is "+string(f.State)+", and has to run", "plumlatch instance start "+f.Instance)
	}
}

const undoLine = "completely, until somebody has logged in with the new key: the new line is removed again"

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
