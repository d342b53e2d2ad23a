package reading

import (
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/sshdconfig"
	"plumlatch/internal/core/text"
)

// Server is what an SSH server lets into one login beside the keys of its files, by its settings
// as they were read (sshd_config(5)).
type Server struct {
	// Unread is why the settings are not known, "" where they are. Nothing of the rest is known then.
	Unread string `json:"unread,omitempty"`
	// Refused is the keyword by which the server lets nobody into the login; Doubt one that may,
	// depending on what is not known.
	Refused string `json:"refused,omitempty"`
	Doubt   string `json:"doubt,omitempty"`
	// KeysOff is whether no key is taken at all.
	KeysOff bool `json:"keys_off,omitempty"`
	// Methods are those that it offers beside keys.
	Methods []sshdconfig.Method `json:"methods,omitempty"`
	// Authorities are the certificate authorities of TrustedUserCAKeys. AuthoritiesUnread is why
	// they are not known, though there are some.
	Authorities       []Authority `json:"authorities,omitempty"`
	AuthoritiesUnread string      `json:"authorities_unread,omitempty"`
	// Principals are the files of the names of which a certificate must have one; where there are none,
	// and no command, it must have the login user's.
	Principals []string `json:"principals,omitempty"`
	// KeysCommand and PrincipalsCommand are programs that the server asks at each login.
	KeysCommand       string `json:"keys_command,omitempty"`
	PrincipalsCommand string `json:"principals_command,omitempty"`
	// Conditional are settings that count only under a condition that is not known, in words.
	Conditional []string `json:"conditional,omitempty"`
}

// Authority is a certificate authority whose certificates open a login.
type Authority struct {
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"` // SHA256:…
	Comment     string `json:"comment,omitempty"`
}

const (
	// mostAuthorities is how many authorities are kept, mostConditional how many conditional settings.
	mostAuthorities = 100
	mostConditional = 50
)

// Judging are the keywords that decide who gets in.
var Judging = []string{
	sshdconfig.AllowGroups, sshdconfig.AllowUsers, sshdconfig.AuthenticationMethods, sshdconfig.AuthorizedKeysCommand,
	sshdconfig.AuthorizedKeysFile, sshdconfig.AuthorizedPrincipalsCommand, sshdconfig.AuthorizedPrincipalsFile,
	sshdconfig.DenyGroups, sshdconfig.DenyUsers, sshdconfig.GSSAPIAuthentication, sshdconfig.HostbasedAuthentication,
	sshdconfig.KbdInteractiveAuthentication, sshdconfig.KerberosAuthentication, sshdconfig.PasswordAuthentication,
	sshdconfig.PermitEmptyPasswords, sshdconfig.PermitRootLogin, sshdconfig.PubkeyAuthentication,
	sshdconfig.RevokedKeys, sshdconfig.TrustedUserCAKeys,
}

// ServerOf evaluates the settings for a user. authorities is what the file of TrustedUserCAKeys says, or
// why it was not read.
func ServerOf(
	s sshdconfig.Settings, u sshdconfig.User, conn sshdconfig.Conn, authorities func(path string) ([]byte, error),
) Server {
	out := Server{KeysOff: !s.On(sshdconfig.PubkeyAuthentication), Methods: s.Methods(u)}
	switch is, by := s.Admits(u, conn); is {
	case sshdconfig.No:
		out.Refused = by
	case sshdconfig.Maybe:
		out.Doubt = by
	}
	out.KeysCommand = command(s, sshdconfig.AuthorizedKeysCommand)
	if path := word(s, sshdconfig.TrustedUserCAKeys); path != "" {
		out.PrincipalsCommand = command(s, sshdconfig.AuthorizedPrincipalsCommand)
		content, err := authorities(path)
		if err != nil {
			out.AuthoritiesUnread = fmt.Sprintf("%s: %v", path, err)
		}
		out.Authorities = authoritiesIn(content)
		if out.Principals, err = s.PrincipalsFiles(u); err != nil {
			out.AuthoritiesUnread = err.Error()
		}
	}
	for _, c := range s.DependsOn(Judging...) {
		if len(out.Conditional) < mostConditional {
			out.Conditional = append(out.Conditional, fmt.Sprintf("%s %s if %s", c.Keyword, strings.Join(c.Args, " "), c.Match))
		}
	}
	return out
}

func word(s sshdconfig.Settings, keyword string) string {
	args := s.Get(keyword)
	if len(args) == 0 || strings.EqualFold(args[0], "none") {
		return ""
	}
	return args[0]
}

func command(s sshdconfig.Settings, keyword string) string {
	if word(s, keyword) == "" {
		return ""
	}
	return strings.Join(s.Get(keyword), " ")
}

// authoritiesIn reads a file of TrustedUserCAKeys: public keys, one to a line.
func authoritiesIn(content []byte) (out []Authority) {
	for _, line := range authorizedkeys.Parse(content) {
		if line.Kind != authorizedkeys.Key || len(out) == mostAuthorities {
			continue
		}
		a := Authority{
			Type:        line.Algorithm,
			Fingerprint: keypair.FormatSHA256(keypair.Public{Blob: line.Blob}.SHA256()),
			Comment:     line.Comment,
		}
		if !slices.Contains(out, a) {
			out = append(out, a)
		}
	}
	return out
}

