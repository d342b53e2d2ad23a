package restore

import (
	"maps"
	"slices"
	"testing"
	"time"
)

func TestARouteIsRefusedForOneReason(t *testing.T) {
	for name, c := range map[string]struct {
		chosen Chosen
		facts  func(*Facts)
		limits Limits
		code   string
	}{
		"as it should be":      {Chosen{Route: GuestAgent}, nil, Limits{}, ""},
		"a route there is not": {Chosen{Route: "the window"}, nil, Limits{}, "no-such-route"},
		"of Windows, on Linux": {Chosen{Route: WindowsPassword}, nil, Limits{}, "no-such-route"},
		"not possible": {
			Chosen{Route: GuestAgent}, func(f *Facts) { f.Agent = AgentAbsent }, Limits{}, "route-not-possible",
		},
		"outside the limits":     {Chosen{Route: HelperDisk}, nil, Limits{NoStop: true}, "outside-limits"},
		"it stops, not typed":    {Chosen{Route: HelperDisk}, nil, Limits{}, "not-confirmed"},
		"it stops, and typed":    {Chosen{Route: HelperDisk, Confirmed: true}, nil, Limits{}, ""},
		"it replaces, not typed": {Chosen{Route: Replacement}, nil, Limits{}, "not-confirmed"},
		"a name for no new one": {
			Chosen{Route: GuestAgent, ForReplacement: true}, nil, Limits{}, "not-for-this-route",
		},
		"no port": {
			Chosen{Route: Replacement, Confirmed: true, ForReplacement: true, Ports: []int{0}}, nil, Limits{}, "bad-port",
		},
	} {
		f := open()
		if c.facts != nil {
			c.facts(&f)
		}
		got := ""
		if r := All.Refuse(c.chosen, All.Rank(f, c.limits)); r != nil {
			got = r.Code
			if r.Detail == "" {
				t.Errorf("%s: the refusal %s says nothing", name, r.Code)
			}
		}
		if got != c.code {
			t.Errorf("%s: got %q, want %q", name, got, c.code)
		}
	}
}

func TestWhatIsNotAsItWasIsSaid(t *testing.T) {
	before := Stood{State: "running", Address: "192.0.2.7", Disk: "disk-1", Device: "/dev/vda"}
	if got := Differs(before, before); len(got) != 0 {
		t.Errorf("nothing has changed, got %q", got)
	}
	now := before
	now.State, now.Address = "stopped", ""
	want := []string{"the state is stopped, and was running", "the public address is none, and was 192.0.2.7"}
	if got := Differs(before, now); !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

func TestWhatStepsTookIsWhatOperationsTake(t *testing.T) {
	got := TookBefore([]StepTime{
		{"launch", "disk", 2 * time.Second, 0},
		{"launch", "boot", 3 * time.Second, 0},
		{"launch", "ssh", time.Hour, 0},
		{"restore", "detach", 4 * time.Second, 0},
		{"restore", "image", 60 * time.Second, 20},
		{"stop", "stopped", 5 * time.Second, 0},
	})
	want := map[Operation]time.Duration{
		Launch: 5 * time.Second, Detach: 4 * time.Second, Copy: 3 * time.Second, Stop: 5 * time.Second,
	}
	if !maps.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}
