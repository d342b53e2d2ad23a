package charter

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/core/rotation"
)

// Kind is what a change does.
type Kind string

// The kinds, in the order in which they are done: what lets somebody in before what keeps somebody out.
const (
	ImportKey   Kind = "import-key"
	DescribeKey Kind = "describe-key"
	LaunchOne   Kind = "launch"
	AdoptOne    Kind = "adopt"
	BringInOne  Kind = "bring-in"
	LabelOne    Kind = "label-instance"
	Own         Kind = "own"    // a grant that was made by hand is the charter's from now on
	Record      Kind = "record" // a line that is in place is granted
	PlaceLine   Kind = "place"
	Loosen      Kind = "loosen" // a line lets in where its limits did not
	ChangeEnd   Kind = "change-end"
	Forget      Kind = "forget" // a grant ends whose line is not in place
	Limit       Kind = "limit"  // a line gets other limits
	Withdraw    Kind = "withdraw"
)

var kindOrder = map[Kind]int{
	ImportKey: 1, DescribeKey: 2, LaunchOne: 3, AdoptOne: 4, BringInOne: 5, LabelOne: 6, Own: 7, Record: 8, PlaceLine: 9,
	Loosen: 10, ChangeEnd: 11, Forget: 12, Limit: 13, Withdraw: 14,
}

// Change is one thing that has to be done for the charter to be so.
type Change struct {
	Kind Kind `json:"kind"`
	// Key, Login and Instance are names; those that do not matter to it are "".
	Key      string `json:"key,omitempty"`
	Login    string `json:"login,omitempty"`
	Instance string `json:"instance,omitempty"`
	// Keys are the names of those that open an instance from its first boot.
	Keys  []string  `json:"keys,omitempty"`
	Until time.Time `json:"until,omitzero"`
	Was   time.Time `json:"was,omitzero"` // the end before
	// Limits are those that its line gets, and Limited those that it had.
	Limits  string `json:"limits,omitempty"`
	Limited string `json:"limited,omitempty"`
	Why     string `json:"why,omitempty"`
	At      Place  `json:"at"`
	// Unable is why it cannot be done now; "" where it can.
	Unable string `json:"unable,omitempty"`
}

// Note is something to know that settling does not change.
type Note struct {
	Code, What, Remedy string
	At                 Place // the zero one where it is in no file
}

// Reached is a login whose reach settling would change.
type Reached struct {
	Login         string
	Before, After reach.State
	// Refused is why it must not come to that; "" where it may.
	Refused string
}

// Comparison is what differs from a charter.
type Comparison struct {
	Changes []Change
	Notes   []Note
	// Flaws are references of the charter to what there is not. With any of them nothing is settled.
	Flaws []Flaw
	Reach []Reached
}

// Refused reports whether nothing of it may be settled, and why.
func (c Comparison) Refused() (why string) {
	if len(c.Flaws) > 0 {
		return c.Flaws[0].Error()
	}
	for _, r := range c.Reach {
		if r.Refused != "" {
			return fmt.Sprintf("%s would be %s: %s", r.Login, r.After, r.Refused)
		}
	}
	return ""
}

// Unable reports whether some change cannot be done now.
func (c Comparison) Unable() bool {
	return slices.ContainsFunc(c.Changes, func(c Change) bool { return c.Unable != "" })
}

// comparing is a comparison on its way.
type comparing struct {
	c   Charter
	w   World
	out Comparison

	keys   []WorldKey // those of the world and those that are imported
	logins []WorldLogin
	keyAt  map[string]int32
	byUser map[string][]int32 // keys by holder
	user   map[string]string  // the login of each instance that comes into being, by its name
	want   map[pair]wanted
	labels map[string]map[string]string // of instances, as they will be
}

type pair struct{ key, login int32 }

// wanted is that a key opens a login.
type wanted struct {
	until time.Time
	entry *Access
}

// Compare says what has to change for the charter to be so.
func Compare(c Charter, w World) Comparison {
	x := &comparing{
		c: c, w: w, keyAt: map[string]int32{}, byUser: map[string][]int32{}, user: map[string]string{},
		want:   map[pair]wanted{},
		labels: map[string]map[string]string{},
	}
	x.people()
	x.compareKeys()
	x.compareInstances()
	x.expand()
	x.compareGrants()
	x.order()
	x.judge()
	return x.out
}

