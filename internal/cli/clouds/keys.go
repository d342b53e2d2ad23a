package clouds

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

// KeyCommands are about the keys that clouds know themselves.
var KeyCommands = []kit.Command{
	{
		Name: "cloud keys", Args: "CLOUD", Min: 1, Max: 1, Flags: cloudKeys,
		Summary: "List a cloud's own catalogue of named keys, and which of them are recorded here",
		Detail: `The cloud's catalogue is what launches name; it says nothing of who gets in today. Fingerprints are as the
cloud writes them; the record is found by any notation. UNTRUE counts instances that the cloud shows the name beside
and that the key does not open, as they were last read.`,
		Examples: []string{"plumlatch cloud keys north-shore", "plumlatch cloud keys north-shore -unused"},
	},
	{
		Name: "cloud publish", Args: "CLOUD KEY", Min: 2, Max: 2, Flags: cloudPublish,
		Summary: "Put a public key into a cloud's catalogue, since other tools launch with it",
		Detail:  "It goes into all regions of the cloud unless -region names some. Repeating it changes nothing.",
		Examples: []string{
			"plumlatch cloud publish north-shore atlas-deploy",
			"plumlatch cloud publish north-shore atlas-deploy -as deploy-2026 -region north-shore",
		},
	},
	{
		Name: "cloud unpublish", Args: "CLOUD NAME", Min: 2, Max: 2, Flags: cloudUnpublish,
		Summary:  "Take a named key out of a cloud's catalogue; what it opens stays as it is",
		Examples: []string{"plumlatch cloud unpublish north-shore deploy-2019"},
	},
	{
		Name: "cloud import-keys", Args: "CLOUD [NAME ...]", Min: 1, Max: -1, Flags: cloudImportKeys,
		Summary: "Record the public keys of a cloud's catalogue that are not recorded",
		Detail: `Only those whose public key the cloud gives can be. They have no holder until somebody proves that they have
the private key: plumlatch prove NAME.`,
		Examples: []string{"plumlatch cloud import-keys north-shore", "plumlatch cloud import-keys north-shore deploy-2026"},
	},
	{
		Name: "group-key list", Flags: groupKeyList,
		Summary: "List the keys that clouds hand to every instance of a project, a zone or a group",
		Detail: `Such keys are ways in like any other: they are shown at each login that they open (login show, openers), and
counted in what a lost key would open. REFUSING counts recorded instances of the group that take none of them: their
image has no process for it, or they were told to refuse.`,
		Examples: []string{"plumlatch group-key list", "plumlatch group-key list -cloud north-shore -all"},
	},
	{
		Name: "group-key add", Args: "KEY", Min: 1, Max: 1, Flags: groupKeyChange(false),
		Summary:  "Have a cloud hand a key to every instance of a group",
		Detail:   "It first shows how many logins it opens then. They get no grant by it: it is a way in beside the grants.",
		Examples: []string{"plumlatch group-key add rescue-2026 -cloud north-shore -group 'the whole project' -user ubuntu"},
	},
	{
		Name: "group-key remove", Args: "KEY|FINGERPRINT", Min: 1, Max: 1, Flags: groupKeyChange(true),
		Summary: "Have a cloud no longer hand a key to the instances of a group",
		Detail: `The cloud's process in each machine takes the line out. So it is refused where that leaves a login without
a holder whose proof is fresh; -anyway with -reason does it all the same, for a compromised key.`,
		Examples: []string{"plumlatch group-key remove tomas-laptop -cloud north-shore -group north-shore-a -user ubuntu"},
	},
	{
		Name: "group-key refuse", Args: "INSTANCE", Min: 1, Max: 1, Flags: groupKeyTake(false),
		Summary:  "Have one instance refuse the keys that its cloud hands to its groups",
		Examples: []string{"plumlatch group-key refuse ringing-db"},
	},
	{
		Name: "group-key take", Args: "INSTANCE", Min: 1, Max: 1, Flags: groupKeyTake(true),
		Summary:  "Have one instance take the keys that its cloud hands to its groups again",
		Examples: []string{"plumlatch group-key take ringing-db"},
	},
	{
		Name: "record-rule set", Flags: recordRuleSet,
		Summary: "Say which instances that clouds launch are recorded by themselves, or left alone",
		Detail: `A rule is for a label that instances have in their cloud. -record records them once they run, where the cloud
tells their host keys; -leave-alone keeps short-lived ones out of the list of what is not recorded, and forgets them a
day after they are gone. A rule for one cloud counts before one for all, and -leave-alone before -record.`,
		Examples: []string{
			"plumlatch record-rule set -label pool=workers -leave-alone",
			"plumlatch record-rule set -label team=field -record -cloud south-marsh",
		},
	},
	{
		Name: "record-rule list", NoNames: true, Flags: recordRuleList,
		Summary:  "List the rules about what is recorded by itself",
		Examples: []string{"plumlatch record-rule list"},
	},
	{
		Name: "record-rule remove", NoNames: true, Flags: recordRuleRemove,
		Summary:  "Remove a rule; what it has recorded stays",
		Examples: []string{"plumlatch record-rule remove -label pool=workers"},
	},
}

