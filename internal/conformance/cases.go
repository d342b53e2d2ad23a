package conformance

import (
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/machines"
	"plumlatch/internal/core/name"
)

// oneCase is a rule of the contract with how it is tried.
type oneCase struct {
	name, call, rule string
	try              func(*check) error
}

// cases are in the order in which they are tried; what an earlier one learns a later one uses.
var cases = []oneCase{
	{"token missing", "getCapabilities", "without the right token nothing is told", func(c *check) error {
		a, err := c.askBy(c.nobody, http.MethodGet, "/capabilities", nil)
		if err == nil && a.status != 401 && a.status != 403 {
			err = fmt.Errorf("a wrong token is answered with %d, want 401", a.status)
		}
		return err
	}},
	{"capabilities", "getCapabilities", "it has a name, and its capabilities are those of the contract", capabilities},
	{"images", "listImages", "each image has a name of its own, a login user and the key types that it takes", images},
	{"sizes", "listSizes", "each size has a name of its own, and cpus, memory and a disk", sizes},
	{"zones", "listZones", "each zone has a name of its own and a region", zones},
	{"launch", "launchInstance", "the same request token is the same operation and the same instance", launch},
	{"launch ends", "getOperation", "an operation ends, and its instance runs then, with an address", launchEnds},
	{"instances listed", "listInstances", "the pages of the list are in the order of ids and come to an end", listed},
	{
		"pages kept",
		"listInstances",
		"a page has at most as many as were asked for, and none is left out between pages",
		paged,
	},
	{"instances whole", "listInstances", "each instance has a state, a port and addresses", whole},
	{
		"page refused",
		"listInstances",
		"a limit that is none is refused, and is no failure of the adapter",
		func(c *check) error {
			return c.refused(http.MethodGet, "/instances?limit=0", nil, 400, 422)
		},
	},
	{"token unknown", "listInstances", "a request token that was never used names nothing", func(c *check) error {
		var list []cloud.Instance
		if err := c.get("/instances?request_token="+uuid.NewString(), &list); err != nil {
			return err
		}
		if len(list) > 0 {
			return fmt.Errorf("a token that was never used names %d instances", len(list))
		}
		return nil
	}},
	{"instance alone", "getInstance", "an instance is the same alone as in the list", alone},
	{"instance unknown", "getInstance", "what is not there is 404", func(c *check) error {
		return c.refused(http.MethodGet, "/instances/"+url.PathEscape("not-there-"+uuid.NewString()), nil, 404)
	}},
	{"operation unknown", "getOperation", "what is not there is 404", func(c *check) error {
		return c.refused(http.MethodGet, "/operations/"+uuid.NewString(), nil, 404)
	}},
	{"launch refused", "launchInstance", "what cannot be launched is refused, and nothing is made", launchRefused},
	{"boot output", "getBootOutput", "what a running instance wrote to its console is text", bootOutput},
	{"agent", "getAgent", "the guest agent of an instance is absent, not permitted, registering or ready", agent},
	{
		"firewall rules",
		"listFirewallRules",
		"each rule has an id of its own, a group, an address range and a port",
		firewall,
	},
	{"disks", "listDisks", "an instance has one root disk, under a device name", disks},
	{"snapshots", "listSnapshots", "each copy has an id of its own and says of which instance it is", snapshots},
	{"metadata keys", "getMetadataKeys", "each entry has a user and a line", metadata},
	{
		"changes",
		"listInstanceChanges",
		"without a place it names the current one, and tells of no instance",
		changes,
	},
	{
		"changes too old",
		"listInstanceChanges",
		"a place that it does not know is 410, so that the whole list is read instead",
		func(c *check) error {
			if err := c.needs(cloud.CanChanges, "/instance-changes"); err != nil {
				return err
			}
			return c.refused(http.MethodGet, "/instance-changes?after=no-such-place-"+uuid.NewString(), nil, 410)
		},
	},
	{
		"key catalogue",
		"listKeyPairs",
		"each named key has a name of its own in its region, and a fingerprint that can be read",
		catalogue,
	},
	{
		"key groups",
		"listKeyGroups",
		"each group has an id of its own and a kind, and each of its keys a user and a line",
		keyGroups,
	},
	{"stop", "stopInstance", "what is stopped, or being stopped, may be stopped again", stop},
	{"start", "startInstance", "what is started, or being started, may be started again", start},
	{"delete", "deleteInstance", "what is ended may be ended again, and is 404 or deleted then", end},
}

