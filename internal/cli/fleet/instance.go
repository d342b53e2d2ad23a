// Package fleet holds the commands about instances: launched, adopted, started, stopped and ended.
package fleet

import (
	"context"
	"flag"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/kit"
)

var InstanceCommands = []kit.Command{
	{
		Name: "instance launch", Args: "NAME", Min: 1, Max: 1, Flags: instanceLaunch,
		Summary: "Launch an instance that given keys open",
		Detail: `It shows each step and ends when the SSH server accepts every key. With -new it first
makes a pair on this machine. Ctrl-C stops watching; the launch continues.`,
		Examples: []string{
			"plumlatch instance launch hide-cam-10 -image gateway-os-7 -size small -key hides-shared -key oona-main",
			"plumlatch instance launch atlas-web-3 -image ubuntu-24.04 -size medium -new atlas-web-3 -label team=atlas",
			"plumlatch instance launch scratch -image debian-12 -size small -no-key",
		},
	},
	{
		Name:    "instance list",
		Flags:   instanceList,
		Summary: "List instances",
		Examples: []string{
			"plumlatch instance list",
			"plumlatch instance list -region south-marsh -label team=field",
			"plumlatch instance list -find atlas",
			"plumlatch instance list -via gateway-1",
		},
	},
	{
		Name: "instance show", NoNames: true,
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    instanceShow,
		Summary:  "Show one instance: how to log in, its host keys, its openers",
		Examples: []string{"plumlatch instance show atlas-web-1"},
	},
	{
		Name:     "instance start",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    changeWith("start"),
		Summary:  "Start a stopped instance",
		Examples: []string{"plumlatch instance start atlas-tiles"},
	},
	{
		Name:     "instance stop",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    changeWith("stop"),
		Summary:  "Stop an instance, after showing what that costs",
		Examples: []string{`plumlatch instance stop atlas-tiles -reason "resize on Tuesday"`},
	},
	{
		Name:     "instance delete",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    changeWith("delete"),
		Summary:  "Delete an instance and its disks for good",
		Examples: []string{"plumlatch instance delete scratch"},
	},
	{
		Name:     "image list",
		Flags:    catalogueList("image"),
		Summary:  "List the cloud's images and their login users",
		Examples: []string{"plumlatch image list"},
	},
	{
		Name:     "size list",
		Flags:    catalogueList("size"),
		Summary:  "List the cloud's sizes",
		Examples: []string{"plumlatch size list"},
	},
	{
		Name:     "zone list",
		Flags:    catalogueList("zone"),
		Summary:  "List the cloud's zones",
		Examples: []string{"plumlatch zone list"},
	},
}

func Begun(s *kit.Session, run apiclient.Run, instance string) error {
	if s.Json {
		return s.WriteJSON(run)
	}
	if s.Quiet {
		fmt.Fprintln(s.Env.Out, run.Id)
		return nil
	}
	fmt.Fprintf(s.Env.Out, "The %s of %s has begun. Watch it: plumlatch run watch %s\n", run.Kind, instance, instance)
	return nil
}

func showHostKeys(s *kit.Session, c apiclient.Connection) {
	if len(c.HostKeys) == 0 {
		return
	}
	fmt.Fprintln(s.Env.Out, "Compare the host key at the first connection:")
	for _, h := range c.HostKeys {
		fmt.Fprintf(s.Env.Out, "  %s  %s\n", h.Sha256, s.Faint(h.Algorithm+", from the "+h.Learnt))
	}
}

// sshCommand is what to type to log in. Only the named file is offered, so that
// an agent full of keys does not use up the server's patience.
func sshCommand(s *kit.Session, i apiclient.Instance, file string) string {
	c := i.Connection
	switch {
	case c.Address == "":
		return ""
	case len(kit.Given(c.Via)) > 0:
		return "plumlatch connect " + i.Name // ssh -J would ask for host keys that are pinned under names
	}
	identity := "-i PRIVATE-KEY-FILE"
	if file != "" {
		identity = "-i " + s.Shown(file) + " -o IdentitiesOnly=yes"
	}
	return fmt.Sprintf("ssh %s -p %d %s@%s", identity, c.Port, c.User, c.Address)
}

