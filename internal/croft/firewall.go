package croft

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/digitalocean/go-libvirt"
	"github.com/google/uuid"
	"libvirt.org/go/libvirtxml"

	"plumlatch/internal/adapter"
)

var groupForm = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,40}$`)

// filterOf is the name of the network filter of a group.
func filterOf(group string) string { return prefix + group }

// lastGuarded is the last port that a group closes unless a rule opens it. Answers to what a machine asks of others
// come to ports above it, and the filter keeps no account of connections.
const lastGuarded = 32767

// rule lets a range of addresses in to a port.
type rule struct {
	source netip.Prefix
	port   int
}

func (r rule) id(group string) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%s %s %d", group, r.source, r.port))
	return hex.EncodeToString(sum[:8])
}

// filterXML is the network filter of a group. Its rules are such that libvirt has each tap checked by itself (ip, not
// tcp), since those for bridged traffic would let the host's own connections pass.
func filterXML(group, id string, rules []rule) (string, error) {
	f := libvirtxml.NWFilter{Name: filterOf(group), UUID: id, Chain: "root"}
	for _, r := range rules {
		f.Entries = append(f.Entries, ipRule("accept", 300, &r.source, r.port, r.port))
	}
	f.Entries = append(f.Entries, ipRule("drop", 900, nil, 1, lastGuarded), libvirtxml.NWFilterEntry{
		Rule: &libvirtxml.NWFilterRule{
			Action: "drop", Direction: "in", Priority: 900, IPv6: &libvirtxml.NWFilterRuleIPv6{
				NWFilterRuleCommonPort: libvirtxml.NWFilterRuleCommonPort{
					DstPortStart: number(1), DstPortEnd: number(lastGuarded),
				},
				Protocol: libvirtxml.NWFilterField{Str: "tcp"},
			},
		},
	})
	return f.Marshal()
}

func number(n int) libvirtxml.NWFilterField { u := uint(n); return libvirtxml.NWFilterField{Uint: &u} }

func ipRule(action string, priority int, source *netip.Prefix, from, to int) libvirtxml.NWFilterEntry {
	ip := libvirtxml.NWFilterRuleIP{
		Protocol: libvirtxml.NWFilterField{Str: "tcp"},
		NWFilterRuleCommonPort: libvirtxml.NWFilterRuleCommonPort{
			DstPortStart: number(from), DstPortEnd: number(to),
		},
	}
	if source != nil {
		ip.SrcIPAddr = libvirtxml.NWFilterField{Str: source.Addr().String()}
		ip.SrcIPMask = libvirtxml.NWFilterField{Str: strconv.Itoa(source.Bits())}
	}
	return libvirtxml.NWFilterEntry{
		Rule: &libvirtxml.NWFilterRule{Action: action, Direction: "in", Priority: priority, IP: &ip},
	}
}

// rulesOf reads the rules that open something.
func rulesOf(f libvirtxml.NWFilter) (out []rule) {
	for _, e := range f.Entries {
		if e.Rule == nil || e.Rule.Action != "accept" || e.Rule.IP == nil {
			continue
		}
		ip := e.Rule.IP
		source, err := netip.ParsePrefix(ip.SrcIPAddr.Str + "/" + maskOf(ip.SrcIPMask))
		if err != nil || ip.DstPortStart.Uint == nil {
			continue
		}
		out = append(out, rule{source, int(*ip.DstPortStart.Uint)})
	}
	return out
}

// maskOf is the length of a mask that libvirt tells as a number or as an address.
func maskOf(f libvirtxml.NWFilterField) string {
	if f.Uint != nil {
		return strconv.Itoa(int(*f.Uint))
	}
	if a, err := netip.ParseAddr(f.Str); err == nil && a.Is4() {
		ones := 0
		for _, b := range a.As4() {
			for ; b != 0; b <<= 1 {
				ones++
			}
		}
		return strconv.Itoa(ones)
	}
	return f.Str
}

// groups are the rules of all groups of the host, by name.
func (h *host) groups(ctx context.Context) (map[string][]rule, error) {
	out := map[string][]rule{}
	err := h.call(ctx, func(l *libvirt.Libvirt) error {
		list, _, err := l.ConnectListAllNwfilters(1, 0)
		if err != nil {
			return err
		}
		for _, one := range list {
			group, ours := strings.CutPrefix(one.Name, prefix)
			if !ours {
				continue
			}
			text, err := l.NwfilterGetXMLDesc(one, 0)
			if err != nil {
				return err
			}
			var f libvirtxml.NWFilter
			if err := f.Unmarshal(text); err != nil {
				return err
			}
			out[group] = rulesOf(f)
		}
		return nil
	})
	return out, err
}

// setGroup gives a group its rules, in effect at once for machines that run.
func (h *host) setGroup(ctx context.Context, group string, rules []rule) error {
	return h.call(ctx, func(l *libvirt.Libvirt) error {
		id := uuid.NewString()
		now, err := l.NwfilterLookupByName(filterOf(group))
		switch {
		case err == nil:
			id = uuid.UUID(now.UUID).String()
		case !is(err, libvirt.ErrNoNwfilter):
			return err
		}
		text, err := filterXML(group, id, rules)
		if err != nil {
			return err
		}
		_, err = l.NwfilterDefineXML(text)
		return err
	})
}

// ensureGroup makes a group that is not there; one called default lets SSH in from the ranges that the settings say.
func (c *Croft) ensureGroup(ctx context.Context, h *host, group string) error {
	c.firewall.Lock() // two launches each look first
	defer c.firewall.Unlock()
	now, err := h.groups(ctx)
	if err != nil {
		return err
	}
	if _, there := now[group]; there {
		return nil
	}
	return h.setGroup(ctx, group, c.firstRules(h, group))
}

func (c *Croft) firstRules(h *host, group string) (out []rule) {
	if group != "default" {
		return nil
	}
	for _, from := range c.settings.Open {
		out = append(out, rule{netip.MustParsePrefix(from), h.SSHPort})
	}
	return out
}

// ListFirewallRules lists the rules of all groups.
func (a api) ListFirewallRules(
	ctx context.Context, _ adapter.ListFirewallRulesRequestObject,
) (adapter.ListFirewallRulesResponseObject, error) {
	found := map[string]adapter.FirewallRule{}
	for _, h := range a.hosts {
		groups, err := h.groups(ctx)
		if err != nil {
			return nil, err
		}
		for group, rules := range groups {
			for _, r := range rules {
				found[r.id(group)] = ruleTold(group, r)
			}
		}
	}
	out := adapter.ListFirewallRules200JSONResponse{}
	for _, r := range found {
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b adapter.FirewallRule) int { return strings.Compare(a.Id, b.Id) })
	return out, nil
}

func ruleTold(group string, r rule) adapter.FirewallRule {
	return adapter.FirewallRule{Id: r.id(group), Group: group, Source: r.source.String(), Port: r.port}
}

// AddFirewallRule adds a rule on all hosts. One that is there already is the answer too.
func (a api) AddFirewallRule(
	ctx context.Context, r adapter.AddFirewallRuleRequestObject,
) (adapter.AddFirewallRuleResponseObject, error) {
	source, err := netip.ParsePrefix(r.Body.Source)
	switch {
	case !groupForm.MatchString(r.Body.Group):
		return nil, adapter.BadRequest(fmt.Sprintf("%q is no name for a group", r.Body.Group))
	case err != nil || !source.Addr().Is4() || source.Masked() != source:
		return nil, adapter.BadRequest(fmt.Sprintf("%q is no range of IPv4 addresses", r.Body.Source))
	}
	wanted := rule{source, r.Body.Port}
	err = a.eachGroup(ctx, func(h *host, groups map[string][]rule) error {
		rules, there := groups[r.Body.Group]
		if !there {
			rules = a.firstRules(h, r.Body.Group)
		}
		if there && slices.Contains(rules, wanted) {
			return nil
		}
		return h.setGroup(ctx, r.Body.Group, append(slices.Clone(rules), wanted))
	})
	if err != nil {
		return nil, err
	}
	return adapter.AddFirewallRule201JSONResponse(ruleTold(r.Body.Group, wanted)), nil
}

// RemoveFirewallRule removes a rule from all hosts.
func (a api) RemoveFirewallRule(
	ctx context.Context, r adapter.RemoveFirewallRuleRequestObject,
) (adapter.RemoveFirewallRuleResponseObject, error) {
	err := a.eachGroup(ctx, func(h *host, groups map[string][]rule) error {
		for group, rules := range groups {
			left := slices.DeleteFunc(slices.Clone(rules), func(one rule) bool { return one.id(group) == r.Rule })
			if len(left) == len(rules) {
				continue
			}
			if err := h.setGroup(ctx, group, left); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return adapter.RemoveFirewallRule204Response{}, nil
}

// eachGroup changes the groups of each host, one change at a time.
func (a api) eachGroup(ctx context.Context, do func(h *host, groups map[string][]rule) error) error {
	a.firewall.Lock()
	defer a.firewall.Unlock()
	for _, h := range a.hosts {
		groups, err := h.groups(ctx)
		if err != nil {
			return err
		}
		if err := do(h, groups); err != nil {
			return err
		}
	}
	return nil
}
