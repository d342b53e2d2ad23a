package restore

import (
	"net/netip"
	"slices"
)

// FirewallRule lets a source (a CIDR) in to a port of the instances of a group.
type FirewallRule struct {
	Group, Source string
	Port          int
}

// Admits reports whether one of the rules lets all of a source in to a port of a group. A source
// that is no CIDR is let in by none.
func Admits(rules []FirewallRule, group string, port int, source string) bool {
	want, err := netip.ParsePrefix(source)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(rules, func(r FirewallRule) bool {
		from, err := netip.ParsePrefix(r.Source)
		return err == nil && r.Group == group && r.Port == port && from.Bits() <= want.Bits() && from.Contains(want.Addr())
	})
}

// HelperCandidate is an image that a helper could be launched from.
type HelperCandidate struct {
	Name       string
	GuestAgent bool
	Windows    bool
}

// HelperImage returns the image of a helper for an instance of the image own: that one, whose
// system knows the disk, where it has a guest agent, and else the first that has; "" for none.
func HelperImage(images []HelperCandidate, own string) string {
	first := ""
	for _, i := range images {
		switch {
		case !i.GuestAgent || i.Windows:
		case i.Name == own:
			return own
		case first == "":
			first = i.Name
		}
	}
	return first
}