func (x *comparing) flaw(at Place, code, what, remedy string) {
	if len(x.out.Flaws) == mostFlaws { // with any of them nothing is settled
		return
	}
	x.out.Flaws = append(x.out.Flaws, Flaw{at, code, what, remedy})
}

func (x *comparing) change(c Change) { x.out.Changes = append(x.out.Changes, c) }

// people sees that those on whom the charter relies are there.
func (x *comparing) people() {
	for _, p := range x.c.People {
		x.person(p)
	}
	for _, t := range x.c.Teams {
		x.team(t)
	}
}

func (x *comparing) person(p Named) {
	switch active, there := x.w.People[p.Name]; {
	case !there:
		x.flaw(p.Place, "no-such-person", "there is no person "+quoted(p.Name), "Add them: plumlatch operator add "+p.Name)
	case !active:
		x.flaw(p.Place, "person-left", p.Name+" has left", "Take them out of the charter")
	}
}

func (x *comparing) team(t Named) {
	if _, there := x.w.Teams[t.Name]; !there {
		x.flaw(t.Place, "no-such-team", "there is no team "+quoted(t.Name), "Add it: plumlatch team add "+t.Name)
	}
}

func (x *comparing) compareKeys() {
	x.keys = slices.Clone(x.w.Keys)
	byPrint := make(map[string]int32, len(x.keys))
	for n, k := range x.keys {
		x.keyAt[k.Name], byPrint[k.SHA256] = int32(n), int32(n)
	}
	for _, k := range x.c.Keys {
		print := keypair.FormatSHA256(k.Public.SHA256())
		if k.Holder != "" {
			if _, team := x.w.Teams[k.Holder]; !team {
				x.person(Named{k.Holder, k.Place})
			}
		}
		n, there := byPrint[print]
		other, taken := x.keyAt[k.Name]
		switch {
		case there && x.keys[n].Name != k.Name:
			x.flaw(
				k.Place, "other-name", fmt.Sprintf("the key %s is recorded as %s", k.Name, x.keys[n].Name),
				"Call it so here, or rename the record: plumlatch key change "+x.keys[n].Name+" -name "+k.Name,
			)
		case !there && taken:
			x.flaw(
				k.Place, "name-taken", fmt.Sprintf("%s is recorded with another public key, %s", k.Name, x.keys[other].SHA256),
				"Give the new key another name",
			)
		case !there:
			x.keyAt[k.Name] = int32(len(x.keys))
			x.keys = append(x.keys, WorldKey{
				Name: k.Name, SHA256: print, Holder: k.Holder, State: custody.Active, Purpose: k.Purpose, Labels: k.Labels,
				Type: k.Public.Type, Bits: k.Public.Bits,
			})
			x.change(Change{Kind: ImportKey, Key: k.Name, Why: k.Purpose, At: k.Place})
		case x.keys[n].State != custody.Active:
			x.flaw(
				k.Place, "key-"+string(x.keys[n].State), fmt.Sprintf("the key %s is %s", k.Name, x.keys[n].State),
				"Take it out of the charter",
			)
		default:
			x.described(k, x.keys[n])
		}
	}
	said := map[string]string{} // where nobody has proved it yet
	for _, k := range x.c.Keys {
		said[k.Name] = k.Holder
	}
	for n, k := range x.keys {
		holder := cmp.Or(k.Holder, said[k.Name])
		if k.State == custody.Active && !k.Steward && holder != "" {
			x.byUser[holder] = append(x.byUser[holder], int32(n))
		}
	}
}

// described tells of what a recorded key is described as otherwise.
func (x *comparing) described(k Key, now WorldKey) {
	labels := k.Labels != nil && !maps.Equal(k.Labels, now.Labels)
	if labels || k.Purpose != "" && k.Purpose != now.Purpose {
		x.change(Change{Kind: DescribeKey, Key: k.Name, At: k.Place})
	}
	if k.Holder != "" && k.Holder != now.Holder {
		held := "nobody is recorded as holding it"
		if now.Holder != "" {
			held = now.Holder + " is recorded as holding it"
		}
		x.out.Notes = append(x.out.Notes, Note{
			"other-holder", fmt.Sprintf("the holder of %s is %s here; %s", k.Name, k.Holder, held),
			k.Holder + " proves it: plumlatch prove " + k.Name, k.Place,
		})
	}
}

