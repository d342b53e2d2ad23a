package charter

import (
	"time"

	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
)

// World is what there is, as far as a charter is compared with it.
type World struct {
	// Reach has the keys and the logins at the places of Keys and Logins.
	Reach  reach.Input
	Keys   []WorldKey
	Logins []WorldLogin
	Grants []WorldGrant
	// Lines are the limits that lines were seen to have, by the places of key and login, where those are not the limits of
	// their grants. Lines that are granted to nobody are here if they have any.
	Lines map[[2]int32]string
	// Instances are those that are recorded, by name.
	Instances map[string]WorldInstance
	// People are whether each person can still sign in; Teams are the people of each team.
	People map[string]bool
	Teams  map[string][]string
	Rules  map[string]WorldRule // rotation rules
	// Clouds are those that there are, by name, and what each offers.
	Clouds map[string]WorldCloud
}

// WorldRule is which keys a rotation rule replaces, and where. Fields that are empty leave none out.
type WorldRule struct {
	rotation.Selection
	Instances                    []string
	LabelName, LabelText, Region string
}

// WorldKey is a key that is recorded.
type WorldKey struct {
	Name, SHA256 string
	// Holder is the person or team that has the private key; "" for nobody.
	Holder  string
	State   custody.State
	Steward bool
	Type    string
	Bits    int
	Purpose string
	Labels  map[string]string
	// Line is its public key in the one-line OpenSSH form.
	Line string
}

// WorldLogin is a login that is recorded.
type WorldLogin struct {
	Name, Instance, Region string
	// NoMeans is why its lines cannot be changed by the service; "" where they can.
	NoMeans string
}

// WorldGrant is a grant in force. Key and Login are places.
type WorldGrant struct {
	Key, Login int32
	Until      time.Time // zero for no end
	// Charter is the name of that which owns it; "" for none.
	Charter string
	// Why is its reason.
	Why string
	// Limits are the options that its line should have.
	Limits string
}

// WorldInstance is an instance that is recorded.
type WorldInstance struct {
	Labels map[string]string
}

// WorldCloud is what a cloud offers.
type WorldCloud struct {
	// Away is why it does not answer; "" where it does.
	Away string
	// Users are the login users of its images, by the images' names.
	Users map[string]string
	Sizes map[string]bool
	Zones map[string]bool
}
