package charter

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumlatch/internal/core/name"
	"plumlatch/internal/core/text"
)

// field reads one field of a mapping.
type field func(n *yaml.Node)

// mapping reads a mapping whose fields are known.
func (r *reader) mapping(n *yaml.Node, of string, fields map[string]field) {
	r.each(n, of, func(key, value *yaml.Node) {
		read, known := fields[key.Value]
		if !known {
			names := make([]string, 0, len(fields))
			for f := range fields {
				names = append(names, f)
			}
			slices.Sort(names)
			remedy := "It has " + strings.Join(names, ", ")
			if near := name.Nearest(key.Value, names); len(near) > 0 {
				remedy = "Did you mean " + near[0] + "?"
			}
			r.bad(key, "unknown-field", fmt.Sprintf("%s has no %s", of, quoted(key.Value)), remedy)
			return
		}
		read(value)
	})
}

// empty reports whether there is nothing where a mapping or a list is expected.
func empty(n *yaml.Node) bool {
	return n.Kind == yaml.ScalarNode && n.Tag == "!!null" && n.Anchor == ""
}

func quoted(s string) string { return strconv.Quote(text.Line(s, text.MaxLine)) }

// each reads the entries of a mapping, each of which is there once. Nothing at all is a mapping with no entries.
func (r *reader) each(n *yaml.Node, of string, read func(key, value *yaml.Node)) {
	if empty(n) {
		return
	}
	if !r.is(n, yaml.MappingNode, of, "a mapping of names to values") {
		return
	}
	seen := make(map[string]int, len(n.Content)/2)
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		if !r.is(key, yaml.ScalarNode, "a name in "+of, "text") {
			continue
		}
		if line, twice := seen[key.Value]; twice {
			r.bad(
				key, "twice", fmt.Sprintf("%s is there a second time in %s, first in line %d", quoted(key.Value), of, line),
				"Remove one of the two",
			)
			continue
		}
		seen[key.Value] = key.Line
		read(key, value)
	}
}

// is reports whether a node is of the kind, and tells where it is not. References to other places are never followed.
func (r *reader) is(n *yaml.Node, kind yaml.Kind, of, want string) bool {
	switch {
	case n.Kind == yaml.AliasNode || n.Anchor != "":
		r.bad(n, "anchor", "it has an anchor or an alias, which a charter does not have", "Write it out, or use defaults")
	case n.Kind != kind:
		r.bad(n, "wrong-type", fmt.Sprintf("%s is not %s", of, want), "")
	case n.Kind == yaml.ScalarNode && n.Style&yaml.TaggedStyle != 0:
		r.bad(n, "wrong-type", fmt.Sprintf("%s has the tag %s", of, quoted(n.Tag)), "Leave the tag out")
	default:
		return true
	}
	return false
}

// text reads a text. A number or a truth value is none, unless it is quoted.
func (r *reader) text(into *string, of string) field {
	return func(n *yaml.Node) {
		if !r.is(n, yaml.ScalarNode, of, "text") {
			return
		}
		switch n.Tag {
		case "!!str":
			*into = n.Value
			if len(n.Value) > mostText {
				r.bad(n, "too-long", fmt.Sprintf("%s has %d bytes; %d are taken", of, len(n.Value), mostText), "")
			} else if n.Value != text.Plain(n.Value) {
				r.bad(n, "control-characters", of+" has control characters in it", "Leave them out")
			}
		default:
			r.bad(n, "wrong-type", fmt.Sprintf("%s is %s, which is not text", of, quoted(n.Value)), "Put it between quotes")
		}
	}
}

// name reads a name that is fit for a record.
func (r *reader) name(into *string, of string) field {
	return func(n *yaml.Node) {
		if r.text(into, of)(n); *into != "" {
			r.fit(n, *into)
		}
	}
}

func (r *reader) fit(n *yaml.Node, s string) {
	if err := name.Check(s); err != nil {
		r.bad(n, "bad-name", err.Error(), "")
	}
}

func (r *reader) truth(into *bool, of string) field {
	return func(n *yaml.Node) {
		if r.is(n, yaml.ScalarNode, of, "true or false") {
			if n.Tag != "!!bool" {
				r.bad(n, "wrong-type", of+" is neither true nor false", "")
			}
			*into = n.Value == "true"
		}
	}
}

func (r *reader) number(into *int, of string, least, most int) field {
	return func(n *yaml.Node) {
		if !r.is(n, yaml.ScalarNode, of, "a number") {
			return
		}
		got, err := strconv.Atoi(n.Value)
		if n.Tag != "!!int" || err != nil || got < least || got > most {
			r.bad(n, "wrong-type", fmt.Sprintf("%s is no number from %d to %d", of, least, most), "")
		}
		*into = got
	}
}

// names reads a list of names; one alone needs no list.
func (r *reader) names(into *[]Named, of string) field {
	return func(n *yaml.Node) {
		list := []*yaml.Node{n}
		if n.Kind == yaml.SequenceNode && n.Anchor == "" {
			list = n.Content
		}
		*into = make([]Named, 0, len(list))
		for _, one := range list {
			var s string
			r.text(&s, "an entry of "+of)(one)
			*into = append(*into, Named{s, r.at(one)})
		}
	}
}

func (r *reader) labels(into *map[string]string, of string) field {
	return func(n *yaml.Node) {
		*into = map[string]string{}
		r.each(n, of, func(key, value *yaml.Node) {
			var s string
			r.text(&s, "the label "+quoted(key.Value))(value)
			r.fit(key, key.Value)
			(*into)[key.Value] = s
		})
	}
}

// moment reads a time as RFC 3339 has it, or a day, whose end in UTC is meant.
func (r *reader) moment(into *time.Time, of string) field {
	return func(n *yaml.Node) {
		if !r.is(n, yaml.ScalarNode, of, "a time") {
			return
		}
		if at, err := time.Parse(time.RFC3339, n.Value); err == nil {
			*into = at.UTC()
		} else if at, err := time.Parse(time.DateOnly, n.Value); err == nil {
			*into = at.AddDate(0, 0, 1)
		} else {
			r.bad(n, "bad-time", of+" is no time: "+quoted(n.Value), "Write 2027-01-31, or 2027-01-31T18:00:00Z")
		}
	}
}