func cloudKeys(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	unused := f.Bool("unused", false, "only those that no instance was launched with")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		all, err := kit.Answer[apiclient.CloudKeys](client.ListCloudKeys(ctx, args[0]))
		if err != nil {
			return err
		}
		inRegion := map[string]int{}
		list := []apiclient.CloudKey{}
		untrue := 0
		for _, k := range all.Keys {
			inRegion[k.Region]++
			untrue += k.Untrue
			if !*unused || k.Launched == 0 {
				list = append(list, k)
			}
		}
		if err := cloudKeyListing.Show(s, list, len(list)); err != nil || s.Json || s.Quiet || len(list) == 0 {
			return err
		}
		fmt.Fprintln(s.Env.Out)
		if q := kit.Given(all.Quota); q > 0 {
			most := 0
			for _, n := range inRegion {
				most = max(most, n)
			}
			fmt.Fprintf(s.Env.Out, "%d of %d in the fullest region.\n", most, q)
		}
		if untrue > 0 {
			fmt.Fprintf(
				s.Env.Out,
				"The name beside %s is not the truth: the key does not open it. See who gets in: plumlatch openers NAME\n",
				text.Counted(untrue, "instance"),
			)
		}
		if *unused {
			fmt.Fprintf(s.Env.Out, "Remove one: plumlatch cloud unpublish %s NAME\n", args[0])
		}
		return nil
	})
}

var cloudKeyListing = kit.Listing[apiclient.CloudKey]{
	Head:  []string{"NAME", "REGION", "RECORDED AS", "LAUNCHED", "OPENS", "UNTRUE", "FINGERPRINT"},
	Least: []string{"FINGERPRINT", "REGION"},
	Name:  func(k apiclient.CloudKey) string { return k.Name },
	None:  "There is none. Put one of yours in: plumlatch help cloud publish",
	Cells: func(k apiclient.CloudKey) []string {
		recorded := strings.Join(k.RecordedAs, ", ")
		if recorded == "" {
			recorded = "not recorded"
		}
		return []string{
			k.Name, k.Region, recorded, strconv.Itoa(k.Launched), strconv.Itoa(k.Opens), strconv.Itoa(k.Untrue), k.Fingerprint,
		}
	},
}

// regions is a flag that can be given several times.
type regions []string

func (r *regions) String() string { return strings.Join(*r, ",") }

func (r *regions) Set(v string) error {
	*r = append(*r, v)
	return nil
}

func cloudPublish(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var in regions
	f.Var(&in, "region", "only in this `region`; can be given several times")
	as := f.String("as", "", "its `name` in the cloud; that of the record unless given")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		request := apiclient.PublishKey{Key: args[1], As: kit.Optional(*as), Reason: kit.Optional(*reason)}
		if len(in) > 0 {
			request.Regions = new([]string(in))
		}
		done, err := kit.Answer[[]apiclient.PublishedKey](client.PublishKey(ctx, args[0], request))
		if err != nil {
			return err
		}
		failed := false
		for _, d := range done {
			failed = failed || d.Problem != nil
		}
		err = keys.Record(s, done, args[1], func() {
			for _, d := range done {
				switch {
				case d.Problem != nil:
					keys.Say(s, "%s: %s", d.Region, d.Problem.Detail)
				case d.Was:
					keys.Say(s, "%s: it is there already.", d.Region)
				default:
					keys.Say(s, "%s: %s is in the catalogue.", d.Region, args[1])
				}
			}
		})
		if err == nil && failed {
			err = &kit.QuietError{Status: kit.ExitFailed}
		}
		return err
	})
}

