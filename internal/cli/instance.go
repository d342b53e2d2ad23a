package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
)

var instanceCommands = []command{
	{
		name: "instance launch", args: "NAME", min: 1, max: 1, flags: instanceLaunch,
		summary: "Launch an instance that given keys open",
		detail: `It shows each step and ends when the SSH server has answered for every key. With -new
a pair is made on this machine first. Ctrl-C stops the watching, not the launch.`,
		examples: []string{
			"plumlatch instance launch hide-cam-10 -image gateway-os-7 -size small -key hides-shared -key oona-main",
			"plumlatch instance launch atlas-web-3 -image ubuntu-24.04 -size medium -new atlas-web-3 -label team=atlas",
			"plumlatch instance launch scratch -image debian-12 -size small -no-key",
		},
	},
	{
		name:    "instance list",
		flags:   instanceList,
		summary: "List instances",
		examples: []string{
			"plumlatch instance list",
			"plumlatch instance list -region south-marsh -label team=field",
			"plumlatch instance list -find atlas",
		},
	},
	{
		name:     "instance show",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    instanceShow,
		summary:  "Show one instance: how to log in, its host keys, its openers",
		examples: []string{"plumlatch instance show atlas-web-1"},
	},
	{
		name:     "instance start",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    changeWith("start"),
		summary:  "Start a stopped instance",
		examples: []string{"plumlatch instance start atlas-tiles"},
	},
	{
		name:     "instance stop",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    changeWith("stop"),
		summary:  "Stop an instance, after saying what that costs",
		examples: []string{`plumlatch instance stop atlas-tiles -reason "resize on Tuesday"`},
	},
	{
		name:     "instance terminate",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    changeWith("terminate"),
		summary:  "End an instance and its disks for good",
		examples: []string{"plumlatch instance terminate scratch"},
	},
	{
		name:     "image list",
		flags:    catalogueList("image"),
		summary:  "List the cloud's images and their login users",
		examples: []string{"plumlatch image list"},
	},
	{
		name:     "size list",
		flags:    catalogueList("size"),
		summary:  "List the cloud's sizes",
		examples: []string{"plumlatch size list"},
	},
	{
		name:     "zone list",
		flags:    catalogueList("zone"),
		summary:  "List the cloud's zones",
		examples: []string{"plumlatch zone list"},
	},
}