func (x *comparing) compareInstances() {
	for name, i := range x.w.Instances {
		x.labels[name] = i.Labels
	}
	for _, i := range x.c.Instances {
		now, there := x.w.Instances[i.Name]
		if there {
			if i.Labels != nil && !maps.Equal(i.Labels, now.Labels) {
				x.labels[i.Name] = i.Labels
				x.change(Change{Kind: LabelOne, Instance: i.Name, At: i.Place})
			}
			continue
		}
		x.labels[i.Name] = i.Labels
		switch {
		case i.Launch != nil:
			x.launch(i)
		case i.Adopt != nil:
			change := Change{Kind: AdoptOne, Instance: i.Name, At: i.Place}
			if i.Adopt.HostKey == "" {
				change.Unable = "it does not say which host key the machine has: host-key: SHA256:…"
			}
			x.comesIn(i, i.Adopt.Login, change)
		case i.BringIn != nil:
			change := Change{Kind: BringInOne, Instance: i.Name, At: i.Place}
			cloud, known := x.w.Clouds[i.BringIn.Cloud]
			if !known {
				x.noCloud(i, i.BringIn.Cloud)
				continue
			}
			change.Unable = away(i.BringIn.Cloud, cloud)
			x.comesIn(i, i.BringIn.Login, change)
		default:
			x.flaw(
				i.Place,
				"no-such-instance",
				"there is no instance "+quoted(i.Name),
				"Say how it comes to be: launch, adopt or bring-in",
			)
		}
	}
}

func away(name string, c WorldCloud) string {
	if c.Away == "" {
		return ""
	}
	return fmt.Sprintf("the cloud %s does not answer: %s", name, c.Away)
}

func (x *comparing) noCloud(i Instance, name string) {
	x.flaw(i.Place, "no-such-cloud", "there is no cloud "+quoted(name), "See what there is: plumlatch cloud list")
}

func (x *comparing) launch(i Instance) {
	in := i.Launch.Cloud
	if in == "" && len(x.w.Clouds) == 1 {
		for only := range x.w.Clouds {
			in = only
		}
	}
	cloud, known := x.w.Clouds[in]
	if !known {
		if in == "" {
			x.flaw(i.Place, "no-cloud", "it does not say in which cloud "+i.Name+" is launched", "Add cloud: NAME")
		} else {
			x.noCloud(i, in)
		}
		return
	}
	change := Change{Kind: LaunchOne, Instance: i.Name, At: i.Place, Unable: away(in, cloud)}
	user := ""
	if cloud.Away == "" {
		if user = cloud.Users[i.Launch.Image]; user == "" {
			x.flaw(
				i.Place,
				"no-such-image",
				fmt.Sprintf("%s has no image %s", in, quoted(i.Launch.Image)),
				"See what there is: plumlatch catalogue",
			)
			return
		}
		if !cloud.Sizes[i.Launch.Size] || i.Launch.Zone != "" && !cloud.Zones[i.Launch.Zone] {
			x.flaw(
				i.Place,
				"no-such-size",
				fmt.Sprintf("%s has no size %s or no zone %s", in, quoted(i.Launch.Size), quoted(i.Launch.Zone)),
				"See what there is: plumlatch catalogue",
			)
			return
		}
	}
	for _, k := range i.Launch.Keys {
		if n, there := x.keyNamed(k); there {
			change.Keys = append(change.Keys, x.keys[n].Name)
		}
	}
	x.comesIn(i, user, change)
}

// comesIn adds an instance that comes to be, and its login, where the user is known.
func (x *comparing) comesIn(i Instance, user string, change Change) {
	x.change(change)
	if user != "" {
		x.user[i.Name] = user + "@" + i.Name
	}
}

