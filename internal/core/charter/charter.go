// Package charter is a file in which a team declares its keys, its instances and who may open what, and what has to
// change for it to be so.
//
// Read takes the files of a charter, which are YAML 1.2 (https://yaml.org/spec/1.2.2/) or JSON (RFC 8259), and refuses
// what it does not know, with line and column. Schema is the same form as a JSON Schema (2020-12), for editors. Compare
// says what differs from what there is, in an order in which no login is ever left worse than it was or will be. It
// neither reads files nor changes anything.
package charter

import (
	"fmt"
	"time"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
)

// Charter is what its files declare together.
type Charter struct {
	Name string
	Note string
	// People and Teams are those that it relies on.
	People, Teams []Named
	Keys          []Key
	Instances     []Instance
	Access        []Access
}

// Place is where something is in the files; Line and Column count from 1.
type Place struct {
	File         string
	Line, Column int
}

func (p Place) String() string { return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column) }

// Named is a name and where it is.
type Named struct {
	Name string
	Place
}

// Key is a key pair whose public key is declared.
type Key struct {
	Name   string
	Public keypair.Public
	// Holder is the person or team that is said to hold the private key; "" for nobody.
	Holder  string
	Purpose string
	Labels  map[string]string
	Note    string
	Place
}

// Instance is one that is declared. At most one of Launch, Adopt and BringIn is set; one with none of them is only
// named, and is recorded already.
type Instance struct {
	Name    string
	Labels  map[string]string
	Launch  *Launch
	Adopt   *Adopt
	BringIn *BringIn
	Note    string
	Place
}

// Launch is an instance that a cloud launches where there is none of its name.
type Launch struct {
	Image, Size, Zone, Cloud string
	StaticAddress            bool
	// Keys are the names of those that open it from its first boot, beside those that access gives.
	Keys []Named
}

// Adopt is a machine of no cloud.
type Adopt struct {
	Address string
	Port    int
	Login   string
	// HostKey is the SHA-256 fingerprint that one of its host keys has.
	HostKey string
	Via     string
}

// BringIn is an instance that runs in a cloud and was not launched here.
type BringIn struct {
	Cloud string
	// Called is its name or its id there.
	Called  string
	Login   string
	HostKey string
}

// Access says who may open which logins.
type Access struct {
	// Keys, Holders and Teams say by which keys: those named, those that a person holds, those that a team or one of its
	// people holds.
	Keys, Holders, Teams []Named
	// Logins are names of logins, in which * and ? stand for some text and one character. Labels, where there are any,
	// leaves only those of instances that have all of them.
	Logins []Named
	Labels map[string]string
	// Until is when it ends; zero for never.
	Until time.Time
	Why   string
	// Limits are the options that the lines have, as package authorizedkeys has read them; "" for none.
	Limits string
	// Rotation is the rotation rule by which the keys are rotated; "" for none.
	Rotation string
	// MayBe is the reach that its logins may come down to: reach.Thin, or "" where they may not come down.
	MayBe reach.State
	Note  string
	Place
}

// Flaw is what is wrong in the files.
type Flaw struct {
	Place
	// Code is stable, for programs.
	Code   string
	What   string
	Remedy string
}

func (f Flaw) Error() string { return f.Place.String() + ": " + f.What }