func instanceLaunch(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var granted names
	var pair pairFlags
	l := labels{}
	image := f.String("image", "", "the image; see: plumlatch image list")
	size := f.String("size", "", "the size; see: plumlatch size list")
	zone := f.String("zone", "", "the zone; the cloud's first unless given")
	f.Var(&granted, "key", "the `name` of a key that is to open it; can be given several times")
	newKey := f.String("new", "", "make a pair of this `name` on this machine first, and let it open the instance")
	f.StringVar(&pair.typ, "type", "ed25519", "with -new: ed25519, rsa or ecdsa")
	f.IntVar(&pair.bits, "bits", 0, "with -new: the size of an rsa or ecdsa key")
	f.StringVar(&pair.out, "out", "", "with -new: `file` for the private half; ~/.ssh/NAME unless given")
	steward := f.Bool("steward", false, "place a steward key as well, by which the service sweeps and changes keys")
	noKey := f.Bool("no-key", false, "launch without any key: nobody will be able to log in")
	static := f.Bool("static-address", false, "take a public address that stays at a stop")
	f.Var(l, "label", "a label, `name=value`; can be given several times")
	reason := f.String("reason", "", "why, for the daybook")
	noWait := f.Bool("no-wait", false, "end when the launch has begun")
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		if len(granted) == 0 && *newKey == "" && !*noKey {
			return &usageError{
				"no key was given, so nobody would be able to log in\nName a key (-key NAME), make one (-new NAME), or say " +
					"-no-key if that is meant",
			}
		}
		if *newKey != "" {
			if err := s.checkCatalogue(ctx, client, *image, *size); err != nil {
				return err // before a pair is made for nothing
			}
			pair.maker = "here"
			k, path, err := s.newPair(ctx, *newKey, pair)
			if err != nil {
				return err
			}
			if !s.json && !s.quiet {
				fmt.Fprintf(s.env.Err, "Made the key %s; its private half is in %s.\n", k.Name, s.shown(path))
			}
			granted = append(granted, *newKey)
		}
		request := apiclient.LaunchInstance{
			Name:          args[0],
			Image:         *image,
			Size:          *size,
			Zone:          optional(*zone),
			StaticAddress: static,
			Reason:        optional(*reason),
		}
		if len(granted) > 0 {
			request.Keys = new([]string(granted))
		}
		if *noKey {
			request.NoKey = noKey
		}
		if *steward {
			request.Steward = steward
		}
		if len(l) > 0 {
			request.Labels = new(map[string]string(l))
		}
		begun, err := answer[apiclient.Launched](
			client.LaunchInstance(ctx, &apiclient.LaunchInstanceParams{IdempotencyKey: newRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if *noWait {
			return s.begun(begun.Run, args[0])
		}
		if !s.json && !s.quiet {
			fmt.Fprintf(
				s.env.Err,
				"Launching %s (%s, %s, %s)\n",
				args[0],
				begun.Instance.Image,
				begun.Instance.Size,
				begun.Instance.Zone,
			)
		}
		run, err := s.watch(ctx, client, begun.Run.Id)
		if err != nil {
			return err
		}
		if run.State != apiclient.RunStateDone {
			if *newKey != "" {
				fmt.Fprintf(s.env.Err, "The key %s is recorded and can be used for another try.\n", *newKey)
			}
			return s.runEnded(run)
		}
		return s.launched(ctx, client, args[0], *noKey)
	}
}

func (s *session) checkCatalogue(ctx context.Context, client *apiclient.Client, image, size string) error {
	c, err := answer[apiclient.Catalogue](client.GetCatalogue(ctx))
	if err != nil {
		return err
	}
	var images, sizes []string
	for _, i := range c.Images {
		images = append(images, i.Name)
	}
	for _, z := range c.Sizes {
		sizes = append(sizes, z.Name)
	}
	for _, w := range []struct {
		what, wanted string
		among        []string
	}{{"image", image, images}, {"size", size, sizes}} {
		if !slices.Contains(w.among, w.wanted) {
			return &apiclientError{
				apiclient.Problem{
					Code:   "no-such-" + w.what,
					Detail: fmt.Sprintf("the cloud has no %s %q", w.what, w.wanted),
					Remedy: new("There are: " + strings.Join(w.among, ", ")),
				},
			}
		}
	}
	return nil
}

func (s *session) begun(run apiclient.Run, instance string) error {
	if s.json {
		return s.writeJSON(run)
	}
	if s.quiet {
		fmt.Fprintln(s.env.Out, run.Id)
		return nil
	}
	fmt.Fprintf(s.env.Out, "The %s of %s has begun. Watch it: plumlatch run watch %s\n", run.Kind, instance, run.Id)
	return nil
}

// launched tells how to log in, and tries it where a private half is here.
func (s *session) launched(ctx context.Context, client *apiclient.Client, instance string, noKey bool) error {
	i, err := answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	openers, err := answer[apiclient.OpeningPage](client.ListOpeners(ctx, instance, &apiclient.ListOpenersParams{}))
	if err != nil {
		return err
	}
	file := s.fileFor(openers.Items)
	entry := s.tryLogin(ctx, client, i, file)
	if s.json {
		return s.writeJSON(struct {
			apiclient.Instance
			SSH      string `json:"ssh"`
			LoggedIn bool   `json:"logged_in"`
		}{i, s.sshCommand(i.Connection, file), entry == nil})
	}
	if s.quiet {
		fmt.Fprintln(s.env.Out, i.Name)
		return nil
	}
	fmt.Fprintln(s.env.Out)
	if noKey {
		fmt.Fprintf(s.env.Out, "%s is up, and nobody can log in: no key was placed.\n", i.Name)
		return nil
	}
	switch {
	case entry == nil:
		fmt.Fprintf(
			s.env.Out,
			"%s is up. A login as %s with %s was tried from here and completed.\n",
			i.Name,
			i.Connection.User,
			s.shown(file),
		)
	case errors.Is(entry, errNotTried):
		fmt.Fprintf(
			s.env.Out,
			"%s is up and accepts the key for %s. No login was tried: %v.\n",
			i.Name,
			i.Connection.User,
			entry,
		)
	default:
		fmt.Fprintf(s.env.Out, "%s is up and accepts the key, but a login from here failed: %v\n", i.Name, entry)
	}
	fmt.Fprintf(s.env.Out, "\n  %s\n\n", s.sshCommand(i.Connection, file))
	s.showHostKeys(i.Connection)
	return nil
}

func (s *session) showHostKeys(c apiclient.Connection) {
	if len(c.HostKeys) == 0 {
		return
	}
	fmt.Fprintln(s.env.Out, "Compare the host key at the first connection:")
	for _, h := range c.HostKeys {
		fmt.Fprintf(s.env.Out, "  %s  %s\n", h.Sha256, s.faint(h.Algorithm+", from the "+h.Learnt))
	}
}

// sshCommand is what to type to log in. Only the named file is offered, so that
// an agent full of keys does not use up the server's patience.
func (s *session) sshCommand(c apiclient.Connection, file string) string {
	if c.Address == "" {
		return ""
	}
	identity := "-i PRIVATE-KEY-FILE"
	if file != "" {
		identity = "-i " + s.shown(file) + " -o IdentitiesOnly=yes"
	}
	return fmt.Sprintf("ssh %s -p %d %s@%s", identity, c.Port, c.User, c.Address)
}

func instanceList(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var p paging
	p.flags(f)
	find := f.String("find", "", "`part` of a name or an address")
	region := f.String("region", "", "only in this region")
	state := f.String("state", "", "only in this state")
	image := f.String("image", "", "only of this image")
	label := f.String("label", "", "only with this label, `name=value`")
	sort := f.String("sort", "name", "`order`: name, -name, created or -created")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		instances, total, err := fetch[apiclient.Instance](
			ctx,
			p,
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListInstances(
					ctx,
					&apiclient.ListInstancesParams{
						After:  after,
						Limit:  &limit,
						Total:  count,
						Q:      optional(*find),
						Region: optional(*region),
						State:  optional(*state),
						Image:  optional(*image),
						Label:  optional(*label),
						Sort:   sort,
					},
				)
			},
		)
		if err != nil {
			return err
		}
		return instanceListing.show(s, instances, total)
	}
}

