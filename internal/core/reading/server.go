package reading

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

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
	// KeysOff is whether no key is taken at all. Together are the lists of methods by which a key lets in only together
	// with something else.
	KeysOff  bool     `json:"keys_off,omitempty"`
	Together []string `json:"together,omitempty"`
	// Revoked are the fingerprints of the keys that RevokedKeys refuses.
	Revoked []string `json:"revoked,omitempty"`
	// NotTaken are the key types that PubkeyAcceptedAlgorithms leaves out.
	NotTaken []string `json:"not_taken,omitempty"`
	// Methods are those that it offers beside keys.
	Methods []sshdconfig.Method `json:"methods,omitempty"`
	// Authorities are the certificate authorities of TrustedUserCAKeys. AuthoritiesUnread is why
	// they are not known, though there are some.
	Authorities       []Authority `json:"authorities,omitempty"`
	AuthoritiesUnread string      `json:"authorities_unread,omitempty"`
	// Principals are the files of the names of which a certificate must have one; where there are none,
	// and no command, it must have the login user's.
	Principals []string `json:"principals,omitempty"`
	// Names are what is in those files, as far as they are outside of the home folder, and what PrincipalsCommand said.
	Names []string `json:"names,omitempty"`
	// KeysCommand and PrincipalsCommand are programs that the server asks at each login. KeysUnasked and
	// PrincipalsUnasked are why they were not asked by this reading, "" where they were.
	KeysCommand       string `json:"keys_command,omitempty"`
	KeysUnasked       string `json:"keys_unasked,omitempty"`
	PrincipalsCommand string `json:"principals_command,omitempty"`
	PrincipalsUnasked string `json:"principals_unasked,omitempty"`
	// NamedKeys are the keys that KeysCommand named.
	NamedKeys []NamedKey `json:"named_keys,omitempty"`
	// Conditional are settings that count only under a condition that is not known, in words.
	Conditional []string `json:"conditional,omitempty"`
}

// Authority is a certificate authority whose certificates open a login.
type Authority struct {
	Type        string `json:"type"`
	Fingerprint string `json:"fingerprint"` // SHA256:…
	Comment     string `json:"comment,omitempty"`
}

// NamedKey is a key that a program names. Limits are what its line limits it to.
type NamedKey struct {
	Authority
	Limits string `json:"limits,omitempty"`
}

// unasked is why a program was not asked where nothing else is known.
const unasked = "it takes root's rights to ask it"

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

// ServerOf evaluates the settings for a user. read reads the files of TrustedUserCAKeys and of
// AuthorizedPrincipalsFile, or says why not.
func ServerOf(
	s sshdconfig.Settings, u sshdconfig.User, conn sshdconfig.Conn, read func(path string) ([]byte, error),
) Server {
	out := Server{KeysOff: !s.On(sshdconfig.PubkeyAuthentication), Methods: s.Methods(u)}
	switch is, by := s.Admits(u, conn); is {
	case sshdconfig.No:
		out.Refused = by
	case sshdconfig.Maybe:
		out.Doubt = by
	}
	if together, keys := s.Beside(); !keys {
		out.KeysOff = true
	} else {
		out.Together = together
	}
	for _, t := range keyTypes {
		if !s.Takes(t) {
			out.NotTaken = append(out.NotTaken, t)
		}
	}
	if path := word(s, sshdconfig.RevokedKeys); path != "" {
		out.revoke(path, read)
	}
	if out.KeysCommand = command(s, sshdconfig.AuthorizedKeysCommand); out.KeysCommand != "" {
		out.KeysUnasked = unasked
	}
	if path := word(s, sshdconfig.TrustedUserCAKeys); path != "" {
		if out.PrincipalsCommand = command(s, sshdconfig.AuthorizedPrincipalsCommand); out.PrincipalsCommand != "" {
			out.PrincipalsUnasked = unasked
		}
		content, err := read(path)
		if err != nil {
			out.AuthoritiesUnread = fmt.Sprintf("%s: %v", path, err)
		}
		out.Authorities = authoritiesIn(content)
		if out.Principals, err = s.PrincipalsFiles(u); err != nil {
			out.AuthoritiesUnread = err.Error()
		}
		for _, file := range out.Principals {
			// In the home folder it may lead elsewhere, whose content is nobody's to see.
			if content, err := read(file); err == nil && !strings.HasPrefix(file, u.Home+"/") {
				out.AddNames(content)
			}
		}
	}
	for _, c := range s.DependsOn(Judging...) {
		if len(out.Conditional) < mostConditional {
			out.Conditional = append(out.Conditional, fmt.Sprintf("%s %s if %s", c.Keyword, strings.Join(c.Args, " "), c.Match))
		}
	}
	return out
}

// keyTypes are those of the keys that a server may be asked with (sshd_config(5), PubkeyAcceptedAlgorithms).
var keyTypes = []string{
	"ssh-ed25519", "ssh-rsa", "ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521",
	"sk-ssh-ed25519@openssh.com", "sk-ecdsa-sha2-nistp256@openssh.com",
}

