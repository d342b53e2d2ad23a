// Package restore decides how an instance is got back into whose private key is lost:
// facts about it in, ranked routes with their costs and reasons out, and the steps of
// each route in their order. It does nothing itself and knows no time of its own.
//
// A route is never said to be possible on a guess: what the facts do not tell counts as
// missing, with the step that would provide it.
package restore

import (
	"time"

	"plumlatch/internal/core/machines"
)

// AgentState is the state of the guest agent.
type AgentState string

// The states of a guest agent. AgentUnknown is that nobody has asked.
const (
	AgentReady        AgentState = "ready"
	AgentRegistering  AgentState = "registering"
	AgentNotPermitted AgentState = "not-permitted"
	AgentAbsent       AgentState = "absent"
	AgentUnknown      AgentState = ""
)

// Answer is a fact that may be unknown.
type Answer int

// The answers.
const (
	Unknown Answer = iota
	Yes
	No
)

// Abilities are what the cloud has calls for.
type Abilities struct {
	StartStop, Launch, Disks, Snapshots, Addresses, Firewall, Agent, Metadata, Shell, Passwords bool
}

// Holder is a key in place whose holder can be asked to place the line.
type Holder struct {
	Key, Holder string
	// Certifies is whether the key is an authority, with which its holder certifies another key of theirs.
	Certifies bool
}

// Disk is the root disk as the cloud tells of it.
type Disk struct {
	Known, Encrypted, Shared bool
	Device, Filesystem       string
	GiB                      int
}

// Operation is something that the cloud takes time for.
type Operation string

// The operations. Copy is for each GiB.
const (
	Launch Operation = "launch"
	Start  Operation = "start"
	Stop   Operation = "stop"
	Attach Operation = "attach"
	Detach Operation = "detach"
	Copy   Operation = "copy"
	Agent  Operation = "agent" // until an agent that was permitted answers
)

// assumed is what an operation is taken to need where nothing was measured.
var assumed = map[Operation]time.Duration{
	Launch: 90 * time.Second,
	Start:  45 * time.Second,
	Stop:   30 * time.Second,
	Attach: 10 * time.Second,
	Detach: 10 * time.Second,
	Copy:   5 * time.Second, Agent: 2 * time.Minute,
}

// editing is what a look, an edit and a login need.
const editing = 3 * time.Second

// Facts are what is known of a login, its instance and its cloud.
type Facts struct {
	Login, Instance string
	// Adopted is whether no cloud can be asked about it.
	Adopted, Windows bool
	// State is what the cloud says: running, stopped and the like.
	State machines.State
	Can   Abilities
	// Steward is whether the service can log in with its own key.
	Steward bool
	// Holders are the keys in place with a fresh proof, other than the lost ones.
	Holders []Holder
	Agent   AgentState
	// MetadataImage and ShellImage are whether the image has the part in the guest.
	MetadataImage, ShellImage bool
	// ShellRange is where the browser shell comes from; ShellAdmitted whether a rule
	// lets that in now.
	ShellRange    string
	ShellAdmitted bool
	// Passwords is whether the SSH server takes passwords.
	Passwords Answer
	Disk      Disk
	// HelperImage is the image of a helper with a guest agent; "" where there is none.
	HelperImage   string
	TemporaryGiB  int
	Static        bool
	PublicAddress string
	// RSA is whether the new key is an RSA key; Unknown before one was chosen.
	RSA Answer
	// Took is what operations took before, where that is known.
	Took map[Operation]time.Duration
}

// Limits are what a route must keep to; the zero Limits allow everything.
type Limits struct {
	// MaxDowntime is the longest time for which nobody gets in; 0 for any.
	MaxDowntime time.Duration
	KeepAddress bool
	NoStop      bool
}

// Missing is what a route needs and does not have, and the step that would provide it.
type Missing struct{ What, Remedy string }

// Exposure is what a route opens for a while.
type Exposure struct {
	What string
	For  time.Duration
}

// For how long something is opened at most.
const (
	ShellOpenFor = 10 * time.Minute
	AgentOpenFor = 30 * time.Minute
)

// Cost is what a route would do to this instance.
type Cost struct {
	// Stops is whether the instance is stopped, Downtime for how long about.
	Stops    bool
	Downtime time.Duration
	// Expected is how long all takes about; Measured is whether the cloud's part of it
	// was measured here before, and not assumed.
	Expected time.Duration
	Measured bool
	// Changes, Loses, Stays and Agree are for people: what is different afterwards, what
	// is lost, what is left in place, and who has to do their part.
	Changes, Loses, Stays, Agree []string
	Opens                        []Exposure
	Undo                         string
	// NewIdentity is whether another machine is in place there afterwards, NewAddress whether
	// the public address is another.
	NewIdentity, NewAddress bool
}

// Option is a route as it is for one login.
type Option struct {
	Route          Route
	Title, Summary string
	Cost
	// Missing is empty where the route is possible.
	Missing []Missing
	// Outside are the limits that it does not keep to.
	Outside []string
	// Why says why it has its rank.
	Why string
}

// Possible reports whether nothing is missing.
func (o Option) Possible() bool { return len(o.Missing) == 0 }

// Within reports whether it is possible and keeps to the limits.
func (o Option) Within() bool { return o.Possible() && len(o.Outside) == 0 }
