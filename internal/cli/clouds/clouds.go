// Package clouds holds the commands about clouds: where their adapters are, what each can do, and what runs in them.
package clouds

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// CloudCommands are about clouds.
var CloudCommands = []kit.Command{
	{
		Name: "cloud add", Args: "NAME", Min: 1, Max: 1, Flags: cloudAdd,
		Summary: "Add a cloud by its adapter",
		Detail: `The adapter is asked at once, and the cloud is added only if it answers. Its token is kept in the safe and
shown to nobody. An adapter on another machine is spoken to by https; -ca gives the certificate authority of one
whose certificate this machine would not take.`,
		Examples: []string{
			"plumlatch cloud add south-marsh -adapter https://adapter.marsh.example -adapter-token-file marsh.token",
			"plumlatch cloud add lab -adapter https://10.4.0.9:8443 -adapter-token-file lab.token -ca lab-ca.pem",
		},
	},
	{
		Name: "cloud list", Flags: cloudList,
		Summary:  "List the clouds and whether they answer",
		Examples: []string{"plumlatch cloud list"},
	},
	{
		Name: "cloud show", NoNames: true, Args: "NAME", Min: 1, Max: 1, Flags: cloudShow,
		Summary:  "Show what a cloud can do, its zones, and when it last answered",
		Examples: []string{"plumlatch cloud show south-marsh"},
	},
	{
		Name: "cloud check", NoNames: true, Args: "NAME", Min: 1, Max: 1, Flags: cloudCheck,
		Summary:  "Ask a cloud now; ends with 7 if it does not answer",
		Examples: []string{"plumlatch cloud check south-marsh"},
	},
	{
		Name: "cloud read", Args: "NAME", Min: 1, Max: 1, Flags: cloudRead,
		Summary: "Read all that runs in a cloud, now",
		Detail: `The service does so by itself every ten minutes. What is new is listed by  plumlatch cloud instances
-not-recorded; what has changed of recorded instances, and what is gone, is in the daybook. A reading that is not
whole changes nothing. Nor does one by which most of what is recorded is gone, unless -accept-gone is given: another
cloud may have answered.`,
		Examples: []string{"plumlatch cloud read south-marsh"},
	},
	{
		Name: "cloud instances", Flags: cloudInstances,
		Summary: "List what runs in the clouds, as each was last read",
		Examples: []string{
			"plumlatch cloud instances -not-recorded", "plumlatch cloud instances -cloud south-marsh -find gauge",
		},
	},
	{
		Name: "cloud change", Args: "NAME", Min: 1, Max: 1, Flags: cloudChange,
		Summary: "Change the adapter of a cloud, or its token",
		Detail:  "The adapter is asked first, and nothing is changed if it does not answer.",
		Examples: []string{
			"plumlatch cloud change south-marsh -adapter-token-file new.token",
			"plumlatch cloud change south-marsh -adapter https://adapter-2.marsh.example -adapter-token-file marsh.token",
		},
	},
	{
		Name: "cloud pause", Args: "NAME", Min: 1, Max: 1, Flags: cloudPause(true),
		Summary: "Have a cloud not asked until it is resumed",
		Detail: `Runs in it wait, and its part of every answer is not known. SSH is not touched: keys are granted,
rotated and read as before where a steward key or a person's machine does it.`,
		Examples: []string{"plumlatch cloud pause south-marsh -reason 'moved on Sunday'"},
	},
	{
		Name: "cloud resume", Args: "NAME", Min: 1, Max: 1, Flags: cloudPause(false),
		Summary:  "Have a paused cloud asked again",
		Examples: []string{"plumlatch cloud resume south-marsh"},
	},
	{
		Name: "cloud forget", Args: "NAME", Min: 1, Max: 1, Flags: cloudForget,
		Summary: "Forget a cloud; its instances stay as machines of no cloud",
		Detail: "Nothing in the cloud is touched. It is refused while runs are at work on its instances or something is " +
			"open in it.",
		Examples: []string{"plumlatch cloud forget south-marsh -reason 'given up'"},
	},
}

// secretFile returns what a file holds that has one line.
func secretFile(name string) (string, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	return strings.TrimSpace(string(data)), nil
}

// adapterFlags are where an adapter is, and what it is spoken to with.
type adapterFlags struct{ adapter, tokenFile, ca, reason string }

func (a *adapterFlags) flags(f *flag.FlagSet) {
	f.StringVar(&a.adapter, "adapter", "", "the `URL` of its adapter")
	f.StringVar(&a.tokenFile, "adapter-token-file", "", "the `file` with the token for the adapter")
	f.StringVar(&a.ca, "ca", "", "a `file` with the certificate authority of the adapter, in PEM")
	f.StringVar(&a.reason, "reason", "", "why, for the daybook")
}

