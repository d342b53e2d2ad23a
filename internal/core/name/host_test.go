package name

import "testing"

func TestUserAndHostNamesHoldNothingElse(t *testing.T) {
	for s, want := range map[string]error{
		"debian": nil, "Administrator": nil, "first.last": nil, "_svc-1": nil,
		"":               ErrUser,
		"-x":             ErrUser,
		"9a":             ErrUser,
		"a b":            ErrUser,
		"a:b":            ErrUser,
		"x\x1b[2Kubuntu": ErrUser,
		"a\u202eb":       ErrUser,
		"ü":              ErrUser,
		"a\n":            ErrUser,
	} {
		if got := CheckUser(s); got != want {
			t.Errorf("CheckUser(%q) is %v, want %v", s, got, want)
		}
	}
	for s, want := range map[string]error{
		"192.0.2.10": nil, "2001:db8::1": nil, "gauge.example": nil, "gauge.example.": nil, "a_b": nil,
		"":                          ErrHost,
		"fe80::1%eth0":              ErrHost,
		"-a.example":                ErrHost,
		"a..b":                      ErrHost,
		"127.0.0.1\x1b]0;pwned\x07": ErrHost,
		"a b":                       ErrHost,
		"a/b":                       ErrHost,
		"a@b":                       ErrHost,
		"bücher":                    ErrHost,
	} {
		if got := CheckHost(s); got != want {
			t.Errorf("CheckHost(%q) is %v, want %v", s, got, want)
		}
	}
}
