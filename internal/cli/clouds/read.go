package clouds

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// lookAgain is how often it is looked whether a reading has ended.
const lookAgain = 300 * time.Millisecond

func cloudRead(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	noWait := f.Bool("no-wait", false, "end when the reading is asked for")
	gone := f.Bool("accept-gone", false, "take it that most of what is recorded is gone, where it is")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c, err := kit.Answer[apiclient.Cloud](client.ReadCloud(ctx, args[0], &apiclient.ReadCloudParams{AcceptGone: gone}))
		if err != nil {
			return err
		}
		if *noWait {
			return keys.Record(s, c, c.Name, func() { keys.Say(s, "%s is being read.", c.Name) })
		}
		wanted := c.ReadWantedAt
		for wanted != nil && (c.ReadTriedAt == nil || c.ReadTriedAt.Before(*wanted)) {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(lookAgain):
			}
			if c, err = kit.Answer[apiclient.Cloud](client.GetCloud(ctx, args[0])); err != nil {
				return err
			}
		}
		if c.ReadFailure != "" {
			return kit.Away(
				"cloud-not-read", c.Name+" could not be read, so nothing was changed: "+c.ReadFailure,
				"See whether it answers: plumlatch cloud check "+c.Name,
			)
		}
		return keys.Record(s, c, c.Name, func() { sayRead(s, c) })
	})
}

func sayRead(s *kit.Session, c apiclient.Cloud) {
	if r := c.ReadSaid; r != nil {
		keys.Say(
			s, "%s has %s: %d not recorded, %d seen for the first time, %d changed, %d gone.", c.Name,
			text.Counted(r.Instances, "instance"), c.NotRecorded, r.New, r.Changed, r.Gone,
		)
	}
	if c.NotRecorded > 0 {
		keys.Say(s, "See them:     plumlatch cloud instances -cloud %s -not-recorded", c.Name)
		keys.Say(s, "Bring all in: plumlatch instance bring-in -cloud %s -all", c.Name)
	}
}

func cloudInstances(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	in := f.String("cloud", "", "only in this `cloud`")
	find := f.String("find", "", "`part` of a name, an address or an id")
	not := f.Bool("not-recorded", false, "only those that are not recorded")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		params := apiclient.ListCloudInstancesParams{Cloud: kit.Optional(*in), Q: kit.Optional(*find)}
		if *not {
			params.Recorded = new(false)
		}
		list, total, err := listCloudInstances(ctx, client, p, params)
		if err != nil {
			return err
		}
		return instanceListing.Show(s, list, total)
	})
}

func listCloudInstances(
	ctx context.Context, client *apiclient.Client, p kit.Paging, params apiclient.ListCloudInstancesParams,
) ([]apiclient.CloudInstance, int, error) {
	return kit.Fetch[apiclient.CloudInstance](
		ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			q := params
			q.After, q.Limit, q.Total = after, &limit, count
			return client.ListCloudInstances(ctx, &q)
		},
	)
}

var instanceListing = kit.Listing[apiclient.CloudInstance]{
	Head:  []string{"NAME", "ID", "STATE", "IMAGE", "ZONE", "ADDRESS", "KEY LABEL", "LAUNCHED", "RECORDED AS"},
	Least: []string{"ZONE", "LAUNCHED", "KEY LABEL", "ADDRESS", "IMAGE"},
	Name:  func(i apiclient.CloudInstance) string { return i.CloudId },
	None:  "No instance matches, as the clouds were last read. Read one: plumlatch cloud read NAME",
	Cells: func(i apiclient.CloudInstance) []string {
		launched, as := "", i.RecordedAs
		if i.LaunchedAt != nil {
			launched = kit.Day(*i.LaunchedAt)
		}
		if as == "" {
			as = "not recorded"
		}
		name := i.Name
		if name == "" {
			name = "(no name)"
		}
		addresses := strings.Join(append([]string{i.PublicAddress}, kit.Given(i.OtherAddresses)...), ", ")
		return []string{name, i.CloudId, string(i.State), i.Image, i.Zone, addresses, i.KeyLabel, launched, as}
	},
}

