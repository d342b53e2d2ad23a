// Package hostcert judges whether a certificate authority vouches for a host key: OpenSSH host certificates
// (PROTOCOL.certkeys) and lines of known_hosts that begin with @cert-authority (sshd(8)).
package hostcert

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/machines"
)

// Authority is a certificate authority with the hosts that it vouches for, as patterns with commas between.
type Authority struct {
	Key   ssh.PublicKey
	Hosts string
}

// ErrNotHost is returned for a certificate that is of no host.
var ErrNotHost = errors.New("it is no host certificate")

// Vouches returns nil where the authority vouches that the certified key is that of the host, which has one of the
// names or addresses: the certificate is signed by it, is valid at the time, and names the host, which the authority is
// for.
func Vouches(c *ssh.Certificate, a Authority, names []string, at time.Time) error {
	if c.CertType != ssh.HostCert {
		return ErrNotHost
	}
	if string(c.SignatureKey.Marshal()) != string(a.Key.Marshal()) {
		return fmt.Errorf("it is signed by %s", ssh.FingerprintSHA256(c.SignatureKey))
	}
	checker := ssh.CertChecker{Clock: func() time.Time { return at }}
	var last error
	for _, name := range names {
		if name == "" || !Fits(a.Hosts, name) {
			last = errors.Join(last, fmt.Errorf("the authority is not for %q", name))
			continue
		}
		// One without a name would be for all hosts.
		if len(c.ValidPrincipals) == 0 {
			return errors.New("it names no host")
		}
		if err := checker.CheckCert(name, c); err != nil {
			last = errors.Join(last, err)
			continue
		}
		return nil
	}
	return last
}

// Fits reports whether a host fits the patterns, none of which is one that it is excluded by with an exclamation mark.
func Fits(patterns, host string) bool {
	fits := false
	for pattern := range strings.SplitSeq(patterns, ",") {
		pattern = strings.TrimSpace(pattern)
		if not, negated := strings.CutPrefix(pattern, "!"); negated {
			if machines.Fits(not, host) {
				return false
			}
			continue
		}
		fits = fits || pattern != "" && machines.Fits(pattern, host)
	}
	return fits
}

// Read reads a public key in one line, or a line of known_hosts that begins with @cert-authority. hosts is "*" where
// the line says nothing of them.
func Read(text string) (a Authority, comment string, err error) {
	text = strings.TrimSpace(text)
	a.Hosts = "*"
	if strings.HasPrefix(text, "@") {
		marker, hosts, key, comment, rest, err := ssh.ParseKnownHosts([]byte(text + "\n"))
		switch {
		case err != nil:
			return a, "", fmt.Errorf("it is no line of known_hosts: %w", err)
		case marker != "cert-authority":
			return a, "", fmt.Errorf("it is marked as @%s, not as @cert-authority", marker)
		case len(strings.TrimSpace(string(rest))) > 0:
			return a, "", errors.New("it has several lines: add one after the other")
		case slices.ContainsFunc(hosts, func(h string) bool { return strings.HasPrefix(h, "|") }):
			return a, "", errors.New("its hosts are hashed, so that they cannot be read")
		}
		return Authority{key, strings.Join(hosts, ",")}, comment, nil
	}
	key, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(text))
	switch {
	case err != nil:
		return a, "", errors.New("it is no public key in one line")
	case len(options) > 0:
		return a, "", errors.New("its line has options; give the key alone")
	case len(strings.TrimSpace(string(rest))) > 0:
		return a, "", errors.New("it has several lines: add one after the other")
	}
	a.Key = key
	return a, comment, nil
}