func (x *comparing) keyNamed(k Named) (int32, bool) {
	n, there := x.keyAt[k.Name]
	switch {
	case !there:
		x.flaw(
			k.Place,
			"no-such-key",
			"there is no key "+quoted(k.Name),
			"Declare it under keys, or import it: plumlatch help key import",
		)
	case x.keys[n].State != custody.Active:
		x.flaw(
			k.Place,
			"key-"+string(x.keys[n].State),
			fmt.Sprintf("the key %s is %s", k.Name, x.keys[n].State),
			"Take it out of the charter",
		)
	case x.keys[n].Steward:
		x.flaw(
			k.Place,
			"steward-key",
			k.Name+" is a steward key, which no charter gives access to",
			"Take it out of the charter",
		)
	default:
		return n, true
	}
	return n, false
}

// expand finds which keys the entries of access want in which logins.
func (x *comparing) expand() {
	x.logins = slices.Clone(x.w.Logins)
	for _, i := range x.c.Instances {
		if login := x.user[i.Name]; login != "" {
			x.logins = append(x.logins, WorldLogin{Name: login, Instance: i.Name})
		}
	}
	at := make(map[string]int32, len(x.logins))
	for n, l := range x.logins {
		at[l.Name] = int32(n)
	}
	for n := range x.c.Access {
		a := &x.c.Access[n]
		if !a.Until.IsZero() && !a.Until.After(x.w.Reach.Now) {
			x.flaw(
				a.Place,
				"past",
				"its time was over on "+a.Until.Format(time.DateOnly),
				"Take the entry out, or give a later until",
			)
		}
		if _, there := x.w.Rules[a.Rotation]; a.Rotation != "" && !there {
			x.flaw(
				a.Place,
				"no-such-rule",
				"there is no rotation rule "+quoted(a.Rotation),
				"See what there is: plumlatch rule list",
			)
		}
		keys, logins := x.keysOf(a), x.loginsOf(a, at)
		x.rotated(a, keys, logins)
		for _, l := range logins {
			for _, k := range keys {
				p := pair{k, l}
				was, twice := x.want[p]
				if twice && was.entry.Limits != a.Limits {
					x.flaw(
						a.Place, "two-limits",
						fmt.Sprintf(
							"%s is limited in one way on %s here, and in another at %s", x.keys[k].Name, x.logins[l].Name, was.entry.Place,
						), "Say it once, or the same in both",
					)
				}
				if !twice || !was.until.IsZero() && (a.Until.IsZero() || a.Until.After(was.until)) {
					x.want[p] = wanted{a.Until, a}
				}
			}
		}
	}
}

// rotated tells where the rotation rule of an entry does not replace its keys.
func (x *comparing) rotated(a *Access, keys, logins []int32) {
	r, there := x.w.Rules[a.Rotation]
	if !there {
		return
	}
	first, missed := "", 0
	for _, l := range logins {
		for _, k := range keys {
			if r.covers(x.keys[k], x.logins[l], x.labels[x.logins[l].Instance]) {
				continue
			}
			if missed++; missed == 1 {
				first = x.keys[k].Name + " on " + x.logins[l].Name
			}
		}
	}
	if missed > 1 {
		first += fmt.Sprintf(" and %d more", missed-1)
	}
	if missed > 0 {
		x.out.Notes = append(x.out.Notes, Note{
			"not-rotated", fmt.Sprintf("the rotation rule %s never replaces %s", a.Rotation, first),
			"Name a rule that does, or change what it replaces: plumlatch rule list", a.Place,
		})
	}
}

// covers reports whether a rule may come to replace the key in the login.
func (r WorldRule) covers(k WorldKey, l WorldLogin, labels map[string]string) bool {
	return (len(r.Instances) == 0 || slices.Contains(r.Instances, l.Instance)) &&
		(r.LabelName == "" || labels[r.LabelName] == r.LabelText) && (r.Region == "" || l.Region == r.Region) &&
		r.MayCome(rotation.Key{Name: k.Name, Holder: k.Holder, Type: k.Type, Bits: k.Bits, Steward: k.Steward})
}