// Within returns what somebody reported, within the bounds of what is kept, and fit to be shown.
func (s Server) Within() Server {
	line := func(v *string) { *v = text.Line(*v, text.MaxLine) }
	for _, v := range []*string{
		&s.Unread, &s.Refused, &s.Doubt, &s.AuthoritiesUnread, &s.KeysCommand, &s.PrincipalsCommand,
	} {
		line(v)
	}
	s.Authorities = slices.Clone(s.Authorities[:min(len(s.Authorities), mostAuthorities)])
	for n := range s.Authorities {
		a := &s.Authorities[n]
		line(&a.Type)
		line(&a.Fingerprint)
		line(&a.Comment)
	}
	s.Methods = slices.Clone(s.Methods[:min(len(s.Methods), mostConditional)])
	for n, m := range s.Methods {
		s.Methods[n] = sshdconfig.Method(text.Line(string(m), text.MaxLine))
	}
	for _, list := range []*[]string{&s.Principals, &s.Conditional} {
		*list = slices.Clone((*list)[:min(len(*list), mostConditional)])
		for n := range *list {
			line(&(*list)[n])
		}
	}
	return s
}

// WayKind is what sort of way into a login something is, beside the keys of its files.
type WayKind string

// The kinds: a method such as a password, an authority whose certificates are taken, a program that names
// keys at each login, what counts under a condition that is not known, and what was not read.
const (
	WayMethod    WayKind = "method"
	WayAuthority WayKind = "authority"
	WayProgram   WayKind = "program"
	WayCondition WayKind = "condition"
	WayUnread    WayKind = "unread"
)

// Way is one way into a login beside the keys of its files, or something that is not known of them.
type Way struct {
	Kind WayKind
	// Name is the method, the authority's fingerprint, or the program; "" for what is not known.
	Name string
	Text string // in words
}

// WaysOf returns the ways in of a login whose server nobody may have read, which is s == nil.
func WaysOf(s *Server, user string) []Way {
	if s == nil {
		return []Way{{
			Kind: WayUnread, Text: "not known what else lets somebody in: nobody has read the SSH server's settings",
		}}
	}
	return s.Ways(user)
}

// Ways returns what lets somebody into the login of the user beside the keys of its files, and
// what is not known of that.
func (s Server) Ways(user string) (ways []Way) {
	add := func(kind WayKind, name, format string, args ...any) {
		ways = append(ways, Way{kind, name, fmt.Sprintf(format, args...)})
	}
	if s.Unread != "" {
		const format = "not known what else lets somebody in, since the SSH server's settings were not read: %s"
		add(WayUnread, "", format, s.Unread)
		return ways
	}
	if s.Refused != "" {
		return nil // nobody gets in
	}
	for _, m := range s.Methods {
		add(WayMethod, string(m), "%s authentication is on", m)
	}
	if s.KeysOff {
		return append(ways, s.conditions()...)
	}
	if s.KeysCommand != "" {
		add(WayProgram, s.KeysCommand, "keys that a program names at each login, which are not listed: %s", s.KeysCommand)
	}
	for _, a := range s.Authorities {
		name := a.Fingerprint
		if a.Comment != "" {
			name += " (" + a.Comment + ")"
		}
		add(WayAuthority, a.Fingerprint, "certificates of the authority %s, for %s", name, s.principals(user))
	}
	if s.AuthoritiesUnread != "" {
		add(WayUnread, "", "certificates of authorities that were not read: %s", s.AuthoritiesUnread)
	}
	return append(ways, s.conditions()...)
}

// principals says whom a certificate has to be for.
func (s Server) principals(user string) string {
	switch {
	case s.PrincipalsCommand != "":
		return "a principal that a program names: " + s.PrincipalsCommand
	case len(s.Principals) > 0:
		return "a principal in " + strings.Join(s.Principals, ", ")
	}
	return "the principal " + user
}

func (s Server) conditions() (out []Way) {
	for _, c := range s.Conditional {
		out = append(out, Way{WayCondition, "", "depends on who connects: " + c})
	}
	if s.Doubt != "" {
		out = append(out, Way{WayCondition, "", "depends on what is not known: " + s.Doubt})
	}
	return out
}

// Counts is how much about who gets in to a login is not as granted.
type Counts struct {
	Missing, Ungranted, Strangers int
	// OtherWays are ways in beside keys; Unread counts what is not known: the settings, and users of the machine.
	OtherWays, Unread int
}

// AsGranted reports whether the granted keys get in, nobody else does, and nothing is left unread.
func (c Counts) AsGranted() bool { return c == Counts{} }

// CountWays adds the ways in to what is counted.
func (c *Counts) CountWays(ways []Way) {
	for _, w := range ways {
		if w.Kind == WayUnread {
			c.Unread++
			continue
		}
		c.OtherWays++
	}
}

// Words says what is beside the keys; "" for nothing.
func (c Counts) Words() string {
	var words []string
	if c.OtherWays > 0 {
		words = append(words, text.Counted(c.OtherWays, "other way")+" in")
	}
	if c.Unread > 0 {
		words = append(words, fmt.Sprintf("%d unread", c.Unread))
	}
	return strings.Join(words, "; ")
}