// read returns the token and the certificate authorities that the flags name.
func (a *adapterFlags) read() (token string, ca *string, err error) {
	if a.tokenFile != "" {
		if token, err = secretFile(a.tokenFile); err != nil {
			return "", nil, fmt.Errorf("-adapter-token-file: %w", err)
		}
		if token == "" {
			return "", nil, kit.Usage("-adapter-token-file: " + a.tokenFile + " is empty")
		}
	}
	if a.ca != "" {
		data, err := os.ReadFile(a.ca)
		if err != nil {
			return "", nil, fmt.Errorf("-ca: %w", err)
		}
		ca = new(string(data))
	}
	return token, ca, nil
}

func cloudAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var at adapterFlags
	at.flags(f)
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if at.adapter == "" || at.tokenFile == "" {
			return kit.Usage("say where its adapter is and what it asks for: -adapter URL -adapter-token-file FILE")
		}
		token, ca, err := at.read()
		if err != nil {
			return err
		}
		c, err := kit.Answer[apiclient.Cloud](client.AddCloud(ctx, apiclient.NewCloud{
			Name: args[0], Adapter: at.adapter, Token: token, Ca: ca, Reason: kit.Optional(at.reason),
		}))
		if kit.Code(err) == "name-taken" {
			there, again := kit.Answer[apiclient.Cloud](client.GetCloud(ctx, args[0]))
			if again == nil && there.Adapter == at.adapter {
				return keys.Record(s, there, there.Name, func() {
					keys.Say(
						s,
						"%s was added before; nothing was changed. Another token: plumlatch cloud change %s -adapter-token-file FILE",
						there.Name,
						there.Name,
					)
				})
			}
		}
		if err != nil {
			return err
		}
		return keys.Record(s, c, c.Name, func() {
			keys.Say(s, "%s is added. It calls itself %q and can do: %s.", c.Name, c.Says, strings.Join(c.Capabilities, ", "))
			keys.Say(s, "Launch there: plumlatch instance launch NAME -cloud %s", c.Name)
		})
	})
}

func cloudList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Cloud](client.ListClouds(ctx))
		if err != nil {
			return err
		}
		return cloudListing.Show(s, all, len(all))
	})
}

var cloudListing = kit.Listing[apiclient.Cloud]{
	Head:  []string{"NAME", "STATE", "LAST ANSWER", "TOOK", "INSTANCES", "NOT RECORDED", "ZONES", "ADAPTER"},
	Least: []string{"ADAPTER", "TOOK", "ZONES"},
	Name:  func(c apiclient.Cloud) string { return c.Name },
	None:  "There is no cloud. Add one: plumlatch help cloud add",
	Cells: func(c apiclient.Cloud) []string {
		return []string{
			c.Name, state(c), lastAnswer(c), took(c), strconv.Itoa(c.Instances), strconv.Itoa(c.NotRecorded),
			zoneNames(c), c.Adapter,
		}
	},
}

func state(c apiclient.Cloud) string {
	switch {
	case c.PausedAt != nil:
		return "paused"
	case c.Failure != "":
		return "does not answer"
	case c.AnsweredAt == nil:
		return "not asked yet"
	}
	return "answers"
}

func lastAnswer(c apiclient.Cloud) string {
	if c.AnsweredAt == nil {
		return "never"
	}
	return kit.Moment(*c.AnsweredAt)
}

func took(c apiclient.Cloud) string {
	if c.LatencyMs == 0 {
		return ""
	}
	return fmt.Sprintf("%d ms", c.LatencyMs)
}

func zoneNames(c apiclient.Cloud) string {
	names := make([]string, len(c.Zones))
	for n, z := range c.Zones {
		names[n] = z.Name
	}
	return strings.Join(names, ", ")
}

func cloudShow(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c, err := kit.Answer[apiclient.Cloud](client.GetCloud(ctx, args[0]))
		if err != nil {
			return err
		}
		return show(s, c)
	})
}