// krlMagic begins a file of RevokedKeys that is not a list of keys (OpenSSH's PROTOCOL.krl).
const krlMagic = "SSHKRL\n\x00"

// revoke reads the file of RevokedKeys: public keys, one to a line. What is not known of it is a doubt.
func (s *Server) revoke(path string, read func(path string) ([]byte, error)) {
	content, err := read(path)
	why := ""
	switch {
	case err != nil:
		why = err.Error()
	case strings.HasPrefix(string(content), krlMagic):
		why = "it is a binary revocation list"
	}
	if why != "" {
		if s.Doubt == "" {
			s.Doubt = fmt.Sprintf("which keys %s of RevokedKeys refuses: %s", path, why)
		}
		return
	}
	for _, a := range authoritiesIn(content) {
		s.Revoked = append(s.Revoked, a.Fingerprint)
	}
	if len(s.Revoked) == mostAuthorities && s.Doubt == "" {
		s.Doubt = fmt.Sprintf("which keys %s of RevokedKeys refuses beside the first %d", path, mostAuthorities)
	}
}

// Judge says of the lines of a login what the settings make of them: a revoked key opens nothing.
func (s *Server) Judge(lines Lines) {
	for n := range lines.Keys {
		l := &lines.Keys[n]
		limit := ""
		switch {
		case slices.Contains(s.Revoked, keypair.FormatSHA256(l.SHA256)):
			l.Opens, limit = false, "revoked by the server's RevokedKeys"
		case slices.Contains(s.NotTaken, l.Algorithm):
			l.Opens, limit = false, "its type is left out by the server's PubkeyAcceptedAlgorithms"
		case len(s.Together) > 0:
			limit = "only together with another method (" + strings.Join(s.Together, " or ") + ")"
		}
		if limit != "" {
			l.Limits = strings.TrimPrefix(l.Limits+"; "+limit, "; ")
		}
	}
}

