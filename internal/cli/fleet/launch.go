package fleet

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
)

func instanceLaunch(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var granted kit.Names
	var pair keys.PairFlags
	l := kit.Labels{}
	image := f.String("image", "", "the image; see: plumlatch image list")
	size := f.String("size", "", "the size; see: plumlatch size list")
	zone := f.String("zone", "", "the zone; the cloud's first unless given")
	f.Var(&granted, "key", "the `name` of a key that opens it; can be given several times")
	newKey := f.String("new", "", "first make a pair of this `name` on this machine, which opens the instance")
	f.StringVar(&pair.Typ, "type", "ed25519", "with -new: ed25519, rsa or ecdsa")
	f.IntVar(&pair.Bits, "bits", 0, "with -new: the size of an rsa or ecdsa key")
	f.StringVar(&pair.Out, "out", "", "with -new: `file` for the private key; ~/.ssh/NAME unless given")
	steward := f.Bool("steward", false, "also place a steward key, with which the service sweeps and changes keys")
	noKey := f.Bool("no-key", false, "launch without any key: nobody will be able to log in")
	in := f.String("cloud", "", "the `cloud`; the one that has the zone unless given, else the first one")
	static := f.Bool("static-address", false, "use a public address that stays when the instance stops")
	f.Var(l, "label", "a label, `name=value`; can be given several times")
	reason := f.String("reason", "", "why, for the daybook")
	noWait := f.Bool("no-wait", false, "end when the launch has begun")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		if len(granted) == 0 && *newKey == "" && !*noKey {
			return kit.Usage(
				"no key was given, so nobody would be able to log in\nName a key (-key NAME), make one (-new NAME), or say " +
					"-no-key if that is meant",
			)
		}
		request := apiclient.LaunchInstance{
			Name:          args[0],
			Image:         *image,
			Size:          *size,
			Cloud:         kit.Optional(*in),
			Zone:          kit.Optional(*zone),
			StaticAddress: static,
			Reason:        kit.Optional(*reason),
			NoKey:         noKey,
			Steward:       steward,
		}
		if *newKey != "" {
			granted = append(granted, *newKey)
		}
		if len(granted) > 0 {
			request.Keys = new([]string(granted))
		}
		if len(l) > 0 {
			request.Labels = new(map[string]string(l))
		}
		if there, err := launchedBefore(s, ctx, client, request); there || err != nil {
			return err
		}
		if *newKey != "" {
			if err := checkCatalogue(ctx, client, request, pair.Typ); err != nil {
				return err // before a pair is made for nothing
			}
			pair.Maker = "here"
			k, path, err := keys.NewPair(s, ctx, *newKey, pair)
			if err != nil {
				return err
			}
			if !s.Json && !s.Quiet {
				fmt.Fprintf(s.Env.Err, "Made the key %s; its private key is in %s.\n", k.Name, s.Shown(path))
			}
		}
		begun, err := kit.Answer[apiclient.Launched](
			client.LaunchInstance(ctx, &apiclient.LaunchInstanceParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		if *noWait {
			return Begun(s, begun.Run, args[0])
		}
		if !s.Json && !s.Quiet {
			fmt.Fprintf(
				s.Env.Err,
				"Launching %s (%s, %s, %s)\n", args[0], begun.Instance.Image, begun.Instance.Size, begun.Instance.Zone,
			)
		}
		run, err := s.Watch(ctx, client, begun.Run.Id)
		if err != nil {
			return err
		}
		if run.State != apiclient.RunStateDone {
			if *newKey != "" {
				fmt.Fprintf(s.Env.Err, "The key %s is recorded and can be used for another try.\n", *newKey)
			}
			return s.RunEnded(run)
		}
		return launched(s, ctx, client, args[0], *noKey)
	}
}

// launchedBefore reports whether the instance is there already, launched from the same facts. One of that
// name with other facts is in the way.
func launchedBefore(
	s *kit.Session, ctx context.Context, client *apiclient.Client, wanted apiclient.LaunchInstance,
) (bool, error) {
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, wanted.Name))
	if kit.Code(err) == "no-such-instance" {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	openers, err := kit.Answer[apiclient.OpeningPage](
		client.ListOpeners(ctx, i.Name, &apiclient.ListOpenersParams{Limit: new(kit.PageSize)}),
	)
	if err != nil {
		return false, err
	}
	if differs := differences(wanted, i, openers.Items); len(differs) > 0 {
		return false, kit.Conflict(
			"name-taken", fmt.Sprintf("there is another instance named %s: its %s", i.Name, strings.Join(differs, ", its ")),
			"Choose another name, or see it: plumlatch instance show "+i.Name,
		)
	}
	switch {
	case s.Json:
		err = s.WriteJSON(launchedInstance{Instance: i, SSH: sshCommand(s, i, s.FileFor(openers.Items))})
	case s.Quiet:
		_, err = fmt.Fprintln(s.Env.Out, i.Name)
	default:
		_, err = fmt.Fprintf(
			s.Env.Out, "%s was launched like this before, on %s; nothing was changed. It is %s.\n", i.Name,
			kit.Day(i.CreatedAt), i.State,
		)
	}
	return true, err
}