var known = []cloud.Capability{
	cloud.CanFirewall, cloud.CanBootOutput, cloud.CanGuestAgent, cloud.CanSnapshots, cloud.CanStartStop, cloud.CanLaunch,
	cloud.CanDisks, cloud.CanAddresses, cloud.CanMetadata, cloud.CanShell, cloud.CanPasswords,
	cloud.CanChanges, cloud.CanCatalogue, cloud.CanGroupKeys,
}

func capabilities(c *check) error {
	if err := c.get("/capabilities", &c.can); err != nil {
		return err
	}
	if c.can.Name == "" {
		return fmt.Errorf("it has no name")
	}
	for _, can := range c.can.Capabilities {
		if !slices.Contains(known, can) {
			return fmt.Errorf("%q is no capability of the contract", can)
		}
	}
	if slices.Contains(c.can.Capabilities, cloud.CanShell) {
		if c.can.ShellRange == nil {
			return fmt.Errorf("it has a browser shell and does not say which address range that comes from")
		}
		if _, err := netip.ParsePrefix(*c.can.ShellRange); err != nil {
			return fmt.Errorf("the range of the browser shell: %w", err)
		}
	}
	return nil
}

// each looks at all of a list, whose names have to be of their own.
func each[T any](list []T, called func(T) string, fits func(T) error) error {
	seen := map[string]bool{}
	for _, one := range list {
		name := called(one)
		if name == "" || seen[name] {
			return fmt.Errorf("the name or id %q is empty or there twice", name)
		}
		seen[name] = true
		if err := fits(one); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func images(c *check) error {
	var list []cloud.Image
	if err := c.get("/images", &list); err != nil {
		return err
	}
	return each(list, func(i cloud.Image) string { return i.Name }, func(i cloud.Image) error {
		switch {
		case name.CheckUser(i.LoginUser) != nil:
			return fmt.Errorf("%q is no login user", i.LoginUser)
		case len(i.KeyTypes) == 0:
			return fmt.Errorf("it takes no type of key")
		case i.Family != "linux" && i.Family != "windows":
			return fmt.Errorf("%q is neither linux nor windows", i.Family)
		}
		return nil
	})
}

func sizes(c *check) error {
	var list []cloud.Size
	if err := c.get("/sizes", &list); err != nil {
		return err
	}
	return each(list, func(z cloud.Size) string { return z.Name }, func(z cloud.Size) error {
		if z.Cpus < 1 || z.MemoryMib < 1 || z.DiskGib < 1 || z.TemporaryDiskGib < 0 {
			return fmt.Errorf("%d cpus, %d MiB of memory and a disk of %d GiB", z.Cpus, z.MemoryMib, z.DiskGib)
		}
		return nil
	})
}

func zones(c *check) error {
	var list []cloud.Zone
	if err := c.get("/zones", &list); err != nil {
		return err
	}
	return each(list, func(z cloud.Zone) string { return z.Name }, func(z cloud.Zone) error {
		if z.Region == "" {
			return fmt.Errorf("it is in no region")
		}
		return nil
	})
}

// pages reads the list of instances in pages, at most so many.
func (c *check) pages(limit, most int) (all []cloud.Instance, whole bool, err error) {
	var order machines.Listed
	after := ""
	for range most {
		var page []cloud.Instance
		if err := c.get(fmt.Sprintf("/instances?limit=%d&after=%s", limit, url.QueryEscape(after)), &page); err != nil {
			return nil, false, err
		}
		if len(page) > limit {
			return nil, false, fmt.Errorf("a page of at most %d has %d instances", limit, len(page))
		}
		if len(page) == 0 {
			return all, true, nil
		}
		ids := make([]string, len(page))
		for n, i := range page {
			ids[n] = i.Id
		}
		if after, err = order.Take(ids); err != nil {
			return nil, false, err
		}
		all = append(all, page...)
	}
	return all, false, nil
}

func listed(c *check) (err error) {
	c.instances, _, err = c.pages(1000, 1+machines.MostListed/1000)
	return err
}

func paged(c *check) error {
	const limit, most = 2, 25
	some, whole, err := c.pages(limit, most)
	if err != nil {
		return err
	}
	want := c.instances
	if !whole {
		want = want[:min(len(some), len(want))]
	}
	if len(some) != len(want) {
		return fmt.Errorf("in pages of %d it lists %d instances, in pages of 1000 %d", limit, len(some), len(want))
	}
	for n := range some {
		if some[n].Id != want[n].Id {
			return fmt.Errorf(
				"in pages of %d the instance number %d is %s, in pages of 1000 %s",
				limit,
				n+1,
				some[n].Id,
				want[n].Id,
			)
		}
	}
	return nil
}

func whole(c *check) error {
	for _, i := range c.instances {
		switch {
		case !machines.KnownState(machines.State(i.State)):
			return fmt.Errorf("%s is %q, which is no state of the contract", i.Id, i.State)
		case i.SshPort < 1 || i.SshPort > 65535:
			return fmt.Errorf("the SSH port of %s is %d", i.Id, i.SshPort)
		case i.Firewall == "" && slices.Contains(c.can.Capabilities, cloud.CanFirewall):
			return fmt.Errorf("%s is in no firewall group, and it says that it can %s", i.Id, cloud.CanFirewall)
		case i.State == cloud.Running && i.PublicAddress == "" && i.PrivateAddress == "":
			return fmt.Errorf("%s runs and has no address", i.Id)
		}
		for _, address := range []string{i.PublicAddress, i.PrivateAddress} {
			if address != "" && name.CheckHost(address) != nil {
				return fmt.Errorf("%s has the address %q", i.Id, address)
			}
		}
	}
	return nil
}

func alone(c *check) error {
	if len(c.instances) == 0 {
		return errSkip{"there is no instance"}
	}
	for _, of := range c.instances[:min(len(c.instances), 5)] {
		var i cloud.Instance
		if err := c.get("/instances/"+url.PathEscape(of.Id), &i); err != nil {
			return err
		}
		if i.Id != of.Id || i.Name != of.Name || i.Image != of.Image {
			return fmt.Errorf(
				"%s is %s, %s of %s alone, and %s of %s in the list",
				of.Id,
				i.Id,
				i.Name,
				i.Image,
				of.Name,
				of.Image,
			)
		}
	}
	return nil
}

func launchRefused(c *check) error {
	if !slices.Contains(c.can.Capabilities, cloud.CanLaunch) {
		return errSkip{"it does not say that it can launch"}
	}
	token := uuid.NewString()
	err := c.refused(http.MethodPost, "/instances", cloud.Launch{
		RequestToken: token, Name: "check-" + token[:8], Image: "no-such-image-" + token, Size: "no-such-size",
		Zone: "no-such-zone",
	}, 400, 404, 409, 422)
	if err != nil {
		return err
	}
	var list []cloud.Instance
	if err := c.get("/instances?request_token="+token, &list); err != nil {
		return err
	}
	if len(list) > 0 {
		return fmt.Errorf("it was refused, and an instance was made: %s", list[0].Id)
	}
	return nil
}

func bootOutput(c *check) error {
	i, err := c.running()
	if err != nil {
		return err
	}
	path := "/instances/" + url.PathEscape(i.Id) + "/boot-output"
	if err := c.needs(cloud.CanBootOutput, path); err != nil {
		return err
	}
	a, err := c.ask(http.MethodGet, path, nil)
	if err == nil && a.status != 200 {
		err = fmt.Errorf("GET %s answers %d, want 200", path, a.status)
	}
	if err == nil && strings.Contains(string(a.body), "-----BEGIN SSH HOST KEY KEYS-----") &&
		len(cloud.HostKeys(string(a.body))) == 0 {
		err = fmt.Errorf("between the marks of cloud-init's host keys is none that can be read")
	}
	return err
}

func agent(c *check) error {
	i, err := c.running()
	if err != nil {
		return err
	}
	path := "/instances/" + url.PathEscape(i.Id) + "/agent"
	if err := c.needs(cloud.CanGuestAgent, path); err != nil {
		return err
	}
	var state struct{ State string }
	if err := c.get(path, &state); err != nil {
		return err
	}
	if !slices.Contains([]string{"absent", "not-permitted", "registering", "ready"}, state.State) {
		return fmt.Errorf("its state is %q", state.State)
	}
	return nil
}

func firewall(c *check) error {
	if err := c.needs(cloud.CanFirewall, "/firewall-rules"); err != nil {
		return err
	}
	var list []cloud.FirewallRule
	if err := c.get("/firewall-rules", &list); err != nil {
		return err
	}
	return each(list, func(r cloud.FirewallRule) string { return r.Id }, func(r cloud.FirewallRule) error {
		if _, err := netip.ParsePrefix(r.Source); err != nil {
			return fmt.Errorf("%q is no address range", r.Source)
		}
		if r.Group == "" || r.Port < 1 || r.Port > 65535 {
			return fmt.Errorf("the group is %q and the port %d", r.Group, r.Port)
		}
		return nil
	})
}

func disks(c *check) error {
	i, err := c.running()
	if err != nil {
		return err
	}
	path := "/disks?instance=" + url.QueryEscape(i.Id)
	if err := c.needs(cloud.CanDisks, path); err != nil {
		return err
	}
	var list []cloud.Disk
	if err := c.get(path, &list); err != nil {
		return err
	}
	roots := 0
	err = each(list, func(d cloud.Disk) string { return d.Id }, func(d cloud.Disk) error {
		at := slices.IndexFunc(d.Attachments, func(a cloud.Attachment) bool { return a.Instance == i.Id })
		if at < 0 {
			return fmt.Errorf("it is not attached to %s, for which it was asked", i.Id)
		}
		if d.Attachments[at].Device == "" {
			return fmt.Errorf("it is attached under no device name")
		}
		if d.Attachments[at].Root {
			roots++
		}
		return nil
	})
	if err == nil && roots != 1 {
		err = fmt.Errorf("%s has %d root disks, want 1", i.Id, roots)
	}
	return err
}

func snapshots(c *check) error {
	if err := c.needs(cloud.CanSnapshots, "/snapshots"); err != nil {
		return err
	}
	var list []cloud.Snapshot
	if err := c.get("/snapshots", &list); err != nil {
		return err
	}
	return each(list, func(s cloud.Snapshot) string { return s.Id }, func(s cloud.Snapshot) error {
		if s.Instance == "" || s.CreatedAt.IsZero() || s.Kind != "snapshot" && s.Kind != "image" {
			return fmt.Errorf("it is a %q of %q from %s", s.Kind, s.Instance, s.CreatedAt)
		}
		return nil
	})
}

func metadata(c *check) error {
	i, err := c.running()
	if err != nil {
		return err
	}
	path := "/instances/" + url.PathEscape(i.Id) + "/metadata-keys"
	if err := c.needs(cloud.CanMetadata, path); err != nil {
		return err
	}
	var list []cloud.MetadataKey
	if err := c.get(path, &list); err != nil {
		return err
	}
	for _, k := range list {
		if k.User == "" || k.Line == "" {
			return fmt.Errorf("an entry has the user %q and the line %q", k.User, k.Line)
		}
	}
	return nil
}
