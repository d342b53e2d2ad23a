package httpapi

import (
	"net/http"
	"net/netip"
	"testing"

	"plumlatch/internal/service/people"
)

func TestWhoCallsIsSaidByTrustedProxiesAlone(t *testing.T) {
	s := &server{
		Options: Options{Proxies: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8"), netip.MustParsePrefix("fd00::/8")}},
	}
	for name, c := range map[string]struct {
		from   string
		header http.Header
		want   string
	}{
		"no proxy":               {"192.0.2.7:4000", nil, "192.0.2.7"},
		"a stranger says":        {"192.0.2.7:4000", http.Header{"X-Forwarded-For": {"198.51.100.1"}}, "192.0.2.7"},
		"the proxy says":         {"10.1.2.3:4000", http.Header{"X-Forwarded-For": {"198.51.100.1"}}, "198.51.100.1"},
		"the proxy says nothing": {"10.1.2.3:4000", nil, "10.1.2.3"},
		"what came before is not heard": {
			"10.1.2.3:4000",
			http.Header{"X-Forwarded-For": {"203.0.113.9, 198.51.100.1"}},
			"198.51.100.1",
		},
		"two proxies": {
			"10.1.2.3:4000",
			http.Header{"X-Forwarded-For": {"203.0.113.9, 198.51.100.1, 10.9.9.9"}},
			"198.51.100.1",
		},
		"two headers": {
			"10.1.2.3:4000",
			http.Header{"X-Forwarded-For": {"203.0.113.9", "198.51.100.1"}},
			"198.51.100.1",
		},
		"with a port": {
			"10.1.2.3:4000",
			http.Header{"X-Forwarded-For": {"198.51.100.1:7777"}},
			"198.51.100.1",
		},
		"no address": {"10.1.2.3:4000", http.Header{"X-Forwarded-For": {"unknown"}}, "10.1.2.3"},
		"RFC 7239": {
			"[fd00::1]:4000",
			http.Header{"Forwarded": {`for=192.0.2.60;proto=http;by=203.0.113.43, for="[2001:db8::17]:4711"`}},
			"2001:db8::17",
		},
		"both, of which one is a lie": {
			"10.1.2.3:4000",
			http.Header{"X-Forwarded-For": {"203.0.113.9"}, "Forwarded": {"for=198.51.100.1"}},
			"10.1.2.3",
		},
		"mapped": {"[::ffff:10.1.2.3]:4000", http.Header{"X-Forwarded-For": {"::ffff:198.51.100.1"}}, "198.51.100.1"},
	} {
		if got := s.caller(&http.Request{RemoteAddr: c.from, Header: c.header}); got != c.want {
			t.Errorf("%s: %s, want %s", name, got, c.want)
		}
	}
	if a, b := people.Neighbours("2001:db8:1:2::3"), people.Neighbours("2001:db8:1:2:ffff::9"); a != b ||
		a == people.Neighbours("2001:db8:1:3::3") {
		t.Errorf("%s and %s are one subscriber's", a, b)
	}
}
