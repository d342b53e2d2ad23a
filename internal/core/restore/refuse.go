package restore

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/core/machines"
)

// Chosen is the route that somebody has chosen for an instance, and with what.
type Chosen struct {
	Route    Route
	Instance string
	// Confirmed is whether they have typed the instance's name.
	Confirmed bool
	// ForReplacement is whether they gave what only a replacement takes, Ports those it waits for.
	ForReplacement bool
	Ports          []int
}

// Refusal is why a route is not taken. Code is for programs; Invalid is whether what was given is wrong,
// and not how things are.
type Refusal struct {
	Code, Field, Detail, Remedy string
	Invalid                     bool
}

func (r *Refusal) Error() string { return r.Detail }

// Refuse returns why the chosen route is not taken: it is not possible, not within the limits, or not
// confirmed; nil where it is. ranked are the ways as they are for the login.
func (w Ways) Refuse(c Chosen, ranked []Option) *Refusal {
	at := slices.IndexFunc(ranked, func(o Option) bool { return o.Route == c.Route })
	if at < 0 {
		var names []string
		for _, o := range ranked {
			names = append(names, string(o.Route))
		}
		return &Refusal{
			Code:    "no-such-route",
			Field:   "route",
			Detail:  fmt.Sprintf("there is no route %q into %s", c.Route, c.Instance),
			Remedy:  "There are: " + strings.Join(names, ", "),
			Invalid: true,
		}
	}
	o := ranked[at]
	way, _ := w.Of(o.Route)
	see := "See all: plumlatch restore routes " + c.Instance
	switch {
	case !o.Possible():
		var what []string
		for _, m := range o.Missing {
			what = append(what, m.What)
		}
		return &Refusal{
			Code:   "route-not-possible",
			Field:  "route",
			Detail: fmt.Sprintf("the route %s is not possible: %s", o.Route, strings.Join(what, "; ")),
			Remedy: cmp.Or(o.Missing[0].Remedy, see),
		}
	case len(o.Outside) > 0:
		return &Refusal{
			Code:   "outside-limits",
			Field:  "route",
			Detail: fmt.Sprintf("the route %s is outside your limits: %s", o.Route, strings.Join(o.Outside, "; ")),
			Remedy: see,
		}
	case (o.Stops || o.NewIdentity) && !c.Confirmed:
		return &Refusal{
			Code:  "not-confirmed",
			Field: "confirm",
			Detail: fmt.Sprintf(
				"the route %s %s. Changes: %s. Loses: %s", o.Route, o.harm(), cmp.Or(strings.Join(o.Changes, "; "), "none"),
				cmp.Or(strings.Join(o.Loses, "; "), "none"),
			),
			Remedy: "Confirm it with the name of the instance: -confirm " + c.Instance,
		}
	case !way.Replaces && c.ForReplacement:
		return &Refusal{
			Code:    "not-for-this-route",
			Field:   "route",
			Detail:  "to stop it first, to check ports and to give a name are for the route replacement alone",
			Invalid: true,
		}
	}
	for _, port := range c.Ports {
		if port < 1 || port > 65535 {
			return &Refusal{
				Code:    "bad-port",
				Field:   "ports",
				Detail:  fmt.Sprintf("%d is no port", port),
				Remedy:  "Give one from 1 to 65535",
				Invalid: true,
			}
		}
	}
	return nil
}

func (o Option) harm() string {
	if o.NewIdentity {
		return "puts another instance in its place"
	}
	return "stops it for about " + Words(o.Downtime)
}

// Stood is how an instance and its root disk were at the cloud.
type Stood struct {
	State                                           machines.State
	Address, PrivateAddress, Firewall, Disk, Device string
}

// Differs says in words what is not as it was.
func Differs(before, now Stood) []string {
	var out []string
	for _, c := range [][3]string{
		{"state", string(before.State), string(now.State)},
		{"public address", before.Address, now.Address},
		{"private address", before.PrivateAddress, now.PrivateAddress},
		{"firewall group", before.Firewall, now.Firewall},
		{"root disk", before.Disk, now.Disk},
		{"device name of the root disk", before.Device, now.Device},
	} {
		if c[1] != c[2] {
			out = append(out, fmt.Sprintf("the %s is %s, and was %s", c[0], cmp.Or(c[2], "none"), cmp.Or(c[1], "none")))
		}
	}
	return out
}

// StepTime is how long the step of a kind of run took before; Size is of what it worked on, in GiB.
type StepTime struct {
	Kind, Step string
	Took       time.Duration
	Size       float64
}

// TookBefore returns what the operations of a cloud take, by what the steps of runs took.
func TookBefore(times []StepTime) map[Operation]time.Duration {
	out := map[Operation]time.Duration{}
	for _, t := range times {
		switch t.Kind + " " + t.Step {
		case "launch disk", "launch instance", "launch boot":
			out[Launch] += t.Took
		case "start start", "start boot":
			out[Start] += t.Took
		case "stop stop", "stop stopped":
			out[Stop] += t.Took
		case "restore " + string(DetachRoot):
			out[Detach] = t.Took
		case "restore " + string(Lend):
			out[Attach] = t.Took
		case "restore " + string(Permit):
			out[Agent] = t.Took
		case "restore " + string(Image):
			if t.Size > 0 {
				out[Copy] = time.Duration(float64(t.Took) / t.Size)
			}
		}
	}
	return out
}