// BringInCommands bring in what runs in a cloud.
var BringInCommands = []kit.Command{
	{
		Name: "instance bring-in", Args: "[NAME|ID ...]", Min: 0, Max: -1, Flags: bringIn,
		Summary: "Record instances that run in a cloud and were not launched here",
		Detail: `They are recorded with their cloud, so that every way back in that it offers is open to them. Host keys are
taken from the cloud's boot output; where it has none, -host-key says which is expected, or -first-contact takes
what the machine shows. One that was adopted as a machine of no cloud becomes the cloud's, with its grants and its
history: its host key tells, or -same-as where the host key changed and the address is the same. You first see what
would become of each. Who gets in is read right after, where the guest agent or a steward key lets the service;
else by  plumlatch sweep NAME -with FILE.`,
		Examples: []string{
			"plumlatch instance bring-in -all",
			"plumlatch instance bring-in gauge-north gauge-south -login debian -label team=field",
			"plumlatch instance bring-in i-0a1b2c3d4e5f -as gauge-west -host-key SHA256:…",
			"plumlatch instance bring-in gauge-old -same-as gauge-3 -reason \"new host keys after its reinstall\"",
		},
	},
}

// mostBroughtIn is how many are brought in by one call.
const mostBroughtIn = 100

func bringIn(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	l := kit.Labels{}
	in := f.String("cloud", "", "the `cloud`; needed where there are several")
	all := f.Bool("all", false, "all that run there and are not recorded")
	find := f.String("find", "", "with -all: only those with this `part` in their name, address or id")
	login := f.String("login", "", "the OS `user` to log in as; that of each image unless given")
	as := f.String("as", "", "the `name` of the record, of one; its name in the cloud unless given")
	hostKey := f.String("host-key", "", "of one: the `fingerprint` that one of its host keys must have")
	same := f.String("same-as", "", "of one: the adopted `machine` at its address that it is, with a new host key")
	first := f.Bool("first-contact", false, "take host keys as a machine shows them where its cloud does not tell them")
	f.Var(l, "label", "a label, `name=value`; can be given several times")
	reason := f.String("reason", "", "why, for the daybook")
	via := f.String("via", "", "the `instance` by way of which they are reached")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		switch {
		case *all == (len(args) > 0):
			return kit.Usage("name instances of the cloud, or say -all\nSee them: plumlatch cloud instances -not-recorded")
		case (*as != "" || *hostKey != "" || *same != "") && len(args) != 1:
			return kit.Usage("-as, -host-key and -same-as are for one instance")
		case *find != "" && !*all:
			return kit.Usage("-find is for -all")
		}
		cloud, err := theCloud(ctx, client, *in)
		if err != nil {
			return err
		}
		if *all {
			found, _, err := listCloudInstances(ctx, client, kit.Paging{All: true, Limit: 1}, apiclient.ListCloudInstancesParams{
				Cloud: &cloud, Q: kit.Optional(*find), Recorded: new(false),
			})
			if err != nil {
				return err
			}
			for _, i := range found {
				args = append(args, i.CloudId)
			}
		}
		request := apiclient.BringIn{
			Cloud: cloud, LoginUser: kit.Optional(*login), FirstContact: first, Reason: kit.Optional(*reason),
			Via: kit.Optional(*via),
		}
		if len(l) > 0 {
			request.Labels = new(map[string]string(l))
		}
		for _, name := range args {
			request.Instances = append(request.Instances, apiclient.BringInInstance{
				Is: name, As: kit.Optional(*as), HostKey: kit.Optional(*hostKey), SameAs: kit.Optional(*same),
			})
		}
		return carryIn(s, ctx, client, request, *yes)
	})
}

// theCloud is the cloud that is named, or the only one there is, or that has something that is not recorded.
func theCloud(ctx context.Context, client *apiclient.Client, name string) (string, error) {
	if name != "" {
		return name, nil
	}
	all, err := kit.Answer[[]apiclient.Cloud](client.ListClouds(ctx))
	if err != nil {
		return "", err
	}
	some := slices.DeleteFunc(slices.Clone(all), func(c apiclient.Cloud) bool { return c.NotRecorded == 0 })
	switch {
	case len(all) == 1:
		return all[0].Name, nil
	case len(some) == 1:
		return some[0].Name, nil
	}
	if len(all) == 0 {
		return "", kit.Missing("no-cloud", "there is no cloud", "Add one: plumlatch help cloud add")
	}
	return "", kit.Usage("there are several clouds: say which, -cloud NAME\nSee them: plumlatch cloud list")
}

