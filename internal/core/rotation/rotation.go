// Package rotation decides how keys are replaced on logins: which keys, where,
// by which steps in which order, and how each step is undone. It does nothing
// itself and knows no time of its own.
//
// Its first rule is that no line leaves a login before another key has been shown,
// by a completed login, to open it. It holds by construction: the order of steps has
// no removal before an entry, and MayRemove judges every removal (package means does them).
package rotation

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumlatch/internal/core/name"
)

// Key is what a selection judges of a key.
type Key struct {
	Name, Type string
	// Bits is the length of an RSA modulus or the size of a curve.
	Bits    int
	Created time.Time
	Holder  string
	Lost    bool
	// Steward is whether it is the service's own, which is never selected.
	Steward bool
	// Instances is on how many instances it is in place.
	Instances int
}

// Selection says which keys will be replaced. What is set must all hold.
type Selection struct {
	Keys   []string
	Holder string
	Type   string
	// Older is an age; 0 does not select by it.
	Older time.Duration
	// Weaker is a type and a length, such as rsa3072: keys of that type with fewer bits.
	Weaker string
	Lost   bool
	// Shared selects keys that are on more than one instance.
	Shared bool
}

// Empty reports whether nothing is selected by.
func (s Selection) Empty() bool {
	return len(s.Keys) == 0 && s.Holder == "" && s.Type == "" && s.Older == 0 && s.Weaker == "" && !s.Lost && !s.Shared
}

// ReadStrength reads a type and a length in bits, such as rsa3072.
func ReadStrength(text string) (typ string, bits int, err error) {
	end := strings.IndexAny(text, "0123456789")
	if end > 0 {
		typ = text[:end]
		bits, err = strconv.Atoi(text[end:])
	}
	if end <= 0 || err != nil || bits <= 0 || typ != "rsa" && typ != "ecdsa" {
		return "", 0, fmt.Errorf("%q is no strength: give rsa or ecdsa with a length in bits, such as rsa3072", text)
	}
	return typ, bits, nil
}

// Wants reports whether the key will be replaced. A retired key is, where it is
// still in place; a steward key never.
func (s Selection) Wants(k Key, now time.Time) bool {
	if k.Steward || s.Empty() {
		return false
	}
	if s.Weaker != "" {
		typ, bits, err := ReadStrength(s.Weaker)
		if err != nil || k.Type != typ || k.Bits >= bits {
			return false
		}
	}
	return (len(s.Keys) == 0 || slices.Contains(s.Keys, k.Name)) && (s.Holder == "" || s.Holder == k.Holder) &&
		(s.Type == "" || s.Type == k.Type) &&
		(s.Older == 0 || now.Sub(k.Created) > s.Older) && (!s.Lost || k.Lost) &&
		(!s.Shared || k.Instances > 1)
}

// MayCome reports whether the key may come to be replaced, now or once it is old, shared or lost.
func (s Selection) MayCome(k Key) bool {
	always := s
	always.Older, always.Lost, always.Shared = 0, false, false
	return !s.Empty() && !k.Steward && (always.Empty() || always.Wants(k, time.Time{}))
}

// Due returns when the key comes to the age that is selected by; now, where it has
// or where its age does not matter. Hours of the day are not looked at.
func (s Selection) Due(k Key, now time.Time) time.Time {
	if at := k.Created.Add(s.Older); s.Older > 0 && at.After(now) {
		return at
	}
	return now
}

// Stem returns what the names of keys that follow one another have in common, and
// the number after it: 1 where there is none.
func Stem(name string) (stem string, n int) {
	if at := strings.LastIndexByte(name, '-'); at > 0 {
		if last, err := strconv.Atoi(name[at+1:]); err == nil && last > 0 && last < 10_000 {
			return name[:at], last
		}
	}
	return name, 1
}

// NextName proposes a name for the key that follows one: hides-shared-2 follows
// hides-shared, and hides-shared-3 follows that. taken says which names are in use.
func NextName(old string, taken func(string) bool) string {
	stem, n := Stem(old)
	for n++; ; n++ {
		suffix := "-" + strconv.Itoa(n)
		if next := name.Suggest(stem[:min(len(stem), name.MaxLength-len(suffix))]) + suffix; !taken(next) {
			return next
		}
	}
}

// OwnName proposes a name for the key of one instance that follows a shared one.
func OwnName(old, instance string, taken func(string) bool) string {
	own := name.Suggest(instance + "-" + old)
	if !taken(own) {
		return own
	}
	return NextName(own, taken)
}

