package restore

import "testing"

func TestARuleAdmitsWhatLiesWhollyWithinItsSource(t *testing.T) {
	rule := FirewallRule{Group: "field", Source: "192.0.2.0/24", Port: 22}
	for name, c := range map[string]struct {
		rule   FirewallRule
		group  string
		port   int
		source string
		want   bool
	}{
		"the same":          {rule, "field", 22, "192.0.2.0/24", true},
		"a part":            {rule, "field", 22, "192.0.2.16/28", true},
		"one address":       {rule, "field", 22, "192.0.2.9/32", true},
		"more than it":      {rule, "field", 22, "192.0.0.0/16", false},
		"elsewhere":         {rule, "field", 22, "198.51.100.0/28", false},
		"another port":      {rule, "field", 2222, "192.0.2.9/32", false},
		"another group":     {rule, "atlas", 22, "192.0.2.9/32", false},
		"everybody":         {FirewallRule{"field", "0.0.0.0/0", 22}, "field", 22, "192.0.2.9/32", true},
		"everybody by IPv6": {FirewallRule{"field", "::/0", 22}, "field", 22, "192.0.2.9/32", false},
		"no source":         {FirewallRule{"field", "the office", 22}, "field", 22, "192.0.2.9/32", false},
		"an address alone":  {rule, "field", 22, "192.0.2.9", false},
		"nothing":           {rule, "field", 22, "", false},
	} {
		if got := Admits([]FirewallRule{c.rule}, c.group, c.port, c.source); got != c.want {
			t.Errorf("%s: %v, want %v", name, got, c.want)
		}
	}
	if Admits(nil, "field", 22, "192.0.2.9/32") {
		t.Error("no rule at all lets somebody in")
	}
}

func TestAHelperHasTheInstancesOwnImageWhereThatHasAnAgent(t *testing.T) {
	debian, fedora := HelperCandidate{Name: "debian", GuestAgent: true}, HelperCandidate{Name: "fedora", GuestAgent: true}
	alpine := HelperCandidate{Name: "alpine"}
	windows := HelperCandidate{Name: "windows", GuestAgent: true, Windows: true}
	for name, c := range map[string]struct {
		images []HelperCandidate
		own    string
		want   string
	}{
		"its own":                   {[]HelperCandidate{debian, fedora}, "fedora", "fedora"},
		"its own has no agent":      {[]HelperCandidate{alpine, debian, fedora}, "alpine", "debian"},
		"its own is not offered":    {[]HelperCandidate{fedora, debian}, "suse", "fedora"},
		"its own is a Windows":      {[]HelperCandidate{windows, debian}, "windows", "debian"},
		"only others without agent": {[]HelperCandidate{alpine, windows}, "alpine", ""},
		"none":                      {nil, "debian", ""},
	} {
		if got := HelperImage(c.images, c.own); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
