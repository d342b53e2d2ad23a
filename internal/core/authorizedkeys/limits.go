package authorizedkeys

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// MaxLimits is how long the limits of a line may be, in bytes.
const MaxLimits = 1000

// limiting are the options of sshd(8) that limit what a line opens, and whether each has a value. Those are not among
// them that say when a line ends, or that it is a certificate authority: these are no limits of a key.
var limiting = map[string]bool{
	"from": true, "command": true, "environment": true, "permitopen": true, "permitlisten": true, "tunnel": true,
	"restrict": false, "agent-forwarding": false, "no-agent-forwarding": false, "port-forwarding": false,
	"no-port-forwarding": false, "pty": false, "no-pty": false, "user-rc": false, "no-user-rc": false,
	"x11-forwarding": false, "no-x11-forwarding": false, "no-touch-required": false, "verify-required": false,
}

// ReadLimits reads limits as they are written before a key, such as from="192.0.2.0/24",no-pty, and returns them in the
// form that LimitText gives. An option that sshd would not take is an error, since it would refuse the whole line.
func ReadLimits(text string) (string, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", nil
	}
	if len(text) > MaxLimits {
		return "", fmt.Errorf("the limits are longer than %d bytes", MaxLimits)
	}
	if !utf8.ValidString(text) {
		return "", fmt.Errorf("the limits are not valid UTF-8")
	}
	if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return "", fmt.Errorf("a control character in the limits")
	}
	options, rest, err := cutOptions(text + " end")
	if err != nil {
		return "", err
	}
	if rest != "end" {
		return "", fmt.Errorf("there is a space outside of quotes, after %q", shorten(text))
	}
	for n, o := range options {
		if err := checkLimit(o); err != nil {
			return "", err
		}
		once := o.Name == "from" || o.Name == "command"
		if once && slices.ContainsFunc(options[:n], func(p Option) bool { return p.Name == o.Name }) {
			return "", fmt.Errorf("the option %s is given twice", o.Name)
		}
	}
	return writeOptions(options), nil
}

func checkLimit(o Option) error {
	valued, known := limiting[o.Name]
	switch {
	case o.Name == "expiry-time":
		return fmt.Errorf("the end of a grant is no limit: give it as until")
	case !known:
		return fmt.Errorf("%q is no option that limits a key", shorten(o.Name))
	case valued && o.Value == "":
		return fmt.Errorf("the option %s needs a value", o.Name)
	case !valued && o.Value != "":
		return fmt.Errorf("the option %s takes no value", o.Name)
	}
	if o.Name == "from" {
		return checkFrom(o.Value)
	}
	return nil
}

// checkFrom judges a pattern list of addresses and host names; see PATTERNS in ssh_config(5).
func checkFrom(value string) error {
	admits := false
	for one := range strings.SplitSeq(value, ",") {
		pattern, refuses := strings.CutPrefix(strings.TrimSpace(one), "!")
		if pattern == "" || strings.ContainsAny(pattern, " \t\"") {
			return fmt.Errorf("from: %q is no address, network or name", shorten(one))
		}
		if strings.Contains(pattern, "/") {
			if p, err := netip.ParsePrefix(pattern); err != nil || p.Masked() != p {
				return fmt.Errorf("from: %q is no network; write it as 192.0.2.0/24", shorten(pattern))
			}
		}
		admits = admits || !refuses
	}
	if !admits {
		return fmt.Errorf("from: nothing but refusals, so that nobody would get in")
	}
	return nil
}

func writeOptions(options []Option) string {
	var out []string
	for _, o := range options {
		if valued, known := limiting[o.Name]; valued || !known && o.Value != "" {
			o.Name += `="` + strings.ReplaceAll(o.Value, `"`, `\"`) + `"`
		}
		out = append(out, o.Name)
	}
	return strings.Join(out, ",")
}

// LimitText returns the options of the line except its end, in their order and in one form for all ways to write them.
func (l Line) LimitText() string {
	return writeOptions(slices.DeleteFunc(slices.Clone(l.Options), func(o Option) bool { return o.Name == "expiry-time" }))
}

// WithLimits returns the line with limits that ReadLimits has read in the place of its options. Its end stays.
func (l Line) WithLimits(limits string) Line {
	lead, rest := l.bareText()
	kept := slices.DeleteFunc(l.optionTexts(), func(o string) bool { return !endsLine(o) })
	if limits != "" {
		kept = append(kept, limits)
	}
	return parseLine(lead+before(kept, rest), l.Number)
}

// OpensWith reports whether a line with those limits opens its login with a shell.
func OpensWith(limits string) bool {
	options, _, err := cutOptions(limits + " end")
	return err != nil || !slices.ContainsFunc(options, func(o Option) bool { return o.Name == "command" })
}

// LimitsTold says in words what ReadLimits has read; "" for no limits.
func LimitsTold(limits string) string {
	if limits == "" {
		return ""
	}
	var told []string
	options, _, _ := cutOptions(limits + " end")
	for _, o := range options {
		switch o.Name {
		case "from":
			told = append(told, "only from "+o.Value)
		case "command":
			told = append(told, "only the command "+o.Value)
		default:
			told = append(told, writeOptions([]Option{o}))
		}
	}
	return strings.Join(told, "; ")
}

// SentAway is a regular expression, as Go and PostgreSQL both read it, for the limits of a line by which nobody gets
// in: cloud-init puts such lines before root's copies of the keys (its setting disable_root_opts), so that they say
// which login to use.
const SentAway = `(^|,)command="echo 'Please login as the user \\"[A-Za-z0-9._-]+\\" rather than the user ` +
	`\\"[A-Za-z0-9._-]+\\"\.';echo;sleep [0-9]+;exit [0-9]+"(,|$)`

var sentAway = regexp.MustCompile(SentAway)

// SendsAway reports whether limits, as LimitText gives them, are of that kind.
func SendsAway(limits string) bool { return sentAway.MatchString(limits) }