// keysOf returns the keys that an entry is about, in order, each once.
func (x *comparing) keysOf(a *Access) (out []int32) {
	for _, k := range a.Keys {
		if n, ok := x.keyNamed(k); ok {
			out = append(out, n)
		}
	}
	nobody := func(who Named, what string, found int) {
		if found == 0 {
			x.out.Notes = append(x.out.Notes, Note{
				"no-key", fmt.Sprintf("no active key of the %s %s is known", what, who.Name),
				"They bring one: plumlatch key new NAME", who.Place,
			})
		}
	}
	for _, h := range a.Holders {
		x.person(h)
		out = append(out, x.byUser[h.Name]...)
		nobody(h, "person", len(x.byUser[h.Name]))
	}
	for _, t := range a.Teams {
		x.team(t)
		found := slices.Clone(x.byUser[t.Name])
		for _, p := range x.w.Teams[t.Name] {
			found = append(found, x.byUser[p]...)
		}
		nobody(t, "team", len(found))
		out = append(out, found...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// loginsOf returns the logins that an entry is about, in order, each once.
func (x *comparing) loginsOf(a *Access, at map[string]int32) (out []int32) {
	for _, l := range a.Logins {
		if !strings.ContainsAny(l.Name, "*?") {
			n, there := at[l.Name]
			if !there && !x.comesLater(l.Name) {
				x.flaw(l.Place, "no-such-login", "there is no login "+quoted(l.Name), "See what there is: plumlatch reach")
			}
			if there && x.labelled(n, a) {
				out = append(out, n)
			}
			continue
		}
		found := 0
		for n := range x.logins {
			if fits(l.Name, x.logins[n].Name) && x.labelled(int32(n), a) {
				out = append(out, int32(n))
				found++
			}
		}
		if found == 0 {
			x.out.Notes = append(x.out.Notes, Note{
				"nothing-fits", "no login fits " + quoted(l.Name), "See what there is: plumlatch reach", l.Place,
			})
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// comesLater reports whether a login is of an instance whose login user is not known yet.
func (x *comparing) comesLater(login string) bool {
	_, host, _ := strings.Cut(login, "@")
	return x.user[host] == "" && slices.ContainsFunc(
		x.out.Changes, func(c Change) bool {
			return c.Instance == host && (c.Kind == LaunchOne || c.Kind == BringInOne || c.Kind == AdoptOne)
		},
	)
}

// fits reports whether a name fits a pattern, in which * stands for some text and ? for one byte.
func fits(pattern, name string) bool {
	p, n, star, from := 0, 0, -1, 0
	for n < len(name) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, from = p, n
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == name[n]):
			p++
			n++
		case star >= 0: // the last star takes one more
			from++
			p, n = star+1, from
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

func (x *comparing) labelled(login int32, a *Access) bool {
	labels := x.labels[x.logins[login].Instance]
	for name, value := range a.Labels {
		if labels[name] != value {
			return false
		}
	}
	return true
}

// compareGrants finds what has to change for the wanted keys, and those that are the charter's and not wanted, in each
// login.
func (x *comparing) compareGrants() {
	granted := make(map[pair]WorldGrant, len(x.w.Grants))
	for _, g := range x.w.Grants {
		granted[pair{g.Key, g.Login}] = g
	}
	seen := make(map[pair]reach.Sighting, len(x.w.Reach.Pairs))
	for _, p := range x.w.Reach.Pairs {
		seen[pair{p.Key, p.Login}] = p.Sighting
	}
	// Of a login that comes to be, the keys are placed by what has it come to be.
	first := map[string]int{}
	for n, c := range x.out.Changes {
		if c.Kind == LaunchOne {
			first[c.Instance] = n
		}
	}
	for p, w := range x.want {
		key, login := x.keys[p.key].Name, x.logins[p.login]
		change := Change{
			Key:    key,
			Login:  login.Name,
			Until:  w.until,
			Why:    w.entry.Why,
			Limits: w.entry.Limits,
			At:     w.entry.Place,
			Unable: login.NoMeans,
		}
		if int(p.login) >= len(x.w.Logins) {
			n, launched := first[login.Instance]
			if launched && w.entry.Limits != "" {
				if slices.Contains(x.out.Changes[n].Keys, key) {
					x.flaw(
						w.entry.Place, "limited-later", key+" opens "+login.Instance+" without limits from its first boot",
						"Take it out of the keys of its launch",
					)
				}
				change.Kind, change.Unable = PlaceLine, ""
				x.change(change)
				continue
			}
			if launched {
				x.out.Changes[n].Keys = append(x.out.Changes[n].Keys, key)
				if !w.until.IsZero() {
					change.Kind, change.Unable = ChangeEnd, ""
					x.change(change)
				}
				continue
			}
			change.Kind, change.Unable = PlaceLine, "the service cannot change its lines yet; it comes in without a steward key"
			x.change(change)
			continue
		}
		g, there := granted[p]
		switch {
		case !there && seen[p] == reach.Seen:
			change.Kind, change.Unable, change.Limits = Record, "", x.w.lineOf(WorldGrant{Key: p.key, Login: p.login})
			x.change(change)
			change.Unable = login.NoMeans
			x.limit(change, w.entry.Limits, change.Limits, change.Limits)
			continue
		case !there:
			change.Kind = PlaceLine
			x.change(change)
			continue
		case g.Charter != "" && g.Charter != x.c.Name:
			x.flaw(
				w.entry.Place,
				"other-charter",
				fmt.Sprintf("the charter %s owns the grant of %s on %s", g.Charter, key, login.Name),
				"Take it out of one of the two",
			)
			continue
		case g.Charter == "":
			change.Kind, change.Unable = Own, ""
			x.change(change)
		}
		if seen[p] == reach.NotSeen {
			change.Kind, change.Unable = PlaceLine, login.NoMeans
			x.change(change)
		}
		if seen[p] != reach.NotSeen { // a line that is missing gets them as it is placed
			x.limit(change, w.entry.Limits, x.w.lineOf(g), g.Limits)
		}
		if !g.Until.Equal(w.until) {
			change.Kind, change.Was, change.Unable = ChangeEnd, g.Until, login.NoMeans
			x.change(change)
		}
	}
	for n := range x.out.Changes {
		slices.Sort(x.out.Changes[n].Keys)
		x.out.Changes[n].Keys = slices.Compact(x.out.Changes[n].Keys)
	}
	x.compareOthers(seen)
}

// lineOf returns the limits that the line of a grant has, as far as is known.
func (w World) lineOf(g WorldGrant) string {
	if limits, seen := w.Lines[[2]int32{g.Key, g.Login}]; seen {
		return limits
	}
	return g.Limits
}

// limit adds the change of a line's limits, if they, or those of its grant, are not those that are wanted.
func (x *comparing) limit(c Change, wanted, now, granted string) {
	if c.Kind, c.Limits, c.Limited = Limit, wanted, now; wanted == now && wanted == granted {
		return
	}
	if wanted == "" || authorizedkeys.OpensWith(wanted) && !authorizedkeys.OpensWith(now) {
		c.Kind = Loosen
	}
	x.change(c)
}

// compareOthers finds the grants that the charter owns and no longer declares, and tells of those beside it.
func (x *comparing) compareOthers(seen map[pair]reach.Sighting) {
	declared := map[int32]bool{}
	for p := range x.want {
		declared[p.login] = true
	}
	for _, g := range x.w.Grants {
		p := pair{g.Key, g.Login}
		if _, ok := x.want[p]; ok || x.keys[g.Key].Steward {
			continue
		}
		login := x.logins[g.Login]
		switch {
		case g.Charter == x.c.Name && x.c.Name != "":
			change := Change{Kind: Withdraw, Key: x.keys[g.Key].Name, Login: login.Name, Unable: login.NoMeans}
			if seen[p] == reach.NotSeen {
				change.Kind, change.Unable = Forget, ""
			} else if !x.w.Reach.Swept[g.Login] && seen[p] == reach.NeverLooked {
				change.Unable = cmp.Or(change.Unable, "nobody has read the login, so that nobody knows who else gets in")
			}
			x.change(change)
		case declared[g.Login] && g.Charter == "":
			until := "with no end"
			if !g.Until.IsZero() {
				until = "until " + g.Until.Format(time.DateOnly)
			}
			x.out.Notes = append(x.out.Notes, Note{
				"beside", fmt.Sprintf("%s is granted %s beside the charter, %s", x.keys[g.Key].Name, login.Name, until),
				"Declare it, or withdraw it: plumlatch grant withdraw " + x.keys[g.Key].Name + " " + login.Name, Place{},
			})
		}
	}
}
