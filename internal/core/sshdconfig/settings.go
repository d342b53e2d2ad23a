package sshdconfig

import (
	"fmt"
	"slices"
	"strings"
)

// The keywords of which package users ask.
const (
	AllowGroups                 = "allowgroups"
	AllowUsers                  = "allowusers"
	AuthenticationMethods       = "authenticationmethods"
	AuthorizedKeysCommand       = "authorizedkeyscommand"
	AuthorizedKeysCommandUser   = "authorizedkeyscommanduser"
	AuthorizedKeysFile          = "authorizedkeysfile"
	AuthorizedPrincipalsCommand = "authorizedprincipalscommand"
	// As whom it is run.
	AuthorizedPrincipalsCommandUser = "authorizedprincipalscommanduser"
	AuthorizedPrincipalsFile        = "authorizedprincipalsfile"
	ChrootDirectory                 = "chrootdirectory"
	DenyGroups                      = "denygroups"
	DenyUsers                       = "denyusers"
	ForceCommand                    = "forcecommand"
	GSSAPIAuthentication            = "gssapiauthentication"
	HostbasedAuthentication         = "hostbasedauthentication"
	KbdInteractiveAuthentication    = "kbdinteractiveauthentication"
	KerberosAuthentication          = "kerberosauthentication"
	PasswordAuthentication          = "passwordauthentication"
	PermitEmptyPasswords            = "permitemptypasswords"
	PermitRootLogin                 = "permitrootlogin"
	PubkeyAuthentication            = "pubkeyauthentication"
	PubkeyAcceptedAlgorithms        = "pubkeyacceptedalgorithms"
	RevokedKeys                     = "revokedkeys"
	StrictModes                     = "strictmodes"
	TrustedUserCAKeys               = "trustedusercakeys"
	UsePAM                          = "usepam"
)

// defaults are what counts where nothing is set (servconf.c, fill_default_server_options, as Debian builds it).
var defaults = map[string][]string{
	AuthenticationMethods:        {"any"},
	AuthorizedKeysCommand:        {"none"},
	AuthorizedKeysCommandUser:    {"none"},
	AuthorizedKeysFile:           {".ssh/authorized_keys", ".ssh/authorized_keys2"},
	AuthorizedPrincipalsCommand:  {"none"},
	AuthorizedPrincipalsFile:     {"none"},
	ChrootDirectory:              {"none"},
	ForceCommand:                 {"none"},
	GSSAPIAuthentication:         {"no"},
	HostbasedAuthentication:      {"no"},
	KbdInteractiveAuthentication: {"yes"},
	KerberosAuthentication:       {"no"},
	PasswordAuthentication:       {"yes"},
	PermitEmptyPasswords:         {"no"},
	PermitRootLogin:              {"prohibit-password"},
	PubkeyAuthentication:         {"yes"},
	RevokedKeys:                  {"none"},
	StrictModes:                  {"yes"},
	TrustedUserCAKeys:            {"none"},
	UsePAM:                       {"no"},
}

// gathered are the keywords whose lines add to one another.
var gathered = []string{AllowGroups, AllowUsers, DenyGroups, DenyUsers}

// wholeServer are the keywords that count for the whole server, and are refused in a Match block.
var wholeServer = []string{StrictModes, UsePAM}

// Settings are what a configuration means for a connection.
type Settings struct {
	of map[string][]string
	// Conditional are settings that count only under a condition of which it is not known whether
	// it is so. They are not among what Get returns.
	Conditional []Conditional
}

// Conditional is a setting in a Match block that may or may not apply.
type Conditional struct {
	Directive
	// Match are the conditions as they are written.
	Match string
}

// Get returns the arguments of a keyword, in small letters, or its default.
func (s Settings) Get(keyword string) []string {
	if args, ok := s.of[keyword]; ok {
		return args
	}
	return defaults[keyword]
}

// On reports whether a keyword that is a switch is on.
func (s Settings) On(keyword string) bool {
	v := strings.ToLower(first(s.Get(keyword)))
	return v == "yes" || v == "true"
}

// DependsOn returns the conditions under which one of the keywords is set otherwise.
func (s Settings) DependsOn(keywords ...string) (out []Conditional) {
	for _, c := range s.Conditional {
		if slices.Contains(keywords, c.Keyword) {
			out = append(out, c)
		}
	}
	return out
}

