package restore

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
)

// everything is a cloud with a call for all there is.
var everything = Abilities{true, true, true, true, true, true, true, true, true, true}

// open is an instance to which every route but those of Windows leads.
func open() Facts {
	return Facts{
		Login:         "debian@door",
		Instance:      "door",
		State:         "running",
		Can:           everything,
		Steward:       true,
		Agent:         AgentReady,
		MetadataImage: true,
		ShellImage:    true,
		ShellRange:    "198.51.100.0/28",
		ShellAdmitted: true,
		Passwords:     Yes,
		Disk:          Disk{Known: true, Device: "/dev/vda", Filesystem: "ext4", GiB: 10},
		HelperImage:   "debian-12",
		Static:        true,
		PublicAddress: "192.0.2.7",
	}
}

func optionOf(t *testing.T, f Facts, l Limits, r Route) Option {
	t.Helper()
	ranked := All.Rank(f, l)
	at := slices.IndexFunc(ranked, func(o Option) bool { return o.Route == r })
	if at < 0 {
		t.Fatalf("%s is not among the routes", r)
	}
	return ranked[at]
}

func TestTheRoutesAreInTheOrderOfWhatTheyHarm(t *testing.T) {
	var order []Route
	for _, o := range All.Rank(open(), Limits{}) {
		if !o.Possible() {
			t.Errorf("%s: %+v", o.Route, o.Missing)
		}
		order = append(order, o.Route)
	}
	want := []Route{StandingKey, GuestAgent, BrowserShell, MetadataKeys, Password, HelperDisk, Replacement}
	if !slices.Equal(order, want) {
		t.Errorf("%v", order)
	}
}

func TestEachRouteSaysWhyItStandsWhereItStands(t *testing.T) {
	f := open()
	f.Steward, f.Static, f.TemporaryGiB, f.Agent, f.ShellAdmitted = false, false, 200, AgentNotPermitted, false
	ranked := All.Rank(f, Limits{})
	if ranked[0].Why == "" || ranked[0].Route != MetadataKeys {
		t.Errorf("%+v", ranked[0])
	}
	for n, o := range ranked {
		if o.Why == "" {
			t.Errorf("%s says nothing", o.Route)
		}
		if n > 0 && o.Possible() && o.Why == "costs the same as the one before it" {
			t.Errorf("%s is said to cost what %s costs", o.Route, ranked[n-1].Route)
		}
	}
}

func TestWhatIsMissingIsSaidWithTheStepThatWouldProvideIt(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Facts)
		route  Route
		what   string
	}{
		"no holder":         {func(f *Facts) { f.Steward = false }, StandingKey, "no other key is in place there"},
		"no agent at all":   {func(f *Facts) { f.Can.Agent = false }, GuestAgent, "the cloud has no guest agent"},
		"no agent in image": {func(f *Facts) { f.Agent = AgentAbsent }, GuestAgent, "its image has no guest agent"},
		"no metadata":       {func(f *Facts) { f.MetadataImage = false }, MetadataKeys, "no process in its image"},
		"no shell in image": {func(f *Facts) { f.ShellImage = false }, BrowserShell, "its image lets no browser shell in"},
		"no firewall calls": {
			func(f *Facts) { f.ShellAdmitted, f.Can.Firewall = false, false },
			BrowserShell,
			"could not be closed by itself",
		},
		"passwords off":      {func(f *Facts) { f.Passwords = No }, Password, "takes no passwords"},
		"passwords unknown":  {func(f *Facts) { f.Passwords = Unknown }, Password, "not known"},
		"disks stay":         {func(f *Facts) { f.Can.Disks = false }, HelperDisk, "no call that moves disks"},
		"encrypted":          {func(f *Facts) { f.Disk.Encrypted = true }, HelperDisk, "encrypted"},
		"encrypted, copied":  {func(f *Facts) { f.Disk.Encrypted = true }, Replacement, "encrypted"},
		"attached elsewhere": {func(f *Facts) { f.Disk.Shared = true }, HelperDisk, "attached to another instance"},
		"no helper image":    {func(f *Facts) { f.HelperImage = "" }, HelperDisk, "no image with a guest agent"},
		"no images":          {func(f *Facts) { f.Can.Snapshots = false }, Replacement, "no call that makes an image"},
		"stopped":            {func(f *Facts) { f.State = "stopped" }, GuestAgent, "it is stopped"},
		"adopted":            {func(f *Facts) { f.Adopted = true }, GuestAgent, "adopted"},
		"windows":            {func(f *Facts) { f.Windows = true }, HelperDisk, "on Windows"},
		"no RSA key": {
			func(f *Facts) { f.Windows, f.RSA = true, No }, WindowsPassword, "encrypted to RSA keys alone",
		},
	} {
		f := open()
		c.change(&f)
		o := optionOf(t, f, Limits{}, c.route)
		if !slices.ContainsFunc(o.Missing, func(m Missing) bool { return strings.Contains(m.What, c.what) }) {
			t.Errorf("%s: %+v", name, o.Missing)
		}
	}
}