func cloudUnpublish(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var in regions
	f.Var(&in, "region", "only in this `region`; can be given several times")
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		what := fmt.Sprintf(
			"This takes %s out of the catalogue of %s: nothing can be launched with it any longer. Machines stay as they are.",
			args[1], args[0],
		)
		if err := s.Confirm(*yes, what, args[1]); err != nil {
			return err
		}
		params := apiclient.UnpublishKeyParams{Reason: kit.Optional(*reason)}
		if len(in) > 0 {
			params.Region = new([]string(in))
		}
		if _, err := kit.AnswerBytes(client.UnpublishKey(ctx, args[0], args[1], &params)); err != nil {
			return err
		}
		return keys.Record(s, struct{}{}, args[1], func() { keys.Say(s, "%s is out of the catalogue.", args[1]) })
	})
}

func cloudImportKeys(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	purpose := f.String("purpose", "", "what they are for")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		all, err := kit.Answer[apiclient.CloudKeys](client.ListCloudKeys(ctx, args[0]))
		if err != nil {
			return err
		}
		wanted := map[string]bool{}
		for _, name := range args[1:] {
			wanted[name] = true
		}
		type result struct {
			Name    string `json:"name"`
			Outcome string `json:"outcome"`
		}
		out := []result{}
		failed := false
		seen := map[string]bool{}
		for _, k := range all.Keys {
			if len(wanted) > 0 && !wanted[k.Name] || seen[k.Name+k.Fingerprint] {
				continue
			}
			seen[k.Name+k.Fingerprint] = true
			delete(wanted, k.Name)
			one := result{Name: k.Name, Outcome: "recorded"}
			switch {
			case len(k.RecordedAs) > 0:
				one.Outcome = "recorded already as " + strings.Join(k.RecordedAs, ", ")
			case k.PublicKey == nil:
				one.Outcome = "left out: the cloud does not give its public key"
			default:
				_, err := kit.Answer[apiclient.Key](client.ImportKey(ctx, &apiclient.ImportKeyParams{}, apiclient.ImportKey{
					Name: k.Name, PublicKey: *k.PublicKey, Purpose: kit.Optional(*purpose), NoHolder: new(true),
				}))
				if err != nil {
					one.Outcome, failed = "left out: "+err.Error(), true
				}
			}
			out = append(out, one)
		}
		for name := range wanted {
			return kit.Missing(
				"no-such-named-key", fmt.Sprintf("the catalogue of %s has no key named %q", args[0], name),
				"See what it has: plumlatch cloud keys "+args[0],
			)
		}
		err = keys.Record(s, out, "", func() {
			t := kit.Table{Head: []string{"NAME", "WHAT"}, Wraps: []string{"WHAT"}}
			for _, o := range out {
				t.Add(o.Name, o.Outcome)
			}
			t.Write(s)
		})
		if err == nil && failed {
			err = &kit.QuietError{Status: kit.ExitFailed}
		}
		return err
	})
}

// cloudsNamed are the cloud that is named, or all.
func cloudsNamed(ctx context.Context, client *apiclient.Client, name string) ([]string, error) {
	if name != "" {
		return []string{name}, nil
	}
	all, err := kit.Answer[[]apiclient.Cloud](client.ListClouds(ctx))
	names := make([]string, len(all))
	for n, c := range all {
		names[n] = c.Name
	}
	return names, err
}

