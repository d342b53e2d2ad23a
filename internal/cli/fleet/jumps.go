package fleet

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

// JumpCommands are about jump hosts.
var JumpCommands = []kit.Command{
	{
		Name: "jump set", NoNames: true, Args: "[INSTANCE ...]", Max: -1, Flags: jumpSet,
		Summary: "Say by way of which jump host instances are reached",
		Detail: `Everything that reaches them goes that way: the service with the steward key of the jump host, you with a key
of yours that opens it (connect, sweep -with, why), and ssh by the ProxyJump of  plumlatch ssh-config. With -label or
-network it is a rule for all instances with the label, or with an address in the network; the narrowest network
counts, and any network before a label. What is set for an instance alone counts before the rules. -direct has it
reached straight, whatever the rules say; -by-rules takes back what was set for it alone. A jump host may be reached
by way of another, up to four in a row.`,
		Examples: []string{
			"plumlatch jump set ringing-db ringing-db-2 -via gateway-1",
			"plumlatch jump set -network 10.20.0.0/16 -via gateway-1",
			"plumlatch jump set -label tier=inner -via gateway-1",
			"plumlatch jump set ringing-db -direct",
		},
	},
	{
		Name: "jump list", Flags: jumpList,
		Summary:  "List the jump hosts, how many instances each leads to, and the rules",
		Examples: []string{"plumlatch jump list"},
	},
	{
		Name: "jump remove", NoNames: true, Flags: jumpRemove,
		Summary: "Remove a rule for a label or a network",
		Examples: []string{
			"plumlatch jump remove -network 10.20.0.0/16", "plumlatch jump remove -label tier=inner",
		},
	},
}

func jumpSet(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	via := f.String("via", "", "the `instance` by way of which they are reached")
	direct := f.Bool("direct", false, "they are reached straight, whatever the rules say")
	byRules := f.Bool("by-rules", false, "they are reached as the rules say")
	label := f.String("label", "", "a rule for all instances with this label, `name=value`")
	network := f.String("network", "", "a rule for all instances with an address in this `network`, in CIDR notation")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		ways := 0
		for _, said := range []bool{*via != "", *direct, *byRules} {
			if said {
				ways++
			}
		}
		rule := *label != "" || *network != ""
		switch {
		case ways != 1:
			return kit.Usage("say one of -via INSTANCE, -direct and -by-rules")
		case rule && len(args) > 0:
			return kit.Usage("a rule for a label or a network names no instances")
		case rule && *via == "":
			return kit.Usage("a rule needs a jump host: -via INSTANCE; end it with  plumlatch jump remove")
		case *label != "" && *network != "":
			return kit.Usage("-label and -network are two rules: set one after the other")
		case !rule && len(args) == 0:
			return kit.Usage("name the instances, or give -label NAME=VALUE or -network NETWORK for a rule")
		case rule:
			r, err := kit.Answer[apiclient.JumpRule](client.PutJumpRule(ctx, apiclient.PutJumpRule{
				Label: kit.Optional(*label), Network: kit.Optional(*network), Via: *via, Reason: kit.Optional(*reason),
			}))
			if err != nil {
				return err
			}
			return keys.Record(s, r, r.Via, func() {
				keys.Say(
					s, "%s are reached by way of %s. See which: plumlatch instance list -via %s", ruleFor(r), r.Via, r.Via,
				)
			})
		}
		done, err := kit.Answer[apiclient.SetJumpsDone](client.SetJumps(ctx, apiclient.SetJumps{
			Instances: args, Via: kit.Optional(*via), Direct: direct, Reason: kit.Optional(*reason),
		}))
		if err != nil {
			return err
		}
		return keys.Record(s, done, "", func() {
			how := "by way of " + *via
			switch {
			case *direct:
				how = "straight"
			case *byRules:
				how = "as the rules say"
			}
			if done.Changed == 0 {
				keys.Say(s, "%s is reached %s already; nothing was changed.", strings.Join(args, ", "), how)
				return
			}
			keys.Say(
				s,
				"%s from now on reached %s. Try it: plumlatch why %s",
				text.Counted(done.Changed, "instance"),
				how,
				args[0],
			)
		})
	})
}

func ruleFor(r apiclient.JumpRule) string {
	if r.Network != nil {
		return "Instances in " + *r.Network
	}
	return "Instances with the label " + kit.Given(r.Label)
}

func jumpList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[apiclient.Jumps](client.ListJumps(ctx))
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			return s.WriteJSON(all)
		case s.Quiet:
			for _, h := range all.Hosts {
				fmt.Fprintln(s.Env.Out, h.Instance)
			}
			return nil
		case len(all.Hosts)+len(all.Rules) == 0:
			fmt.Fprintln(s.Env.Out, "Every instance is reached straight. Set a jump host: plumlatch help jump set")
			return nil
		}
		hosts := kit.Table{Head: []string{"JUMP HOST", "LEADS TO"}}
		for _, h := range all.Hosts {
			hosts.Add(h.Instance, text.Counted(h.Behind, "instance"))
		}
		hosts.Write(s)
		if len(all.Rules) == 0 {
			return s.Fault()
		}
		fmt.Fprintln(s.Env.Out)
		rules := kit.Table{Head: []string{"ORDER", "RULE FOR", "VIA", "ADDED"}}
		for n, r := range all.Rules {
			rules.Add(strconv.Itoa(n+1), ruleFor(r), r.Via, kit.Moment(r.AddedAt)+" by "+r.AddedBy)
		}
		rules.Write(s)
		return s.Fault()
	})
}

func jumpRemove(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	label := f.String("label", "", "the rule for this label, `name=value`")
	network := f.String("network", "", "the rule for this `network`")
	reason := f.String("reason", "", "why, for the daybook")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		if (*label == "") == (*network == "") {
			return kit.Usage("say which rule: -label NAME=VALUE or -network NETWORK")
		}
		all, err := kit.Answer[apiclient.Jumps](client.ListJumps(ctx))
		if err != nil {
			return err
		}
		for _, r := range all.Rules {
			if *label != "" && kit.Given(r.Label) == *label || *network != "" && kit.Given(r.Network) == *network {
				if _, err := kit.AnswerBytes(
					client.RemoveJumpRule(ctx, r.Id, &apiclient.RemoveJumpRuleParams{Reason: kit.Optional(*reason)}),
				); err != nil {
					return err
				}
				return keys.Record(s, r, r.Via, func() {
					keys.Say(s, "The rule is removed. %s are not reached by way of %s because of it.", ruleFor(r), r.Via)
				})
			}
		}
		return kit.Missing(
			"no-such-rule",
			"there is no rule for "+*label+*network,
			"See those that there are: plumlatch jump list",
		)
	})
}

// wayText tells the way to an instance through jump hosts; "" where it is reached straight.
func wayText(c apiclient.Connection) string {
	var names []string
	for _, h := range kit.Given(c.Via) {
		if kit.Given(h.Hidden) {
			names = append(names, "a jump host that you may not see")
			continue
		}
		names = append(names, h.Instance)
	}
	return strings.Join(names, ", then ")
}
