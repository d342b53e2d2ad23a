package sshdconfig

import (
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
)

// User is an OS user that may log in.
type User struct {
	Name string
	UID  uint32
	Home string
}

// KeyFiles returns the files that the server reads the user's keys from, absolute and in their shortest
// form, each once. The error tells of a token that AuthorizedKeysFile does not have.
func (s Settings) KeyFiles(u User) ([]string, error) {
	return expand(AuthorizedKeysFile, s.Get(AuthorizedKeysFile), u)
}

// PrincipalsFiles returns the file that the server reads the names from which a certificate of an
// authority of TrustedUserCAKeys must have one of; none where the name is that of the user.
func (s Settings) PrincipalsFiles(u User) ([]string, error) {
	return expand(AuthorizedPrincipalsFile, s.Get(AuthorizedPrincipalsFile), u)
}

// ErrOffered is returned where the arguments of a program depend on the key or the certificate that is offered.
var ErrOffered = errors.New("its arguments depend on the key that is offered")

// Program returns the words of AuthorizedKeysCommand or AuthorizedPrincipalsCommand for a user and the user as whom it
// is run; no words where there is no such program. The error is ErrOffered, or tells of what is missing.
func (s Settings) Program(keyword string, u User) (words []string, as string, err error) {
	args := s.Get(keyword)
	if len(args) == 0 || strings.EqualFold(args[0], "none") {
		return nil, "", nil
	}
	by := AuthorizedKeysCommandUser
	if keyword == AuthorizedPrincipalsCommand {
		by = AuthorizedPrincipalsCommandUser
	}
	if run := s.Get(by); len(run) == 1 && !strings.EqualFold(run[0], "none") {
		as = run[0]
	} else {
		return nil, "", fmt.Errorf("%s is not set, without which the server does not run it", by)
	}
	for _, a := range args {
		word, err := filled(a, u)
		if err != nil {
			return nil, as, ErrOffered
		}
		words = append(words, word)
	}
	if !path.IsAbs(words[0]) {
		return nil, as, errors.New("it has no absolute path")
	}
	if len(words) == 1 && keyword == AuthorizedKeysCommand {
		words = append(words, u.Name)
	}
	return words, as, nil
}

func expand(keyword string, patterns []string, u User) ([]string, error) {
	if len(patterns) == 1 && strings.EqualFold(patterns[0], "none") {
		return []string{}, nil
	}
	out := []string{}
	for _, pattern := range patterns {
		name, err := filled(pattern, u)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", keyword, pattern, err)
		}
		if !path.IsAbs(name) {
			name = path.Join(u.Home, name)
		}
		if name = path.Clean(name); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out, nil
}

// filled replaces the tokens of a path: %h, %u, %U and %%.
func filled(pattern string, u User) (string, error) {
	var out strings.Builder
	for n := 0; n < len(pattern); n++ {
		if pattern[n] != '%' {
			out.WriteByte(pattern[n])
			continue
		}
		n++
		token := byte('.')
		if n < len(pattern) {
			token = pattern[n]
		}
		switch token {
		case '%':
			out.WriteByte('%')
		case 'h':
			out.WriteString(u.Home)
		case 'u':
			out.WriteString(u.Name)
		case 'U':
			out.WriteString(strconv.FormatUint(uint64(u.UID), 10))
		default:
			return "", fmt.Errorf("%%%c is no token here", token)
		}
	}
	return out.String(), nil
}

// Admits tells whether the server lets the user log in at all, by whatever means, and if not by which
// keyword. Maybe is said with the keyword that depends on what conn does not know.
func (s Settings) Admits(u User, conn Conn) (Truth, string) {
	doubt := ""
	for _, rule := range []struct {
		keyword string
		allows  bool
		match   func([]string) Truth
	}{
		{DenyUsers, false, func(list []string) Truth { return userIn(list, u.Name, conn) }},
		{AllowUsers, true, func(list []string) Truth { return userIn(list, u.Name, conn) }},
		{DenyGroups, false, func(list []string) Truth { return groupIn(list, conn) }},
		{AllowGroups, true, func(list []string) Truth { return groupIn(list, conn) }},
	} {
		list := s.Get(rule.keyword)
		if len(list) == 0 {
			continue
		}
		is := rule.match(list)
		if is == Maybe {
			doubt = rule.keyword
		}
		if rule.allows && is == No || !rule.allows && is == Yes {
			return No, rule.keyword
		}
		// sshd asks for groups at all where either is set, and refuses a user without any.
		if rule.keyword == DenyGroups && conn.GroupsKnown && len(conn.Groups) == 0 {
			return No, rule.keyword
		}
	}
	if u.UID == 0 && strings.EqualFold(first(s.Get(PermitRootLogin)), "no") {
		return No, PermitRootLogin
	}
	if doubt == "" {
		if c := s.DependsOn(DenyUsers, AllowUsers, DenyGroups, AllowGroups); len(c) > 0 {
			doubt = c[0].Keyword
		}
	}
	if doubt != "" {
		return Maybe, doubt
	}
	return Yes, ""
}

