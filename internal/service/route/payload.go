package route

import (
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/restore"
	"plumlatch/internal/means"
)

// RunKind is the kind of the runs that restore a login.
const RunKind = "restore"

// Work is the payload of a restore.
type Work struct {
	Route     restore.Route `json:"route"`
	Login     uuid.UUID     `json:"login"`
	LoginName string        `json:"login_name"`
	Key       uuid.UUID     `json:"key"`
	KeyName   string        `json:"key_name"`
	// Lost are the keys that are marked as lost in the end, Removes those whose lines go.
	Lost    []NamedKey `json:"lost,omitempty"`
	Removes []NamedKey `json:"removes,omitempty"`
	// Steward is whether the steward key edits, Kept whether the service has the new key's
	// private key. Holders have a key that is in place.
	Steward bool     `json:"steward,omitempty"`
	Kept    bool     `json:"kept,omitempty"`
	Holders []string `json:"holders,omitempty"`
	// Permits is whether the guest agent is permitted for this, Opens whether the SSH port is
	// opened to the browser shell.
	Permits bool `json:"permits,omitempty"`
	Opens   bool `json:"opens,omitempty"`
	// Added is whether the grant was made for this. EnteredBefore is when the new key had last
	// opened the login.
	Added         bool       `json:"added,omitempty"`
	EnteredBefore *time.Time `json:"entered_before,omitempty"`
	// HelperImage and HelperSize are of a helper instance, of which so many were made.
	HelperImage string `json:"helper_image,omitempty"`
	HelperSize  string `json:"helper_size,omitempty"`
	Helpers     int    `json:"helpers,omitempty"`
	// Static, StopFirst and Ports are of a replacement: whether a static address moves, whether
	// the instance is stopped before it is copied, and where the new one is to answer.
	Static      bool      `json:"static,omitempty"`
	StopFirst   bool      `json:"stop_first,omitempty"`
	Ports       []int     `json:"ports,omitempty"`
	Replacement uuid.UUID `json:"replacement,omitzero"`
	NewLogin    uuid.UUID `json:"new_login,omitzero"`
	NewName     string    `json:"new_name,omitempty"`
	ImageAsked  bool      `json:"image_asked,omitempty"`
	Image       string    `json:"image,omitempty"`
	// Before is how the instance was; nil before that was looked at.
	Before *stoodAs `json:"before,omitempty"`
	Disk   string   `json:"disk,omitempty"`
	Device string   `json:"device,omitempty"`
	GiB    int      `json:"gib,omitempty"`
	// ProvedAt is when a login with the new key was completed.
	ProvedAt *time.Time `json:"proved_at,omitempty"`
	// Entries is whether this run has put an entry into the instance's metadata.
	Entries bool `json:"entries,omitempty"`
	// Differs and LineLeft are what is not as it was after an undo.
	Differs  []string      `json:"differs,omitempty"`
	LineLeft string        `json:"line_left,omitempty"`
	Journal  means.Journal `json:"journal"`
}

// NamedKey is a key with the name that it had then.
type NamedKey struct {
	ID   uuid.UUID `json:"id"`
	Name string    `json:"name"`
}

func NamesOf(keys []NamedKey) []string {
	names := make([]string, len(keys))
	for n, k := range keys {
		names[n] = k.Name
	}
	return names
}

func IdsOf(keys []NamedKey) []uuid.UUID {
	ids := make([]uuid.UUID, len(keys))
	for n, k := range keys {
		ids[n] = k.ID
	}
	return ids
}

// stoodAs is how an instance was at the cloud.
type stoodAs struct {
	State          machines.State `json:"state"`
	Address        string         `json:"address"`
	PrivateAddress string         `json:"private_address"`
	Firewall       string         `json:"firewall"`
}

func (w *Work) plan() restore.Plan {
	return restore.Plan{
		Permits: w.Permits, Opens: w.Opens, Lost: len(w.Removes) > 0,
		Static: w.Static, StopFirst: w.StopFirst, Checks: len(w.Ports) > 0,
	}
}

// reader reads the facts that runs had before there were payloads.
type reader struct {
	facts map[string]string
	err   error
}

func (r *reader) id(name string) uuid.UUID {
	text := r.facts[name]
	if text == "" {
		return uuid.Nil
	}
	id, err := uuid.Parse(text)
	if err != nil && r.err == nil {
		r.err = err
	}
	return id
}

func (r *reader) is(name string) bool { return r.facts[name] == "true" }

func (r *reader) number(name string) int {
	n, err := strconv.Atoi(r.facts[name])
	if err != nil && r.facts[name] != "" && r.err == nil {
		r.err = err
	}
	return n
}

func (r *reader) time(name string) *time.Time {
	if r.facts[name] == "" {
		return nil
	}
	at, err := time.Parse(time.RFC3339Nano, r.facts[name])
	if err != nil && r.err == nil {
		r.err = err
	}
	return &at
}

func (r *reader) list(name, between string) []string {
	if r.facts[name] == "" {
		return nil
	}
	return strings.Split(r.facts[name], between)
}

func (r *reader) keys(ids, names string) (out []NamedKey) {
	called := r.list(names, ", ")
	for n, text := range r.list(ids, ",") {
		id, err := uuid.Parse(text)
		if err != nil && r.err == nil {
			r.err = err
		}
		k := NamedKey{ID: id}
		if n < len(called) {
			k.Name = called[n]
		}
		out = append(out, k)
	}
	return out
}

func (r *reader) removed() map[string][]string {
	out := map[string][]string{}
	for name, text := range r.facts {
		if path, is := strings.CutPrefix(name, "removed "); is {
			out[path] = strings.Split(text, "\n")
		}
	}
	return out
}

func earlierRestore(facts map[string]string) (Work, error) {
	r := &reader{facts: facts}
	w := Work{
		Route: restore.Route(
			facts["route"],
		), Login: r.id("login"), LoginName: facts["login name"], Key: r.id("key"), KeyName: facts["key name"],
		Lost: r.keys(
			"lost", "lost names",
		), Removes: r.keys("remove", "remove names"),
		Steward: r.is("steward"),
		Kept:    r.is("kept"),
		Holders: r.list("holders", " or "),
		Permits: r.is("permits"), Opens: r.is("opens"), Added: r.is("added"), EnteredBefore: r.time("entered before"),
		HelperImage: facts["helper image"], HelperSize: facts["helper size"], Helpers: r.number("helpers"),
		Static: r.is(
			"static",
		), StopFirst: r.is("stop first"),
		Replacement: r.id("replacement"),
		NewLogin:    r.id("new login"),
		NewName:     facts["new name"],
		ImageAsked: r.is(
			"image asked",
		), Image: facts["image"], Disk: facts["disk"], Device: facts["device"], GiB: r.number("gib"),
		ProvedAt: r.time(
			"proved at",
		), Differs: r.list("differs", "; "), LineLeft: facts["line left"], Journal: means.Journal{Removed: r.removed()},
	}
	for _, port := range r.list("ports", ",") {
		n, err := strconv.Atoi(port)
		if err != nil && r.err == nil {
			r.err = err
		}
		w.Ports = append(w.Ports, n)
	}
	if facts["before state"] != "" {
		w.Before = &stoodAs{
			State:          machines.State(facts["before state"]),
			Address:        facts["before address"],
			PrivateAddress: facts["before private address"],
			Firewall:       facts["before firewall"],
		}
	}
	return w, r.err
}