func groupKeyList(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	in := f.String("cloud", "", "only of this `cloud`")
	all := f.Bool("all", false, "also groups that have no key")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		names, err := cloudsNamed(ctx, client, *in)
		if err != nil {
			return err
		}
		type group struct {
			Cloud string `json:"cloud"`
			apiclient.KeyGroup
		}
		list := []group{}
		for _, name := range names {
			groups, err := kit.Answer[[]apiclient.KeyGroup](client.ListKeyGroups(ctx, name))
			if err != nil {
				return err
			}
			for _, g := range groups {
				if *all || len(g.Keys) > 0 {
					list = append(list, group{name, g})
				}
			}
		}
		switch {
		case s.Json:
			return s.WriteJSON(list)
		case s.Quiet:
			for _, g := range list {
				fmt.Fprintln(s.Env.Out, g.Id)
			}
			return nil
		case len(list) == 0:
			fmt.Fprintln(
				s.Env.Out,
				"No cloud hands a key to a group, as they were last read. See the groups: plumlatch group-key list -all",
			)
			return nil
		}
		t := kit.Table{
			Head:  []string{"CLOUD", "GROUP", "USER", "KEY", "TAKING", "REFUSING"},
			Wraps: []string{"KEY"},
		}
		for _, g := range list {
			rows := [][2]string{}
			for _, k := range g.Keys {
				rows = append(rows, [2]string{k.User, groupKeyText(k)})
			}
			if len(rows) == 0 {
				rows = [][2]string{{"", "none"}}
			}
			for _, r := range rows {
				t.Add(g.Cloud, g.Name, r[0], r[1], strconv.Itoa(g.Taking), strconv.Itoa(g.Refusing))
			}
		}
		t.Write(s)
		return s.Fault()
	})
}

func groupKeyText(k apiclient.KeyOfGroup) string {
	if name := kit.Given(k.Key); name != "" {
		return name
	}
	if k.Comment != "" {
		return "not recorded: " + k.Sha256 + " (" + k.Comment + ")"
	}
	return "not recorded: " + k.Sha256
}

func groupKeyChange(remove bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		in := f.String("cloud", "", "the `cloud`; needed where there are several")
		group := f.String("group", "", "the `group`, by its name or its id")
		user := f.String("user", "", "the OS `user` whose logins it opens")
		reason := f.String("reason", "", "why, for the daybook")
		yes := f.Bool("yes", false, "do not ask")
		anyway := new(bool)
		if remove {
			anyway = f.Bool(
				"anyway",
				false,
				"also where that leaves logins without anybody who is known to get in; needs -reason",
			)
		}
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			if *group == "" || *user == "" {
				return kit.Usage("say which: -group GROUP -user USER\nSee them: plumlatch group-key list -all")
			}
			names, err := cloudsNamed(ctx, client, *in)
			if err != nil {
				return err
			}
			if len(names) != 1 {
				return kit.Usage("there are several clouds: say which, -cloud NAME")
			}
			request := apiclient.ChangeKeyGroup{
				Group: *group, User: *user, Key: args[0], Remove: &remove, Anyway: anyway, Reason: kit.Optional(*reason),
				Preview: new(true),
			}
			would, err := kit.Answer[apiclient.KeyGroupEffect](client.ChangeKeyGroup(ctx, names[0], request))
			if err != nil {
				return err
			}
			what := fmt.Sprintf("%s of %s opens %s by it", would.Group, names[0], text.Counted(len(would.Logins), "login"))
			if remove {
				what = fmt.Sprintf(
					"%s loses it in %s of %s", text.Counted(len(would.Logins), "login"), would.Group, names[0],
				)
			}
			return carryGroupKey(s, would, what, *yes, func() (apiclient.KeyGroupEffect, error) {
				request.Preview = nil
				return kit.Answer[apiclient.KeyGroupEffect](client.ChangeKeyGroup(ctx, names[0], request))
			})
		})
	}
}

// carryGroupKey shows what a change of keys of groups does, asks, and does it.
func carryGroupKey(
	s *kit.Session, would apiclient.KeyGroupEffect, what string, yes bool,
	do func() (apiclient.KeyGroupEffect, error),
) error {
	if !would.Changed {
		return keys.Record(s, would, would.Group, func() { keys.Say(s, "So it is already; nothing was changed.") })
	}
	if len(would.Worse) > 0 && !s.Json && !s.Quiet {
		t := kit.Table{Head: []string{"LOGIN", "NOW", "WITHOUT IT"}}
		for _, c := range would.Worse {
			t.Add(c.Login, string(c.Before), string(c.After))
		}
		t.Write(s)
	}
	if err := s.Confirm(yes, what+".", "yes"); err != nil {
		return err
	}
	done, err := do()
	if err != nil {
		return err
	}
	return keys.Record(s, done, done.Group, func() {
		keys.Say(s, "Done: %s. The cloud's process in each machine follows within seconds.", what)
	})
}