// userIn reports whether a list of patterns, each of a user or of user@host, has the user.
func userIn(list []string, user string, conn Conn) Truth {
	found := No
	for _, pattern := range list {
		name, from, restricted := strings.Cut(pattern, "@")
		switch {
		case !like(user, name):
		case !restricted:
			return Yes
		default:
			found = max(found, fromIn(from, conn))
		}
	}
	return found
}

// fromIn reports whether somebody connects from a host or an address of a pattern.
func fromIn(pattern string, conn Conn) Truth {
	if conn.Host != "" && like(strings.ToLower(conn.Host), strings.ToLower(pattern)) {
		return Yes
	}
	is, err := addressIn(conn.Address, pattern)
	if err != nil || conn.Host == "" && is == No && !isAddress(pattern) {
		return Maybe // it may be the name of the host
	}
	return is
}

func isAddress(pattern string) bool {
	_, err := netip.ParseAddr(pattern)
	_, wide := netip.ParsePrefix(pattern)
	return err == nil || wide == nil
}

func groupIn(list []string, conn Conn) Truth {
	if !conn.GroupsKnown {
		return Maybe
	}
	return truth(slices.ContainsFunc(conn.Groups, func(group string) bool {
		return slices.ContainsFunc(list, func(pattern string) bool { return like(group, pattern) })
	}))
}

// Method is a way of authentication beside a key of a file.
type Method string

// The methods.
const (
	Password            Method = "password"
	KeyboardInteractive Method = "keyboard-interactive"
	HostBased           Method = "host-based"
	GSSAPI              Method = "gssapi"
	Kerberos            Method = "kerberos"
)

// Methods returns the methods beside keys that the server offers the user. Root's password counts where
// PermitRootLogin is yes alone.
func (s Settings) Methods(u User) (out []Method) {
	passwords := u.UID != 0 || strings.EqualFold(first(s.Get(PermitRootLogin)), "yes")
	for _, m := range []struct {
		method  Method
		keyword string
		is      bool
	}{
		{Password, PasswordAuthentication, passwords},
		{KeyboardInteractive, KbdInteractiveAuthentication, passwords && s.On(UsePAM)},
		{HostBased, HostbasedAuthentication, true},
		{GSSAPI, GSSAPIAuthentication, true},
		{Kerberos, KerberosAuthentication, passwords},
	} {
		if m.is && s.On(m.keyword) && s.named(string(m.method)) {
			out = append(out, m.method)
		}
	}
	return out
}

// Takes reports whether the server takes keys of a type, by PubkeyAcceptedAlgorithms; a list that is not set takes all.
func (s Settings) Takes(keyType string) bool {
	list := strings.Join(s.Get(PubkeyAcceptedAlgorithms), ",")
	signatures := []string{keyType}
	if keyType == "ssh-rsa" { // RFC 8332
		signatures = []string{"rsa-sha2-512", "rsa-sha2-256", "ssh-rsa"}
	}
	named := func(patterns string) bool {
		return slices.ContainsFunc(signatures, func(signature string) bool {
			return slices.ContainsFunc(strings.Split(patterns, ","), func(p string) bool { return like(signature, p) })
		})
	}
	all := func(patterns string) bool {
		return !slices.ContainsFunc(signatures, func(signature string) bool {
			return !slices.ContainsFunc(strings.Split(patterns, ","), func(p string) bool { return like(signature, p) })
		})
	}
	switch {
	case list == "" || list[0] == '+' || list[0] == '^':
		return true
	case list[0] == '-':
		return !all(list[1:])
	}
	return named(list)
}

// Beside returns the lists of AuthenticationMethods by which a key lets in together with something else; none where a
// key alone does, or no key does. keys is whether any list has a key in it.
func (s Settings) Beside() (lists []string, keys bool) {
	all := s.Get(AuthenticationMethods)
	if strings.EqualFold(first(all), "any") {
		return nil, true
	}
	for _, list := range all {
		methods := strings.Split(strings.ToLower(list), ",")
		if !slices.Contains(methods, "publickey") {
			continue
		}
		keys = true
		if len(methods) == 1 {
			return nil, true
		}
		lists = append(lists, list)
	}
	return lists, keys
}

// named reports whether AuthenticationMethods has a list with the method in it, and without a key.
func (s Settings) named(method string) bool {
	lists := s.Get(AuthenticationMethods)
	if strings.EqualFold(first(lists), "any") {
		return true
	}
	names := map[string]string{"host-based": "hostbased", "gssapi": "gssapi-with-mic", "kerberos": "password"}
	if name, ok := names[method]; ok {
		method = name
	}
	return slices.ContainsFunc(lists, func(list string) bool {
		methods := strings.Split(strings.ToLower(list), ",")
		return !slices.Contains(methods, "publickey") && slices.ContainsFunc(methods, func(m string) bool {
			name, _, _ := strings.Cut(m, ":")
			return name == method
		})
	})
}