var instanceListing = listing[apiclient.Instance]{
	head: []string{"NAME", "STATE", "IMAGE", "REGION", "LOGIN", "KEYS", "LABELS"},
	name: func(i apiclient.Instance) string { return i.Name },
	none: "No instance fits. Launch one: plumlatch help instance launch",
	cells: func(i apiclient.Instance) []string {
		login := i.Connection.User + "@" + i.PublicAddress
		if i.PublicAddress == "" {
			login = i.Connection.User + ", no address"
		}
		return []string{i.Name, string(i.State), i.Image, i.Region, login, strconv.Itoa(i.Keys), labelText(i.Labels)}
	},
}

func instanceShow(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		i, err := answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
		if err != nil {
			return err
		}
		openers, total, err := fetch[apiclient.Opening](
			ctx,
			paging{limit: 50},
			func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
				return client.ListOpeners(ctx, args[0], &apiclient.ListOpenersParams{After: after, Limit: &limit, Total: count})
			},
		)
		if err != nil {
			return err
		}
		if s.json {
			return s.writeJSON(struct {
				apiclient.Instance
				Openers []apiclient.Opening `json:"openers"`
			}{i, openers})
		}
		static := ""
		if i.StaticAddress {
			static = " (static: stays at a stop)"
		}
		address := "none while it is " + string(i.State)
		if i.PublicAddress != "" {
			address = i.PublicAddress + static
		}
		s.facts(
			"Name",
			i.Name,
			"State",
			string(i.State),
			"Image",
			i.Image,
			"Size",
			i.Size,
			"Zone",
			i.Zone+" in "+i.Region,
			"Address",
			address,
			"Private address",
			i.PrivateAddress,
			"Labels",
			labelText(i.Labels),
			"Cloud's key label",
			i.KeyLabel,
			"Launched",
			moment(i.CreatedAt)+" by "+i.CreatedBy,
			"A stop costs",
			strings.Join(i.StopCosts, "; "),
			"Log in",
			s.sshCommand(i.Connection, s.fileFor(openers)),
		)
		fmt.Fprintln(s.env.Out)
		s.showHostKeys(i.Connection)
		fmt.Fprintln(s.env.Out)
		if total == 0 {
			fmt.Fprintln(s.env.Out, "No key that is known opens it.")
			return nil
		}
		s.openingTable(openers, true)
		s.rest(len(openers), total)
		return nil
	}
}