func TestAnEncryptedOrSharedDiskIsNeverMoved(t *testing.T) {
	for n := range 4 {
		f := open()
		f.Disk.Encrypted, f.Disk.Shared = n&1 != 0, n&2 != 0
		if o := optionOf(t, f, Limits{}, HelperDisk); o.Possible() != (n == 0) {
			t.Errorf("%+v: %+v", f.Disk, o.Missing)
		}
	}
}

func TestARouteOutsideTheLimitsComesAfterEveryOneWithin(t *testing.T) {
	f := open()
	f.Steward, f.Agent, f.Can.Metadata, f.Can.Shell, f.Passwords, f.Static = false, AgentAbsent, false, false, No, false
	for name, c := range map[string]struct {
		limits Limits
		broken []Route
	}{
		"none":       {Limits{}, nil},
		"no stop":    {Limits{NoStop: true}, []Route{HelperDisk, Replacement}},
		"address":    {Limits{KeepAddress: true}, []Route{HelperDisk, Replacement}},
		"a minute":   {Limits{MaxDowntime: time.Minute}, []Route{HelperDisk}},
		"half a day": {Limits{MaxDowntime: 12 * time.Hour}, nil},
	} {
		var broken []Route
		outside := false
		for _, o := range All.Rank(f, c.limits) {
			if len(o.Outside) > 0 {
				broken = append(broken, o.Route)
				outside = true
			} else if o.Possible() && outside {
				t.Errorf("%s: %s comes after one that is outside", name, o.Route)
			}
		}
		slices.Sort(broken)
		if !slices.Equal(broken, c.broken) {
			t.Errorf("%s: %v are outside", name, broken)
		}
	}
}

func TestTimesAreThoseThatWereMeasuredAndSaidToBeAssumedElse(t *testing.T) {
	f := open()
	o := optionOf(t, f, Limits{}, HelperDisk)
	if o.Measured || o.Downtime < time.Minute || !o.Stops {
		t.Errorf("%+v", o.Cost)
	}
	f.Took = map[Operation]time.Duration{
		Launch: 3 * time.Second,
		Agent:  time.Second,
		Stop:   time.Second,
		Start:  2 * time.Second,
		Attach: time.Second,
		Detach: time.Second,
		Copy:   time.Second,
	}
	if o = optionOf(t, f, Limits{}, HelperDisk); !o.Measured || o.Downtime != 7*time.Second+editing ||
		o.Expected != 11*time.Second+editing {
		t.Errorf("%+v", o.Cost)
	}
	small, large := optionOf(t, f, Limits{}, Replacement), Option{}
	f.Disk.GiB = 100
	if large = optionOf(t, f, Limits{}, Replacement); large.Expected-small.Expected != 90*time.Second {
		t.Errorf("90 GiB more take %s longer", large.Expected-small.Expected)
	}
}