// Each says for what one new key is made.
type Each string

// The ways. EachKey replaces an old key by one new key wherever it is in place;
// EachInstance gives every instance its own, which ends sharing.
const (
	EachKey      Each = "key"
	EachInstance Each = "instance"
)

// Stand is a key in a login.
type Stand struct {
	// Key is a place in the list of keys.
	Key int
	// Seen is whether it stood there at the last look.
	Seen    bool
	Granted bool
}

// Login is a login as far as a plan needs it.
type Login struct {
	Name, Instance string
	// Means is by what its files are edited; "" where nothing can, with why and what
	// to do about it.
	Means, NoMeans, Remedy string
	Stands                 []Stand
}

// Item is one old key in one login, to be replaced or left out.
type Item struct {
	// Login and Old are places in the lists of logins and keys.
	Login, Old int
	// New is the name of the key that comes.
	New string
	// LeftOut is why nothing is done; "" where it is replaced.
	LeftOut, Remedy string
}

// Plan is what a rotation will do.
type Plan struct {
	Items []Item
	// New are the names of the keys that come, each with the place of the old key
	// that it follows.
	New []Following
}

// Following is a new key and the place of the old one that it follows.
type Following struct {
	Name string
	Old  int
}

// Wanted says what will be planned.
type Wanted struct {
	Selection
	Each Each
	// To is an existing key that takes the place of all; "" for new ones.
	To string
	// Urgent is for lost keys alone.
	Urgent bool
	// Names is a pattern for the names of new keys, as NamedBy has it; "" for names that follow the old ones.
	Names string
	// Follows is who takes over from whom: what is named after Leaves is named after To. The
	// zero value changes no name.
	Follows Heir
	// Now is for ages.
	Now time.Time
}

// Heir is who takes over the keys of whom, by their names.
type Heir struct{ Leaves, To string }

// name proposes a name for the key that follows one of theirs.
func (h Heir) name(old string, taken func(string) bool) string {
	rest, theirs := strings.CutPrefix(old, h.Leaves+"-")
	if h.Leaves == "" || !theirs {
		return NextName(old, taken)
	}
	if own := name.Suggest(h.To + "-" + rest); !taken(own) {
		return own
	}
	return NextName(h.To+"-"+rest, taken)
}

// Make plans a rotation over the logins, in their order. taken says which key names
// are in use.
func Make(w Wanted, keys []Key, logins []Login, taken func(string) bool) Plan {
	var p Plan
	named := map[string]bool{}
	inUse := func(n string) bool { return named[n] || taken(n) }
	newFor := map[[2]string]string{}
	newName := func(old int, l Login) string {
		if w.To != "" {
			return w.To
		}
		of := [2]string{keys[old].Name, ""}
		if w.Each == EachInstance {
			of[1] = l.Instance
		}
		if n, ok := newFor[of]; ok {
			return n
		}
		n := ""
		if w.Names != "" {
			n = NamedBy(w.Names, keys[old], l.Instance, w.Now, inUse)
		} else if w.Each == EachInstance {
			n = OwnName(keys[old].Name, l.Instance, inUse)
		} else {
			n = w.Follows.name(keys[old].Name, inUse)
		}
		newFor[of], named[n] = n, true
		p.New = append(p.New, Following{n, old})
		return n
	}
	for n, l := range logins {
		for _, st := range l.Stands {
			k := keys[st.Key]
			if !w.Wants(k, w.Now) {
				continue
			}
			item := Item{Login: n, Old: st.Key}
			switch {
			case k.Name == w.To:
				item.LeftOut, item.Remedy = "it is the key that is to come", "Choose another with -to, or leave it out"
			case w.Urgent && !k.Lost:
				item.LeftOut, item.Remedy = "it is not marked as lost, and nothing else is urgent", "Mark it: plumlatch key "+
					"mark-lost "+k.Name
			case !st.Seen:
				item.LeftOut, item.Remedy = "it was not seen there, so there is no line to replace", "Look first: plumlatch "+
					"sweep "+l.Instance
			case !st.Granted: // a new key must not be granted what nobody granted the old
				item.LeftOut, item.Remedy = "nobody granted it there", "Settle that first: plumlatch settle "+l.Name
			case l.Means == "":
				item.LeftOut, item.Remedy = l.NoMeans, l.Remedy
			default:
				item.New = newName(st.Key, l)
			}
			p.Items = append(p.Items, item)
		}
	}
	return p
}
