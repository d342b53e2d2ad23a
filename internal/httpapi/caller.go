package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"plumlatch/internal/service/people"
)

// caller is the address that a request comes from. Behind a trusted proxy it is what the
// proxies say, read from the nearest one on for as long as each is trusted: X-Forwarded-For, or
// Forwarded (RFC 7239). What anybody else says of that is not believed.
func (s *server) caller(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	at, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	at = at.Unmap()
	said := forwarded(r.Header)
	for n := len(said) - 1; n >= 0 && s.trusts(at); n-- {
		next, err := netip.ParseAddr(said[n])
		if err != nil {
			break // a proxy that hides it, or somebody who writes what they like
		}
		at = next.Unmap().WithZone("")
	}
	return at.String()
}

func (s *server) trusts(a netip.Addr) bool {
	return slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(a) })
}

// forwarded is what the headers say, the nearest last. Where both are there, one of them may be the
// caller's own, which the proxy let through, and neither is believed.
func forwarded(h http.Header) (said []string) {
	if len(h.Values("X-Forwarded-For")) > 0 && len(h.Values("Forwarded")) > 0 {
		return nil
	}
	for _, line := range h.Values("X-Forwarded-For") {
		for one := range strings.SplitSeq(line, ",") {
			said = append(said, bareAddress(one))
		}
	}
	if len(said) > 0 {
		return said
	}
	for _, line := range h.Values("Forwarded") {
		for hop := range strings.SplitSeq(line, ",") {
			one := ""
			for pair := range strings.SplitSeq(hop, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				if strings.EqualFold(name, "for") {
					one = bareAddress(strings.Trim(value, `"`))
				}
			}
			said = append(said, one)
		}
	}
	return said
}

// bareAddress takes the port and the brackets away.
func bareAddress(s string) string {
	s = strings.TrimSpace(s)
	if host, _, err := net.SplitHostPort(s); err == nil {
		s = host
	}
	return strings.Trim(s, "[]")
}

// counted is the address as requests are counted by.
func (q *request) counted() string { return people.Neighbours(q.address) }