func TestAStoppedInstanceHasNoDowntimeToLose(t *testing.T) {
	f := open()
	f.State, f.TemporaryGiB, f.Static = "stopped", 200, false
	if o := optionOf(t, f, Limits{NoStop: true}, HelperDisk); !o.Within() || o.Stops || o.Downtime != 0 ||
		len(o.Loses) > 0 {
		t.Errorf("%+v %v", o.Cost, o.Outside)
	}
}

func TestTheWorryIsAboutTheBestWay(t *testing.T) {
	f := open()
	if w := Worry(All.Rank(f, Limits{})); w != "" {
		t.Errorf("%q", w)
	}
	f.Steward, f.Can.Agent, f.Can.Metadata, f.Can.Shell, f.Passwords = false, false, false, false, No
	f.Can.Agent = true // for a helper
	f.Agent, f.TemporaryGiB = AgentAbsent, 40
	if w := Worry(All.Rank(f, Limits{})); !strings.Contains(w, "helper disk") ||
		!strings.Contains(w, "the temporary disk (40 GiB)") {
		t.Errorf("%q", w)
	}
	f.TemporaryGiB = 0
	if w := Worry(All.Rank(f, Limits{})); !strings.Contains(w, "stops it for about") {
		t.Errorf("%q", w)
	}
	f.Can.Disks, f.Can.Snapshots = false, false
	if w := Worry(All.Rank(f, Limits{})); !strings.Contains(w, "there is no way back in") {
		t.Errorf("%q", w)
	}
}

// plans are all that there may be.
func plans() []Plan {
	var out []Plan
	for n := range 64 {
		out = append(out, Plan{
			Permits:   n&1 != 0,
			Opens:     n&2 != 0,
			Lost:      n&4 != 0,
			Static:    n&8 != 0,
			StopFirst: n&16 != 0,
			Checks:    n&32 != 0,
		})
	}
	return out
}

// ninth is a way that nobody has yet: another one is a value like this.
var ninth = Way{
	Route:   "carrier-pigeon",
	Title:   "Carrier pigeon",
	Summary: "A pigeon takes the line there",
	Judge: func(f Facts, o *Option) {
		f.running(o)
		o.Expected += time.Hour
		o.Agree = append(o.Agree, "somebody lets the pigeon in")
	},
	Bring: func(Plan) []Step { return []Step{"fly", Place, Ask} },
}

func TestAnotherWayIsAValueInTheList(t *testing.T) {
	ways := append(slices.Clone(All), ninth)
	ranked := ways.Rank(open(), Limits{})
	at := slices.IndexFunc(ranked, func(o Option) bool { return o.Route == ninth.Route })
	if at < 0 || !ranked[at].Possible() || ranked[at].Title != ninth.Title || ranked[at].Why == "" {
		t.Fatalf("it is not among the ranked ways: %+v", ranked)
	}
	if helper := slices.IndexFunc(ranked, func(o Option) bool { return o.Route == HelperDisk }); at > helper {
		t.Errorf("it stops nothing and stands at %d, behind the one that stops at %d", at, helper)
	}
	way, there := ways.Of(ninth.Route)
	got := way.Steps(Plan{Lost: true})
	want := []Step{Look, "fly", Place, Ask, Enter, Remove, See, Settle}
	if !there || !slices.Equal(got, want) || way.Commit(Plan{}) != Enter {
		t.Errorf("got the steps %v with the commit %s, want %v and %s", got, way.Commit(Plan{}), want, Enter)
	}
}

func TestTheStepsOfEveryPlanKeepTheRules(t *testing.T) {
	for _, way := range append(slices.Clone(All), ninth) {
		for _, p := range plans() {
			stepsKeepTheRules(t, way, p)
		}
	}
}

