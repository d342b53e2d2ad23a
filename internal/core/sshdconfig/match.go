package sshdconfig

import (
	"errors"
	"net/netip"
	"strconv"
	"strings"
)

// Truth is whether something is so, as far as that can be told.
type Truth int

// The truths. Maybe is said where it depends on what is not known.
const (
	No Truth = iota
	Maybe
	Yes
)

func truth(is bool) Truth {
	if is {
		return Yes
	}
	return No
}

// Conn is who connects, as far as that is known: what is zero is not.
type Conn struct {
	User string
	// Groups are the names of the user's groups; they count only where GroupsKnown.
	Groups      []string
	GroupsKnown bool
	Address     netip.Addr
	// Host is the name of the client, where the server looks it up.
	Host         string
	LocalAddress netip.Addr
	LocalPort    int
}

// matches evaluates the conditions of a Match line.
func (c Conn) matches(conditions []string) (Truth, error) {
	if strings.EqualFold(conditions[0], "all") {
		if len(conditions) > 1 {
			return No, errors.New("match all together with other conditions")
		}
		return Yes, nil
	}
	result := Yes
	for n := 0; n < len(conditions); n += 2 {
		if n+1 == len(conditions) {
			return No, errors.New("a condition of Match without a value")
		}
		is, err := c.is(strings.ToLower(conditions[n]), conditions[n+1])
		if err != nil {
			return No, err
		}
		result = min(result, is)
	}
	return result, nil
}

// is evaluates one condition.
func (c Conn) is(attribute, patterns string) (Truth, error) {
	switch attribute {
	case "user":
		if c.User == "" {
			return whatever(patterns), nil
		}
		return truth(inList(c.User, patterns)), nil
	case "group":
		if !c.GroupsKnown {
			return Maybe, nil
		}
		return truth(anyInList(c.Groups, patterns)), nil
	case "host":
		if c.Host == "" {
			return whatever(patterns), nil
		}
		return truth(inList(strings.ToLower(c.Host), strings.ToLower(patterns))), nil
	case "address":
		return addressIn(c.Address, patterns)
	case "localaddress":
		return addressIn(c.LocalAddress, patterns)
	case "localport":
		port, err := strconv.Atoi(patterns)
		if err != nil || port < 1 || port > 65535 {
			return No, errors.New("the LocalPort of a Match is no port")
		}
		if c.LocalPort == 0 {
			return Maybe, nil
		}
		return truth(c.LocalPort == port), nil
	case "rdomain":
		return Maybe, nil
	}
	return Maybe, nil // of a version that knows more
}

// whatever is whether a list of patterns matches what is not known: only for * that is certain.
func whatever(patterns string) Truth {
	if patterns == "*" {
		return Yes
	}
	return Maybe
}

// inList reports whether a text matches a list of patterns, as match_pattern_list of OpenSSH: one of
// them, and none of those that begin with an exclamation mark.
func inList(text, patterns string) bool { return anyInList([]string{text}, patterns) }

// anyInList reports whether one of the texts is in the list, and none of them is one that is excepted.
func anyInList(texts []string, patterns string) bool {
	found := false
	for _, text := range texts {
		for pattern := range strings.SplitSeq(patterns, ",") {
			pattern, negated := strings.CutPrefix(pattern, "!")
			switch {
			case !like(text, pattern):
			case negated:
				return false
			default:
				found = true
			}
		}
	}
	return found
}

// like reports whether a text matches a pattern, in which * is any text and ? any character. It takes
// time in proportion to both lengths.
func like(text, pattern string) bool {
	t, p, star, from := 0, 0, -1, 0
	for t < len(text) {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, from = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p, t = p+1, t+1
		case star >= 0:
			from++
			p, t = star+1, from
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}

// addressIn evaluates a list of addresses and networks (addr_match_list of OpenSSH), of which those
// with an exclamation mark are excepted. A pattern with * is of the text of the address.
func addressIn(a netip.Addr, list string) (Truth, error) {
	found := No
	for item := range strings.SplitSeq(list, ",") {
		pattern, negated := strings.CutPrefix(item, "!")
		is, err := addressLike(a, pattern)
		if err != nil {
			return No, err
		}
		switch {
		case negated && is == Yes:
			return No, nil
		case negated && is == Maybe:
			found = min(found, Maybe)
		case !negated:
			found = max(found, is)
		}
	}
	return found, nil
}

func addressLike(a netip.Addr, pattern string) (Truth, error) {
	if strings.Contains(pattern, "/") {
		prefix, err := netip.ParsePrefix(pattern)
		if err != nil || prefix.Masked() != prefix {
			return No, errors.New("the Address of a Match has something that is no network")
		}
		return addressIs(a, prefix), nil
	}
	if exact, err := netip.ParseAddr(pattern); err == nil {
		return addressIs(a, netip.PrefixFrom(exact, exact.BitLen())), nil
	}
	if !a.IsValid() {
		return whatever(pattern), nil
	}
	return truth(like(a.String(), pattern)), nil
}

func addressIs(a netip.Addr, in netip.Prefix) Truth {
	if !a.IsValid() {
		return Maybe
	}
	return truth(in.Contains(a.Unmap()))
}
