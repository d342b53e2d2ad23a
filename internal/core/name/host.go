package name

import (
	"errors"
	"net/netip"
	"regexp"
	"strings"
)

// What CheckUser and CheckHost return.
var (
	ErrUser = errors.New("a user name has 1 to 64 of A-Z a-z 0-9 . _ - and begins with a letter or _")
	ErrHost = errors.New("this is neither an IP address nor a host name of letters, digits, hyphens and dots")
)

var (
	userName  = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]{0,63}$`)
	hostLabel = regexp.MustCompile(`^[A-Za-z0-9_]([A-Za-z0-9_-]{0,61}[A-Za-z0-9_])?$`)
)

// CheckUser returns ErrUser for what is no user name in POSIX's portable form
// (IEEE Std 1003.1, 3.437). Upper case is taken, as some systems have it.
func CheckUser(s string) error {
	if !userName.MatchString(s) {
		return ErrUser
	}
	return nil
}

// CheckHost returns ErrHost for what is neither an IP address without a zone nor a host
// name (RFC 1123, section 2.1; underscores are taken, as some resolvers do).
func CheckHost(s string) error {
	if ip, err := netip.ParseAddr(s); err == nil && ip.Zone() == "" {
		return nil
	}
	if len(s) == 0 || len(s) > 253 {
		return ErrHost
	}
	for label := range strings.SplitSeq(strings.TrimSuffix(s, "."), ".") {
		if !hostLabel.MatchString(label) {
			return ErrHost
		}
	}
	return nil
}