// differences tells which facts of an instance are not the wanted ones.
func differences(wanted apiclient.LaunchInstance, i apiclient.Instance, openers []apiclient.Opening) []string {
	var out []string
	for _, fact := range []struct{ what, wanted, is string }{
		{"image", wanted.Image, i.Image},
		{"size", wanted.Size, i.Size},
		{"cloud", cmp.Or(kit.Given(wanted.Cloud), i.Cloud), i.Cloud},
		{"zone", cmp.Or(kit.Given(wanted.Zone), i.Zone), i.Zone},
		{
			"address", map[bool]string{true: "static", false: "not static"}[kit.Given(wanted.StaticAddress)],
			map[bool]string{true: "static", false: "not static"}[i.StaticAddress],
		},
	} {
		if fact.wanted != fact.is {
			out = append(out, fmt.Sprintf("%s is %s", fact.what, fact.is))
		}
	}
	if !maps.Equal(kit.Given(wanted.Labels), i.Labels) {
		out = append(out, "labels differ")
	}
	for _, name := range kit.Given(wanted.Keys) {
		if !slices.ContainsFunc(openers, func(o apiclient.Opening) bool { return o.Key.Name == name }) {
			out = append(out, "keys do not include "+name)
		}
	}
	return out
}

func checkCatalogue(
	ctx context.Context, client *apiclient.Client, wanted apiclient.LaunchInstance, keyType string,
) error {
	image := wanted.Image
	c, err := kit.Answer[apiclient.Catalogue](
		client.GetCatalogue(ctx, &apiclient.GetCatalogueParams{Cloud: wanted.Cloud, Zone: wanted.Zone}),
	)
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
	}{{"image", image, images}, {"size", wanted.Size, sizes}} {
		if !slices.Contains(w.among, w.wanted) {
			return kit.Missing(
				"no-such-"+w.what, fmt.Sprintf("the cloud %s has no %s %q", c.Cloud, w.what, w.wanted),
				"There are: "+strings.Join(w.among, ", "),
			)
		}
	}
	for _, i := range c.Images {
		if i.Name == image && !slices.Contains(i.KeyTypes, keyType) {
			return kit.Failed(
				"wrong-type", fmt.Sprintf("the image %s takes keys of the type %s only", image, strings.Join(i.KeyTypes, ", ")),
				"Make such a key: -type "+i.KeyTypes[0],
			)
		}
	}
	return nil
}

// launchedInstance is an instance with what this machine found out about it.
type launchedInstance struct {
	apiclient.Instance
	SSH      string `json:"ssh"`
	LoggedIn bool   `json:"logged_in"` // a login from here was completed just now
}

// launched tells how to log in, and tries it where a private key is here.
func launched(s *kit.Session, ctx context.Context, client *apiclient.Client, instance string, noKey bool) error {
	i, err := kit.Answer[apiclient.Instance](client.GetInstance(ctx, instance))
	if err != nil {
		return err
	}
	openers, err := kit.Answer[apiclient.OpeningPage](client.ListOpeners(ctx, instance, &apiclient.ListOpenersParams{}))
	if err != nil {
		return err
	}
	file := s.FileFor(openers.Items)
	entry := s.TryLogin(ctx, client, i, file)
	if s.Json {
		return s.WriteJSON(launchedInstance{i, sshCommand(s, i, file), entry == nil})
	}
	if s.Quiet {
		fmt.Fprintln(s.Env.Out, i.Name)
		return nil
	}
	fmt.Fprintln(s.Env.Out)
	if noKey {
		fmt.Fprintf(s.Env.Out, "%s is up, and nobody can log in: no key was placed.\n", i.Name)
		return nil
	}
	switch {
	case entry == nil:
		fmt.Fprintf(
			s.Env.Out,
			"%s is up. A login as %s with %s was tried from here and completed.\n", i.Name, i.Connection.User,
			s.Shown(file),
		)
	case errors.Is(entry, kit.ErrNotTried):
		fmt.Fprintf(
			s.Env.Out,
			"%s is up and accepts the key for %s. No login was tried: %v.\n", i.Name, i.Connection.User, entry,
		)
	default:
		fmt.Fprintf(s.Env.Out, "%s is up and accepts the key, but a login from here failed: %v\n", i.Name, entry)
	}
	fmt.Fprintf(s.Env.Out, "\n  %s\n\n", sshCommand(s, i, file))
	showHostKeys(s, i.Connection)
	return nil
}
