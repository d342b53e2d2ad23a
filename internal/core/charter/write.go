package charter

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/custody"
)

// Write writes who may open what, as it is granted now, as a charter of that name: the grants on the logins of those
// instances that have the label, and that no other charter owns. Grants of keys that are out of use, steward keys and
// grants whose time is over are left out. Without withKeys the public keys are not declared: they are recorded already.
func Write(name string, w World, labelName, labelText string, withKeys bool) string {
	var keys []int32
	byLogin := map[int32][]WorldGrant{}
	for _, g := range w.Grants {
		k, l := w.Keys[g.Key], w.Logins[g.Login]
		labels := w.Instances[l.Instance].Labels
		switch {
		case k.Steward, k.State != custody.Active, g.Charter != "" && g.Charter != name,
			labelName != "" && labels[labelName] != labelText, !g.Until.IsZero() && !g.Until.After(w.Reach.Now):
			continue
		}
		keys = append(keys, g.Key)
		byLogin[g.Login] = append(byLogin[g.Login], g)
	}
	slices.Sort(keys)
	out := mapping(
		"charter",
		scalar(name),
		"note",
		scalar("Who may open what, as it was on "+w.Reach.Now.UTC().Format("2 January 2006 15:04")+" UTC"),
	)
	if declared := writeKeys(w, slices.Compact(keys)); withKeys && declared != nil {
		out.Content = append(out.Content, scalar("keys"), declared)
	}
	if declared := writeInstances(w, byLogin); declared != nil {
		out.Content = append(out.Content, scalar("instances"), declared)
	}
	if entries := writeAccess(w, byLogin); len(entries.Content) > 0 {
		out.Content = append(out.Content, scalar("access"), entries)
	}
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(out); err != nil { // into memory, and of our own making
		panic(err)
	}
	return b.String()
}

func scalar(s string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(s)
	return n
}

// mapping is a mapping of names to nodes, by turns.
func mapping(parts ...any) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	for i := 0; i+1 < len(parts); i += 2 {
		if value, ok := parts[i+1].(*yaml.Node); ok && value != nil {
			n.Content = append(n.Content, scalar(parts[i].(string)), value)
		}
	}
	return n
}

func list(names []string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.SequenceNode}
	if len(strings.Join(names, ", ")) < 90 {
		n.Style = yaml.FlowStyle
	}
	for _, s := range names {
		n.Content = append(n.Content, scalar(s))
	}
	return n
}

func writeLabels(labels map[string]string) *yaml.Node {
	if len(labels) == 0 {
		return nil
	}
	n := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle}
	for _, name := range sorted(labels) {
		n.Content = append(n.Content, scalar(name), scalar(labels[name]))
	}
	return n
}

func sorted[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func optional(s string) *yaml.Node {
	if s == "" {
		return nil
	}
	return scalar(s)
}

func writeKeys(w World, keys []int32) *yaml.Node {
	slices.SortFunc(keys, func(a, b int32) int { return strings.Compare(w.Keys[a].Name, w.Keys[b].Name) })
	n := mapping()
	for _, at := range keys {
		k := w.Keys[at]
		n.Content = append(n.Content, scalar(k.Name), mapping(
			"public-key", scalar(k.Line), "holder", optional(k.Holder), "purpose", optional(k.Purpose), "labels",
			writeLabels(k.Labels),
		))
	}
	if len(n.Content) == 0 {
		return nil
	}
	return n
}

func writeInstances(w World, byLogin map[int32][]WorldGrant) *yaml.Node {
	named := map[string]bool{}
	for l := range byLogin {
		named[w.Logins[l].Instance] = true
	}
	n := mapping()
	for _, name := range sorted(named) {
		one := mapping("labels", writeLabels(w.Instances[name].Labels))
		one.Style = yaml.FlowStyle
		n.Content = append(n.Content, scalar(name), one)
	}
	if len(n.Content) == 0 {
		return nil
	}
	return n
}

// writeAccess has one entry for those logins that just the same keys may open, until the same time and for the same
// reason.
func writeAccess(w World, byLogin map[int32][]WorldGrant) *yaml.Node {
	type about struct{ keys, until, why, limits string }
	parts := map[about][]string{} // the logins
	for l, grants := range byLogin {
		of := map[[3]string][]string{}
		for _, g := range grants {
			until := ""
			if !g.Until.IsZero() {
				until = g.Until.UTC().Format(time.RFC3339Nano)
			}
			limits, err := authorizedkeys.ReadLimits(w.lineOf(g))
			if err != nil { // options that no charter gives
				limits = g.Limits
			}
			at := [3]string{until, g.Why, limits}
			of[at] = append(of[at], w.Keys[g.Key].Name)
		}
		for at, keys := range of {
			slices.Sort(keys)
			id := about{strings.Join(keys, "\x00"), at[0], at[1], at[2]}
			parts[id] = append(parts[id], w.Logins[l].Name)
		}
	}
	ids := make([]about, 0, len(parts))
	for id := range parts {
		slices.Sort(parts[id])
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b about) int {
		return cmp.Or(strings.Compare(parts[a][0], parts[b][0]), strings.Compare(fmt.Sprint(a), fmt.Sprint(b)))
	})
	n := &yaml.Node{Kind: yaml.SequenceNode}
	for _, id := range ids {
		who := mapping("keys", list(strings.Split(id.keys, "\x00")))
		var until *yaml.Node
		if id.until != "" {
			until = &yaml.Node{Kind: yaml.ScalarNode, Value: id.until}
		}
		n.Content = append(n.Content, mapping(
			"who", who, "logins", list(parts[id]), "until", until, "why", optional(id.why), "limits",
			optional(id.limits),
		))
	}
	return n
}