// principal is a name that a certificate may be for, as far as it is told.
var principal = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@+-]{0,63}$`)

// AddNames adds the principals of a file in the format of AuthorizedPrincipalsFile, without the options of its lines.
func (s *Server) AddNames(content []byte) {
	for line := range strings.Lines(string(content)) {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		if n := fields[len(fields)-1]; principal.MatchString(n) && !slices.Contains(s.Names, n) &&
			len(s.Names) < mostConditional {
			s.Names = append(s.Names, n)
		}
	}
}

// AddNamed adds the keys that KeysCommand named, as they count at a time. It says what was left out.
func (s *Server) AddNamed(said []byte, at time.Time) {
	for _, l := range Read([]File{{There: true, Content: said}}, at).Keys {
		if len(s.NamedKeys) == mostAuthorities {
			s.KeysUnasked = fmt.Sprintf("it names over %d keys, of which the first are listed", mostAuthorities)
			return
		}
		s.NamedKeys = append(s.NamedKeys, NamedKey{
			Authority{l.Algorithm, keypair.FormatSHA256(l.SHA256), text.Line(l.Comment, text.MaxLine)}, l.Limits,
		})
	}
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
		&s.Unread, &s.Refused, &s.Doubt, &s.AuthoritiesUnread, &s.KeysCommand, &s.PrincipalsCommand, &s.KeysUnasked,
		&s.PrincipalsUnasked,
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
	s.NamedKeys = slices.Clone(s.NamedKeys[:min(len(s.NamedKeys), mostAuthorities)])
	for n := range s.NamedKeys {
		k := &s.NamedKeys[n]
		line(&k.Type)
		line(&k.Fingerprint)
		line(&k.Comment)
		line(&k.Limits)
	}
	s.Methods = slices.Clone(s.Methods[:min(len(s.Methods), mostConditional)])
	for n, m := range s.Methods {
		s.Methods[n] = sshdconfig.Method(text.Line(string(m), text.MaxLine))
	}
	s.Revoked = slices.Clone(s.Revoked[:min(len(s.Revoked), mostAuthorities)])
	for n := range s.Revoked {
		line(&s.Revoked[n])
	}
	for _, list := range []*[]string{&s.Principals, &s.Conditional, &s.Names, &s.Together, &s.NotTaken} {
		*list = slices.Clone((*list)[:min(len(*list), mostConditional)])
		for n := range *list {
			line(&(*list)[n])
		}
	}
	return s
}

// WayKind is what sort of way into a login something is, beside the keys of its files.
type WayKind string

// The kinds: a method such as a password, an authority whose certificates are taken, a program that names keys at each
// login, a key that it named, a key that the cloud hands to a group of machines, what counts under a condition that is
// not known, and what was not read.
const (
	WayMethod    WayKind = "method"
	WayAuthority WayKind = "authority"
	WayProgram   WayKind = "program"
	WayNamed     WayKind = "named-key"
	WayGroup     WayKind = "group-key"
	WayCondition WayKind = "condition"
	WayUnread    WayKind = "unread"
)

// Way is one way into a login beside the keys of its files, or something that is not known of them.
type Way struct {
	Kind WayKind
	// Name is the method, the authority's fingerprint, or the program; "" for what is not known.
	Name string
	Text string // in words
	// Accepted says who has accepted it, when and why; "" where nobody has.
	Accepted string
}

// ID tells the way from others of its kind.
func (w Way) ID() string {
	if w.Name == "" {
		return w.Text
	}
	return w.Name
}

// Acceptance is that somebody has accepted a way, as it was then.
type Acceptance struct {
	Kind     WayKind
	ID, Text string
	By       string
	At       time.Time
	Reason   string
}

// Mark says of the ways which of them are accepted. One that is not as it was then, such as an authority with other
// principals, is no longer; a program is, since each key that it names is a way of its own.
func Mark(ways []Way, accepted []Acceptance) []Way {
	for n := range ways {
		w := &ways[n]
		for _, a := range accepted {
			if a.Kind != w.Kind || a.ID != w.ID() || w.Kind == WayUnread {
				continue
			}
			if a.Text != w.Text && w.Kind != WayProgram {
				w.Text += "; it is not as it was accepted"
				continue
			}
			w.Accepted = fmt.Sprintf("accepted by %s on %s", a.By, a.At.UTC().Format("2 Jan 2006"))
			if a.Reason != "" {
				w.Accepted += ": " + a.Reason
			}
		}
	}
	return ways
}

// Told is the way in words, with who has accepted it.
func (w Way) Told() string {
	if w.Accepted == "" {
		return w.Text
	}
	return w.Text + "; " + w.Accepted
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

// GroupWay is a key that a cloud hands to all machines of a project, a zone or a group.
func GroupWay(fingerprint, recorded, comment, kind, group, cloud string) Way {
	key := Authority{Fingerprint: fingerprint, Comment: comment}.String()
	if recorded != "" {
		key = recorded
	}
	what := kind + " " + group
	if kind == "project" {
		what = group
	}
	return Way{
		Kind: WayGroup,
		Name: fingerprint,
		Text: fmt.Sprintf("the key %s, which the cloud %s hands to %s", key, cloud, what),
	}
}

// Ways returns what lets somebody into the login of the user beside the keys of its files, and
// what is not known of that.
func (s Server) Ways(user string) (ways []Way) {
	add := func(kind WayKind, name, format string, args ...any) {
		ways = append(ways, Way{Kind: kind, Name: name, Text: fmt.Sprintf(format, args...)})
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
		const format = "keys that a program names at each login: %s"
		switch {
		case s.KeysUnasked != "":
			add(WayProgram, s.KeysCommand, format+"; which they are is not known: %s", s.KeysCommand, s.KeysUnasked)
		default:
			add(WayProgram, s.KeysCommand, format+"; asked, it named %s", s.KeysCommand, text.Counted(len(s.NamedKeys), "key"))
		}
		for _, k := range s.NamedKeys {
			limits := ""
			if k.Limits != "" {
				limits = "; " + k.Limits
			}
			add(WayNamed, k.Fingerprint, "the key %s, named by the program%s", k.String(), limits)
		}
	}
	for _, a := range s.Authorities {
		add(WayAuthority, a.Fingerprint, "certificates of the authority %s, for %s", a.String(), s.principals(user))
	}
	if s.AuthoritiesUnread != "" {
		add(WayUnread, "", "certificates of authorities that were not read: %s", s.AuthoritiesUnread)
	}
	return append(ways, s.conditions()...)
}

// String is the fingerprint with the comment.
func (a Authority) String() string {
	if a.Comment == "" {
		return a.Fingerprint
	}
	return a.Fingerprint + " (" + a.Comment + ")"
}

// principals says whom a certificate has to be for.
func (s Server) principals(user string) string {
	names := ""
	if len(s.Names) > 0 {
		names = ", such as " + strings.Join(s.Names, ", ")
	}
	switch {
	case s.PrincipalsCommand != "":
		if s.PrincipalsUnasked != "" {
			names += "; whom it names is not known: " + s.PrincipalsUnasked
		}
		return "a principal that a program names: " + s.PrincipalsCommand + names
	case len(s.Principals) > 0:
		return "a principal in " + strings.Join(s.Principals, ", ") + names
	}
	return "the principal " + user
}

func (s Server) conditions() (out []Way) {
	for _, c := range s.Conditional {
		out = append(out, Way{Kind: WayCondition, Text: "depends on who connects: " + c})
	}
	if len(s.Together) > 0 {
		out = append(out, Way{
			Kind: WayCondition,
			Text: "a key alone does not open it: AuthenticationMethods " + strings.Join(s.Together, " "),
		})
	}
	if s.Doubt != "" {
		out = append(out, Way{Kind: WayCondition, Text: "depends on what is not known: " + s.Doubt})
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

// CountWays adds the ways in to what is counted, but for those that somebody has accepted.
func (c *Counts) CountWays(ways []Way) {
	for _, w := range ways {
		switch {
		case w.Kind == WayUnread:
			c.Unread++
		case w.Accepted == "":
			c.OtherWays++
		}
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