func groupKeyTake(taken bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		yes := f.Bool("yes", false, "do not ask")
		anyway := new(bool)
		if !taken {
			anyway = f.Bool(
				"anyway",
				false,
				"also where that leaves logins without anybody who is known to get in; needs -reason",
			)
		}
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			request := apiclient.TakeGroupKeys{Taken: taken, Preview: new(true)}
			would, err := kit.Answer[apiclient.KeyGroupEffect](client.TakeGroupKeys(ctx, args[0], request))
			if err != nil {
				return err
			}
			what := args[0] + " takes the keys that its cloud hands to its groups"
			if !taken {
				what = fmt.Sprintf(
					"%s refuses the keys that its cloud hands to its groups; they open %s", args[0],
					text.Counted(len(would.Logins), "login"),
				)
			}
			return carryGroupKey(s, would, what, *yes, func() (apiclient.KeyGroupEffect, error) {
				return kit.Answer[apiclient.KeyGroupEffect](client.TakeGroupKeys(ctx, args[0], apiclient.TakeGroupKeys{
					Taken: taken, Anyway: anyway, Reason: kit.Optional(*reason),
				}))
			})
		})
	}
}

func recordRuleSet(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "the label that they have in their cloud, `name=value`")
	in := f.String("cloud", "", "only in this `cloud`")
	records := f.Bool("record", false, "they are recorded by themselves")
	alone := f.Bool("leave-alone", false, "they are left alone")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		if *label == "" || *records == *alone {
			return kit.Usage("say for which label and what: -label NAME=VALUE, and -record or -leave-alone")
		}
		r, err := kit.Answer[apiclient.RecordRule](client.PutRecordRule(ctx, apiclient.PutRecordRule{
			Label: *label, Cloud: kit.Optional(*in), LeaveAlone: alone, Reason: kit.Optional(*reason),
		}))
		if err != nil {
			return err
		}
		return keys.Record(s, r, r.Label, func() {
			keys.Say(
				s,
				"Instances with the label %s %s from the next reading on: plumlatch cloud read NAME",
				r.Label,
				ruleWhat(r),
			)
		})
	})
}

func ruleWhat(r apiclient.RecordRule) string {
	if r.LeaveAlone {
		return "are left alone"
	}
	return "are recorded by themselves"
}

func recordRuleList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.RecordRule](client.ListRecordRules(ctx))
		if err != nil {
			return err
		}
		return recordRuleListing.Show(s, all, len(all))
	})
}

var recordRuleListing = kit.Listing[apiclient.RecordRule]{
	Head: []string{"LABEL IN THE CLOUD", "CLOUD", "INSTANCES WITH IT", "ADDED"},
	Name: func(r apiclient.RecordRule) string { return r.Label },
	None: "There is no rule: what clouds launch is recorded by somebody. Set one: plumlatch help record-rule set",
	Cells: func(r apiclient.RecordRule) []string {
		in := kit.Given(r.Cloud)
		if in == "" {
			in = "all"
		}
		return []string{r.Label, in, ruleWhat(r), kit.Moment(r.AddedAt) + " by " + r.AddedBy}
	},
}

func recordRuleRemove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "its label, `name=value`")
	in := f.String("cloud", "", "its `cloud`")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.RecordRule](client.ListRecordRules(ctx))
		if err != nil {
			return err
		}
		for _, r := range all {
			if r.Label != *label || kit.Given(r.Cloud) != *in {
				continue
			}
			if _, err := kit.AnswerBytes(
				client.RemoveRecordRule(ctx, r.Id, &apiclient.RemoveRecordRuleParams{Reason: kit.Optional(*reason)}),
			); err != nil {
				return err
			}
			return keys.Record(s, r, r.Label, func() { keys.Say(s, "The rule for %s is removed.", r.Label) })
		}
		return kit.Missing(
			"no-such-rule", fmt.Sprintf("there is no rule for the label %q", *label),
			"See those that there are: plumlatch record-rule list",
		)
	})
}