func instanceList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	find := f.String("find", "", "`part` of a name or an address")
	region := f.String("region", "", "only in this region")
	state := f.String("state", "", "only in this state")
	image := f.String("image", "", "only of this image")
	in := f.String("cloud", "", "only in this `cloud`")
	via := f.String("via", "", "only those that are reached from this `jump host`")
	label := f.String("label", "", "only with this label, `name=value`")
	sort := f.String("sort", "name", "`order`: name, -name, created or -created")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		instances, total, err := kit.Fetch[apiclient.Instance](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListInstances(ctx, &apiclient.ListInstancesParams{
					After:  after,
					Limit:  &limit,
					Total:  count,
					Q:      kit.Optional(*find),
					Region: kit.Optional(*region),
					State:  kit.Optional(*state),
					Image:  kit.Optional(*image),
					Cloud:  kit.Optional(*in),
					Via:    kit.Optional(*via),
					Label:  kit.Optional(*label),
					Sort:   sort,
				})
			},
		)
		if err != nil {
			return err
		}
		return instanceListing.Show(s, instances, total)
	}
}

var instanceListing = kit.Listing[apiclient.Instance]{
	Head:  []string{"NAME", "STATE", "IMAGE", "CLOUD", "REGION", "LOGIN", "KEYS", "LABELS"},
	Least: []string{"LABELS", "CLOUD", "REGION", "IMAGE"},
	Name:  func(i apiclient.Instance) string { return i.Name },
	None:  "No instance matches. Launch one: plumlatch help instance launch",
	Cells: func(i apiclient.Instance) []string {
		login := i.Connection.User + "@" + i.Connection.Address
		if i.Connection.Address == "" {
			login = i.Connection.User + ", no address"
		}
		return []string{
			i.Name, string(i.State), i.Image, i.Cloud, i.Region, login, strconv.Itoa(i.Keys), kit.LabelText(i.Labels),
		}
	},
}

func instanceShow(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		openers, total, err := kit.Fetch[apiclient.Opening](
			ctx,
			kit.Paging{Limit: 50},
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListOpeners(ctx, args[0], &apiclient.ListOpenersParams{After: after, Limit: &limit, Total: count})
			},
		)
		if err != nil {
			return err
		}
		in, err := kit.Answer[apiclient.InstanceAccess](client.GetInstanceAccess(ctx, args[0]))
		if err != nil {
			return err
		}
		if s.Json {
			return s.WriteJSON(struct {
				apiclient.Instance
				Openers []apiclient.Opening `json:"openers"`
				Beyond  *apiclient.Beyond   `json:"beyond"`
			}{i, openers, in.Beyond})
		}
		static := ""
		if i.StaticAddress {
			static = " (static: stays at a stop)"
		}
		address := "none while it is " + string(i.State)
		if i.PublicAddress != "" {
			address = i.PublicAddress + static
		}
		zone := ""
		if i.Zone != "" {
			zone = i.Zone + " in " + i.Region
		}
		s.Facts(
			"Name",
			i.Name,
			"State",
			string(i.State),
			"Image",
			i.Image,
			"Size",
			i.Size,
			"Cloud",
			i.Cloud,
			"Zone",
			zone,
			"Address",
			address,
			"Private address",
			i.PrivateAddress,
			"By way of",
			wayText(i.Connection),
			"Labels",
			kit.LabelText(i.Labels),
			"Cloud's key label",
			i.KeyLabel,
			since(i),
			kit.Moment(i.CreatedAt)+" by "+i.CreatedBy,
			"A stop costs",
			strings.Join(i.StopCosts, "; "),
			"Log in",
			sshCommand(s, i, s.FileFor(openers)),
		)
		fmt.Fprintln(s.Env.Out)
		showHostKeys(s, i.Connection)
		fmt.Fprintln(s.Env.Out)
		if total == 0 {
			fmt.Fprintln(s.Env.Out, "No key that is known opens it.")
		} else {
			access.OpeningTable(s, openers, true)
			s.Rest(len(openers), total)
		}
		access.SayElse(s, in)
		return nil
	}
}

// since is what began the record of an instance.
func since(i apiclient.Instance) string {
	switch {
	case i.BroughtIn:
		return "Brought in"
	case i.Adopted:
		return "Adopted"
	}
	return "Launched"
}