func changeWith(action string) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *session, []string) error {
		yes := new(bool)
		if action != "start" {
			f.BoolVar(yes, "yes", false, "do not ask")
		}
		reason := f.String("reason", "", "why, for the daybook")
		noWait := f.Bool("no-wait", false, "end when it has begun")
		return func(ctx context.Context, s *session, args []string) error {
			client, err := s.connect()
			if err != nil {
				return err
			}
			i, err := answer[apiclient.Instance](client.GetInstance(ctx, args[0]))
			if err != nil {
				return err
			}
			if err := s.confirmChange(action, i, *yes); err != nil {
				return err
			}
			var resp *http.Response
			switch action {
			case "start":
				resp, err = client.StartInstance(ctx, i.Name, &apiclient.StartInstanceParams{Reason: optional(*reason)})
			case "stop":
				resp, err = client.StopInstance(ctx, i.Name, &apiclient.StopInstanceParams{Reason: optional(*reason)})
			default:
				resp, err = client.TerminateInstance(ctx, i.Name, &apiclient.TerminateInstanceParams{Reason: optional(*reason)})
			}
			run, err := answer[apiclient.Run](resp, err)
			if err != nil {
				return err
			}
			if *noWait {
				return s.begun(run, i.Name)
			}
			if run, err = s.watch(ctx, client, run.Id); err != nil {
				return err
			}
			if err := s.runEnded(run); err != nil || s.json || s.quiet {
				return err
			}
			if action != "start" {
				fmt.Fprintf(
					s.env.Out,
					"%s is %s.\n",
					i.Name,
					map[string]string{"stop": "stopped", "terminate": "gone, with its disks"}[action],
				)
				return nil
			}
			return s.started(ctx, client, i)
		}
	}
}

func (s *session) confirmChange(action string, i apiclient.Instance, yes bool) error {
	switch {
	case action == "stop" && len(i.StopCosts) > 0:
		return s.confirm(yes, fmt.Sprintf("Stopping %s costs this:\n  %s", i.Name, strings.Join(i.StopCosts, "\n  ")), i.Name)
	case action == "terminate":
		return s.confirm(
			yes,
			fmt.Sprintf("This ends %s (%s) and its disks for good. There is no undo.", i.Name, labelText(i.Labels)),
			i.Name,
		)
	}
	return nil
}

// started says where the instance is now; most addresses change at a stop.
func (s *session) started(ctx context.Context, client *apiclient.Client, before apiclient.Instance) error {
	i, err := answer[apiclient.Instance](client.GetInstance(ctx, before.Name))
	if err != nil {
		return err
	}
	fmt.Fprintf(s.env.Out, "%s is running, at %s. Log in: plumlatch instance show %s\n", i.Name, i.PublicAddress, i.Name)
	return nil
}

func catalogueList(what string) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(*flag.FlagSet) func(context.Context, *session, []string) error {
		return func(ctx context.Context, s *session, _ []string) error {
			client, err := s.connect()
			if err != nil {
				return err
			}
			c, err := answer[apiclient.Catalogue](client.GetCatalogue(ctx))
			if err != nil {
				return err
			}
			switch what {
			case "image":
				return imageListing.show(s, c.Images, len(c.Images))
			case "size":
				return sizeListing.show(s, c.Sizes, len(c.Sizes))
			}
			return zoneListing.show(s, c.Zones, len(c.Zones))
		}
	}
}

var imageListing = listing[apiclient.Image]{
	head: []string{"NAME", "TITLE", "LOGIN USER", "TAKES KEYS"},
	name: func(i apiclient.Image) string { return i.Name },
	none: "The cloud has no image.",
	cells: func(i apiclient.Image) []string {
		return []string{i.Name, i.Title, i.LoginUser, strings.Join(i.KeyTypes, ", ")}
	},
}

var sizeListing = listing[apiclient.Size]{
	head: []string{"NAME", "CPUS", "MEMORY", "DISK", "TEMPORARY DISK"},
	name: func(z apiclient.Size) string { return z.Name },
	none: "The cloud has no size.",
	cells: func(z apiclient.Size) []string {
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

var zoneListing = listing[apiclient.Zone]{
	head:  []string{"NAME", "REGION"},
	name:  func(z apiclient.Zone) string { return z.Name },
	none:  "The cloud has no zone.",
	cells: func(z apiclient.Zone) []string { return []string{z.Name, z.Region} },
}