// For returns the settings for a connection. The error says why they cannot be told: a fault of the
// configuration, or one that is too large.
func (c *Config) For(conn Conn) (Settings, error) {
	if len(c.Faults) > 0 {
		return Settings{}, fmt.Errorf("%s", c.Faults[0])
	}
	w := walk{config: c, conn: conn}
	// sshd reads all twice: at its start what is outside of Match blocks, and for a connection what is in those
	// that apply, which counts before.
	active := Yes
	if err := w.file(c.main, &active, "", 0, 0); err != nil {
		return Settings{}, err
	}
	whole := w.taken
	w.taken, w.connecting, active = nil, true, No
	if err := w.file(c.main, &active, "", matchOnly, 0); err != nil {
		return Settings{}, err
	}
	s := Settings{of: map[string][]string{}}
	for _, t := range w.taken {
		if t.active == Maybe && !slices.Contains(wholeServer, t.Keyword) {
			s.Conditional = append(s.Conditional, Conditional{t.Directive, t.match})
		}
	}
	take(s.of, w.taken, wholeServer)
	outside := map[string][]string{}
	take(outside, whole, nil)
	for keyword, args := range outside {
		if _, set := s.of[keyword]; !set {
			s.of[keyword] = args
		}
	}
	return s, nil
}

// take adds what was set to of: the first of each keyword, or all of those that add to one another.
func take(of map[string][]string, all []taken, but []string) {
	for _, t := range all {
		_, set := of[t.Keyword]
		switch {
		case t.active != Yes || slices.Contains(but, t.Keyword):
		case slices.Contains(gathered, t.Keyword):
			of[t.Keyword] = append(of[t.Keyword], t.Args...)
		case !set:
			of[t.Keyword] = t.Args
		}
	}
}

// taken is a directive that counts, or may.
type taken struct {
	Directive
	active Truth
	match  string
}

// walk goes through a configuration as parse_server_config_depth of OpenSSH does.
type walk struct {
	config     *Config
	conn       Conn
	connecting bool // whether Match is evaluated
	taken      []taken
	steps      int
}

const (
	// matchOnly is set until the first Match of a file where only what is in Match blocks is taken.
	matchOnly = 1 << iota
	// neverMatch is set for files that are included from a block that does not apply.
	neverMatch
)

func (w *walk) file(f *parsed, active *Truth, match string, flags, depth int) error {
	if depth >= maxDepth {
		return fmt.Errorf("%s is included more than %d deep", f.path, maxDepth)
	}
	for _, d := range f.directives {
		if w.steps++; w.steps > MaxDirectives {
			return fmt.Errorf("the configuration has over %d lines with what it includes", MaxDirectives)
		}
		switch d.Keyword {
		case "match":
			is, err := w.match(d)
			if err != nil {
				return fmt.Errorf("%s: %w", d, err)
			}
			if flags&neverMatch != 0 {
				is = No
			}
			*active, match = is, strings.Join(d.Args, " ")
			flags &^= matchOnly
		case "include":
			if err := w.include(d, *active, match, flags, depth); err != nil {
				return err
			}
		default:
			if *active != No {
				w.taken = append(w.taken, taken{d, *active, match})
			}
		}
	}
	return nil
}

func (w *walk) match(d Directive) (Truth, error) {
	if w.connecting || strings.EqualFold(d.Args[0], "all") {
		return w.conn.matches(d.Args)
	}
	_, err := Conn{}.matches(d.Args)
	return No, err
}

// include goes through what an Include brings. What it does to the state of a Match ends with it.
func (w *walk) include(d Directive, active Truth, match string, flags, depth int) error {
	inside := flags & matchOnly
	if inside == 0 && active == No {
		inside = neverMatch
	}
	for _, pattern := range d.Args {
		for _, f := range w.config.included[absolute(pattern)] {
			before := len(w.taken)
			here := active
			if err := w.file(f, &here, match, inside, depth+1); err != nil {
				return err
			}
			for n := before; n < len(w.taken); n++ {
				if active != No { // what is in a block that may apply applies no more surely than that
					w.taken[n].active = min(w.taken[n].active, active)
				}
			}
		}
	}
	return nil
}

func first(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}