func show(s *kit.Session, c apiclient.Cloud) error {
	if s.Json {
		return s.WriteJSON(c)
	}
	paused := ""
	if c.PausedAt != nil {
		paused = kit.Moment(*c.PausedAt) + " by " + kit.Given(c.PausedBy)
		if why := kit.Given(c.PausedWhy); why != "" {
			paused += ": " + why
		}
	}
	added := "at the start of the service: -cloud"
	if !c.Given {
		added = kit.Moment(c.AddedAt) + " by " + c.AddedBy
	}
	zones := make([]string, len(c.Zones))
	for n, z := range c.Zones {
		zones[n] = z.Name + " in " + z.Region
	}
	answered := lastAnswer(c)
	if t := took(c); t != "" && c.AnsweredAt != nil {
		answered += ", within " + t
	}
	s.Facts(
		"Name", c.Name, "State", state(c), "Paused", paused, "Last answer", answered, "Then", c.Failure, "Calls itself",
		c.Says, "Can do", strings.Join(c.Capabilities, ", "), "Zones", strings.Join(zones, ", "), "Instances",
		instances(c), "Last read", read(c), "Adapter", c.Adapter, "Added", added,
	)
	return nil
}

func cloudCheck(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c, err := kit.Answer[apiclient.Cloud](client.CheckCloud(ctx, args[0]))
		if err != nil {
			return err
		}
		if err := show(s, c); err != nil || c.Failure == "" {
			return err
		}
		return kit.Away("cloud-unreachable", c.Name+" does not answer: "+c.Failure, "See that its adapter runs: "+c.Adapter)
	})
}

func cloudChange(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var to adapterFlags
	to.flags(f)
	noCA := f.Bool("no-ca", false, "take the certificate authorities of the service's machine again")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		token, ca, err := to.read()
		if err != nil {
			return err
		}
		if *noCA {
			if ca != nil {
				return kit.Usage("-ca excludes -no-ca")
			}
			ca = new("")
		}
		if to.adapter == "" && token == "" && ca == nil {
			return kit.Usage("say what is changed: -adapter URL, -adapter-token-file FILE, -ca FILE or -no-ca")
		}
		c, err := kit.Answer[apiclient.Cloud](client.ChangeCloud(ctx, args[0], apiclient.CloudChange{
			Adapter: kit.Optional(to.adapter), Token: kit.Optional(token), Ca: ca, Reason: kit.Optional(to.reason),
		}))
		if err != nil {
			return err
		}
		return keys.Record(s, c, c.Name, func() { keys.Say(s, "%s is changed, and its adapter answers.", c.Name) })
	})
}

func cloudPause(pause bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			c, err := kit.Answer[apiclient.Cloud](client.ChangeCloud(ctx, args[0], apiclient.CloudChange{
				Paused: &pause, Reason: kit.Optional(*reason),
			}))
			if err != nil {
				return err
			}
			return keys.Record(s, c, c.Name, func() {
				if pause {
					keys.Say(s, "%s is paused: it is not asked until  plumlatch cloud resume %s", c.Name, c.Name)
					return
				}
				keys.Say(s, "%s is asked again.", c.Name)
			})
		})
	}
}

func cloudForget(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c, err := kit.Answer[apiclient.Cloud](client.GetCloud(ctx, args[0]))
		if kit.Code(err) == "no-such-cloud" {
			return keys.Record(s, apiclient.CloudForgotten{}, args[0], func() {
				keys.Say(s, "There is no cloud named %s; nothing was changed.", args[0])
			})
		}
		if err != nil {
			return err
		}
		what := fmt.Sprintf(
			"%s is asked about nothing from then on. %s in it stay recorded as machines of no cloud: ways back in that need "+
				"the cloud are closed to them.", c.Name, text.Counted(c.Instances, "instance"),
		)
		if err := s.Confirm(*yes, what, c.Name); err != nil {
			return err
		}
		gone, err := kit.Answer[apiclient.CloudForgotten](
			client.ForgetCloud(ctx, args[0], &apiclient.ForgetCloudParams{Reason: kit.Optional(*reason)}),
		)
		if err != nil {
			return err
		}
		return keys.Record(s, gone, args[0], func() {
			keys.Say(s, "%s is forgotten; %s stay without a cloud.", args[0], text.Counted(gone.Instances, "instance"))
		})
	})
}

func instances(c apiclient.Cloud) string {
	said := fmt.Sprintf("%d recorded here", c.Instances)
	if c.NotRecorded > 0 {
		said += fmt.Sprintf(", %d not", c.NotRecorded)
	}
	return said
}

func read(c apiclient.Cloud) string {
	switch {
	case c.ReadFailure != "" && c.ReadAt != nil:
		return kit.Moment(*c.ReadAt) + "; the last try failed: " + c.ReadFailure
	case c.ReadFailure != "":
		return "never; the last try failed: " + c.ReadFailure
	case c.ReadAt == nil:
		return "not yet"
	}
	return kit.Moment(*c.ReadAt)
}