// carryIn shows what would become of each, asks, and brings in.
func carryIn(
	s *kit.Session, ctx context.Context, client *apiclient.Client, request apiclient.BringIn, yes bool,
) error {
	if len(request.Instances) == 0 {
		return keys.Record(s, []apiclient.BroughtIn{}, "", func() {
			keys.Say(s, "Nothing that runs in %s is not recorded, as it was last read.", request.Cloud)
		})
	}
	would, err := inParts(s, ctx, client, request, true)
	if err != nil {
		return err
	}
	in := 0
	for _, one := range would {
		if comesIn(one) {
			in++
		}
	}
	if in > 0 {
		if !s.Json && !s.Quiet && !yes {
			showBrought(s, would, true)
		}
		what := fmt.Sprintf("This records %s of %s.", text.Counted(in, "instance"), request.Cloud)
		if err := s.Confirm(yes, what, "yes"); err != nil {
			return err
		}
		if would, err = inParts(s, ctx, client, request, false); err != nil {
			return err
		}
	}
	left := 0
	for _, one := range would {
		if one.Outcome == apiclient.BroughtInOutcomeLeftOut {
			left++
		}
	}
	switch {
	case s.Json:
		err = s.WriteJSON(would)
	case s.Quiet:
		for _, one := range would {
			if one.Outcome != apiclient.BroughtInOutcomeLeftOut {
				fmt.Fprintln(s.Env.Out, one.Name)
			}
		}
	default:
		showBrought(s, would, false)
		fmt.Fprintf(s.Env.Out, "\n%s recorded, %d left out.\n", text.Counted(in, "instance"), left)
		if in > 0 {
			fmt.Fprintln(s.Env.Out, "See who gets in: plumlatch openers NAME, or of all: plumlatch reach")
		}
	}
	if err == nil && left > 0 {
		err = &kit.QuietError{Status: kit.ExitNotAsItShould}
	}
	return err
}

func comesIn(one apiclient.BroughtIn) bool {
	return one.Outcome == apiclient.BroughtInOutcomeBroughtIn || one.Outcome == apiclient.BroughtInOutcomeJoined
}

// inParts brings in as many at once as one call takes.
func inParts(
	s *kit.Session, ctx context.Context, client *apiclient.Client, request apiclient.BringIn, preview bool,
) ([]apiclient.BroughtIn, error) {
	list := request.Instances
	request.Preview = &preview
	var out []apiclient.BroughtIn
	for n := 0; n < len(list); n += mostBroughtIn {
		if len(list) > mostBroughtIn && !s.Json && !s.Quiet {
			what := "Brought in"
			if preview {
				what = "Looked at"
			}
			fmt.Fprintf(s.Env.Err, "%s %d of %d\n", what, n, len(list))
		}
		request.Instances = list[n:min(n+mostBroughtIn, len(list))]
		part, err := kit.Answer[[]apiclient.BroughtIn](client.BringIn(ctx, request))
		if err != nil {
			return nil, err
		}
		out = append(out, part...)
	}
	return out, nil
}

func showBrought(s *kit.Session, list []apiclient.BroughtIn, preview bool) {
	t := kit.Table{
		Head:  []string{"IN THE CLOUD", "ID", "LOGIN", "ADDRESS", "WHAT", "HOST KEY"},
		Least: []string{"ADDRESS", "HOST KEY", "ID"},
		Wraps: []string{"WHAT", "HOST KEY"},
	}
	for _, one := range list {
		login, what, key := one.Login, "is recorded", ""
		if preview {
			what = "would be recorded"
		}
		switch one.Outcome {
		case apiclient.BroughtInOutcomeJoined:
			what = "is the adopted machine " + one.Name + ", which stays as it is and gets its cloud"
		case apiclient.BroughtInOutcomeWasThere:
			login, what = one.Name, "was recorded before"
		case apiclient.BroughtInOutcomeLeftOut:
			login, what = "", "left out"
			if p := one.Problem; p != nil {
				what += ": " + p.Detail + ". " + kit.Given(p.Remedy)
			}
		}
		if comesIn(one) && len(one.HostKeys) > 0 {
			key = one.HostKeys[0] + ", from the " + one.Learnt
		}
		t.Add(cmp.Or(one.Called, one.Is), one.CloudId, login, one.Address, what, key)
	}
	t.Write(s)
}