func changeWith(action string) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		yes := new(bool)
		if action != "start" {
			f.BoolVar(yes, "yes", false, "do not ask")
		}
		reason := f.String("reason", "", "why, for the daybook")
		noWait := f.Bool("no-wait", false, "end when it has begun")
		return func(ctx context.Context, s *kit.Session, args []string) error {
			client, err := s.Connect()
			if err != nil {
				return err
			}
			i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
			if err != nil {
				return err
			}
			if err := confirmChange(s, action, i, *yes); err != nil {
				return err
			}
			var resp *http.Response
			switch action {
			case "start":
				resp, err = client.StartInstance(ctx, i.Name, &apiclient.StartInstanceParams{Reason: kit.Optional(*reason)})
			case "stop":
				resp, err = client.StopInstance(ctx, i.Name, &apiclient.StopInstanceParams{Reason: kit.Optional(*reason)})
			default:
				resp, err = client.DeleteInstance(ctx, i.Name, &apiclient.DeleteInstanceParams{Reason: kit.Optional(*reason)})
			}
			run, err := kit.Answer[apiclient.Run](resp, err)
			if err != nil {
				return err
			}
			if *noWait {
				return Begun(s, run, i.Name)
			}
			if run, err = s.Watch(ctx, client, run.Id); err != nil {
				return err
			}
			if err := s.RunEnded(run); err != nil || s.Json || s.Quiet {
				return err
			}
			if action != "start" {
				fmt.Fprintf(
					s.Env.Out, "%s is %s.\n", i.Name,
					map[string]string{"stop": "stopped", "delete": "gone, with its disks"}[action],
				)
				return nil
			}
			return started(s, ctx, client, i)
		}
	}
}

func confirmChange(s *kit.Session, action string, i apiclient.Instance, yes bool) error {
	switch {
	case action == "stop" && len(i.StopCosts) > 0:
		return s.Confirm(yes, fmt.Sprintf("Stopping %s costs this:\n  %s", i.Name, strings.Join(i.StopCosts, "\n  ")), i.Name)
	case action == "delete":
		return s.Confirm(
			yes,
			fmt.Sprintf("This ends %s (%s) and its disks for good. There is no undo.", i.Name, kit.LabelText(i.Labels)),
			i.Name,
		)
	}
	return nil
}

// started says where the instance is now; most addresses change at a stop.
func started(s *kit.Session, ctx context.Context, client *apiclient.Client, before apiclient.Instance) error {
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, before.Name))
	if err != nil {
		return err
	}
	fmt.Fprintf(s.Env.Out, "%s is running, at %s. Log in: plumlatch instance show %s\n", i.Name, i.PublicAddress, i.Name)
	return nil
}

func catalogueList(what string) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		in := f.String("cloud", "", "of this `cloud`; of the first one unless given")
		return func(ctx context.Context, s *kit.Session, _ []string) error {
			client, err := s.Connect()
			if err != nil {
				return err
			}
			c, err := kit.Answer[apiclient.Catalogue](
				client.GetCatalogue(ctx, &apiclient.GetCatalogueParams{Cloud: kit.Optional(*in)}),
			)
			if err != nil {
				return err
			}
			switch what {
			case "image":
				return imageListing.Show(s, c.Images, len(c.Images))
			case "size":
				return sizeListing.Show(s, c.Sizes, len(c.Sizes))
			}
			return zoneListing.Show(s, c.Zones, len(c.Zones))
		}
	}
}

var imageListing = kit.Listing[apiclient.Image]{
	Head: []string{"NAME", "TITLE", "LOGIN USER", "TAKES KEYS"},
	Name: func(i apiclient.Image) string { return i.Name },
	None: "The cloud has no image.",
	Cells: func(i apiclient.Image) []string {
		return []string{i.Name, i.Title, i.LoginUser, strings.Join(i.KeyTypes, ", ")}
	},
}

var sizeListing = kit.Listing[apiclient.Size]{
	Head: []string{"NAME", "CPUS", "MEMORY", "DISK", "TEMPORARY DISK"},
	Name: func(z apiclient.Size) string { return z.Name },
	None: "The cloud has no size.",
	Cells: func(z apiclient.Size) []string {
		scratch := "none"
		if z.TemporaryDiskGib > 0 {
			scratch = fmt.Sprintf("%d GiB, wiped at a stop", z.TemporaryDiskGib)
		}
		return []string{
			z.Name,
			strconv.Itoa(z.Cpus),
			fmt.Sprintf("%d MiB", z.MemoryMib),
			fmt.Sprintf("%d GiB", z.DiskGib),
			scratch,
		}
	},
}

var zoneListing = kit.Listing[apiclient.Zone]{
	Head:  []string{"NAME", "REGION"},
	Name:  func(z apiclient.Zone) string { return z.Name },
	None:  "The cloud has no zone.",
	Cells: func(z apiclient.Zone) []string { return []string{z.Name, z.Region} },
}