func stepsKeepTheRules(t *testing.T, way Way, p Plan) {
	t.Helper()
	steps := way.Steps(p)
	at := func(s Step) int { return slices.Index(steps, s) }
	bad := func(why string) { t.Errorf("%s %+v: %s: %v", way.Route, p, why, steps) }
	entry := max(at(Enter), at(Open))
	seen := map[Step]bool{}
	for _, s := range steps {
		if seen[s] {
			bad(fmt.Sprintf("%s is there twice", s))
		}
		seen[s] = true
	}
	if entry < 0 || steps[0] != Look || steps[len(steps)-1] != Settle {
		bad("no entry, or no look at the begin and at the end")
	}
	if at(Remove) >= 0 && at(Remove) < entry || at(PasswordOff) >= 0 && at(PasswordOff) < entry {
		bad("something goes before an entry")
	}
	if goes := p.Lost && way.Route != WindowsPassword; goes != (at(Remove) > 0) || goes != (at(See) > 0) ||
		goes && at(See) != at(Remove)+1 {
		bad("the line of a lost key stays or goes unseen, or a line goes where none is lost")
	}
	for open, close := range map[Step]Step{
		Permit:     Forbid,
		OpenPort:   ClosePort,
		DetachRoot: Reattach,
		Lend:       Fetch,
		Mount:      Unmount,
		Helper:     DropHelper,
	} {
		if (at(open) < 0) != (at(close) < 0) || at(close) < at(open) || at(close) > entry {
			bad(fmt.Sprintf("%s is not followed by %s before somebody is waited for", open, close))
		}
	}
	if at(StopOld) >= 0 && at(StopOld) < max(entry, at(MoveAddress)) {
		bad("the old instance is stopped before the new one is proved and has the address")
	}
	switch commit := at(way.Commit(p)); {
	case commit < 0 || commit == len(steps)-1:
		bad("there is no point of no return")
	case way.Route != Replacement && commit != entry:
		bad("the point of no return is not the entry")
	case way.Route == Replacement && (commit < entry || commit < at(MoveAddress) || commit < at(StopOld)):
		bad("the point of no return comes before the new instance has taken the place")
	}
}

func TestPasswordsAreOffForEverybodyAndNothingElseChanges(t *testing.T) {
	for name, c := range map[string]struct{ before, after string }{
		"empty": {"", "PasswordAuthentication no\nKbdInteractiveAuthentication no\n"},
		"on": {
			"Port 22\nPasswordAuthentication yes\n",
			"PasswordAuthentication no\nKbdInteractiveAuthentication no\nPort 22\nPasswordAuthentication yes\n",
		},
		"an include": {
			"Include /etc/ssh/sshd_config.d/*.conf\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n",
			"PasswordAuthentication no\nKbdInteractiveAuthentication no\nInclude " +
				"/etc/ssh/sshd_config.d/*.conf\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n",
		},
		"off already": {
			"# ours\n\npasswordauthentication no\nKbdInteractiveAuthentication  no\nPort 22\r\n",
			"# ours\n\npasswordauthentication no\nKbdInteractiveAuthentication  no\nPort 22\r\n",
		},
		"in a match": {
			"Match User oona\nPasswordAuthentication no\n",
			"PasswordAuthentication no\nKbdInteractiveAuthentication no\nMatch User oona\nPasswordAuthentication no\n",
		},
		"half":           {"PasswordAuthentication no\n", "KbdInteractiveAuthentication no\nPasswordAuthentication no\n"},
		"no end of line": {"UsePAM yes", "PasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM yes"},
	} {
		if got := PasswordsOff(c.before); got != c.after {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func FuzzPasswordsOff(f *testing.F) {
	for _, seed := range []string{
		"",
		"PasswordAuthentication yes\n",
		"Include x\nMatch all\n",
		"# a\nKbdInteractiveAuthentication no\n",
		"PasswordAuthentication\tno",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, config string) {
		after := PasswordsOff(config)
		if !strings.HasSuffix(after, config) {
			t.Errorf("%q became %q", config, after)
		}
		if PasswordsOff(after) != after {
			t.Errorf("said again, %q becomes %q", after, PasswordsOff(after))
		}
		for _, line := range passwordsOff {
			if !leads(after, line) {
				t.Errorf("%q does not come first in %q", line, after)
			}
		}
	})
}
