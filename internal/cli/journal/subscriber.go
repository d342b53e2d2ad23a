package journal

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

var SubscriberCommands = []kit.Command{
	{
		Name:    "subscriber add",
		Args:    "NAME ADDRESS",
		Min:     2,
		Max:     2,
		Flags:   subscriberAdd,
		Summary: "Send events to a webhook or to syslog",
		Detail: "The address is https:// or http:// for a webhook (CloudEvents 1.0, signed by HMAC-SHA256 as in\nRFC " +
			"9421), and udp://, tcp:// or tls:// with a port for syslog (RFC 5424).",
		Examples: []string{
			"plumlatch subscriber add pager https://hooks.wrackline.example/latch -kind login-shut -kind left-open",
			"plumlatch subscriber add log tls://log.wrackline.example:6514 -kind all",
		},
	},
	{
		Name:     "subscriber list",
		Flags:    subscriberList,
		Summary:  "List subscribers and their delivery status",
		Examples: []string{"plumlatch subscriber list"},
	},
	{
		Name:     "subscriber test",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    subscriberTest,
		Summary:  "Send a test event",
		Examples: []string{"plumlatch subscriber test pager"},
	},
	{
		Name:     "subscriber dead",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    subscriberDead,
		Summary:  "List undelivered events, or send them again",
		Examples: []string{"plumlatch subscriber dead pager", "plumlatch subscriber dead pager -again"},
	},
	{
		Name:     "subscriber pause",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    subscriberPause(true),
		Summary:  "Pause a subscriber; events are kept for later",
		Examples: []string{"plumlatch subscriber pause pager"},
	},
	{
		Name:     "subscriber resume",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    subscriberPause(false),
		Summary:  "Resume a paused subscriber",
		Examples: []string{"plumlatch subscriber resume pager"},
	},
	{
		Name:     "subscriber delete",
		Args:     "NAME",
		Min:      1,
		Max:      1,
		Flags:    subscriberDelete,
		Summary:  "Delete a subscriber",
		Examples: []string{"plumlatch subscriber delete pager"},
	},
}

func subscriberAdd(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var kinds kit.Names
	f.Var(
		&kinds,
		"kind",
		"login-shut, stranger, run-failed, left-open, key-released, grant-overdue, holder-asked, charter-differs or all; "+
			"may be given several times; all but the last unless given",
	)
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		request := apiclient.NewSubscriber{Name: args[0], Address: args[1]}
		if len(kinds) > 0 {
			request.Kinds = &[]apiclient.SubscriberKind{}
			for _, k := range kinds {
				*request.Kinds = append(*request.Kinds, apiclient.SubscriberKind(k))
			}
		}
		r, err := kit.Answer[apiclient.Subscriber](
			client.AddSubscriber(ctx, &apiclient.AddSubscriberParams{IdempotencyKey: kit.NewRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		return keys.Record(s, r, r.Name, func() {
			keys.Say(s, "Events (%s) go to %s from now on.", kindText(r.Kinds), r.Address)
			if r.Secret != nil {
				keys.Say(s, "Their signatures are made with this secret (base64url), shown only now:\n  %s", *r.Secret)
			}
			keys.Say(s, "Try it: plumlatch subscriber test %s", r.Name)
		})
	})
}

func kindText(kinds []apiclient.SubscriberKind) string {
	var out []string
	for _, k := range kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

func subscriberList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Subscriber](client.ListSubscribers(ctx))
		if err != nil {
			return err
		}
		return subscriberListing.Show(s, all, len(all))
	})
}

var subscriberListing = kit.Listing[apiclient.Subscriber]{
	Head: []string{"NAME", "ADDRESS", "EVENTS", "STATE", "DELIVERED", "WAITING", "DEAD", "LAST ERROR"},
	Name: func(r apiclient.Subscriber) string { return r.Name },
	None: "There is no subscriber.",
	Cells: func(r apiclient.Subscriber) []string {
		state := "sending"
		if r.Paused {
			state = "paused"
		}
		return []string{
			r.Name,
			r.Address,
			kindText(r.Kinds),
			state,
			fmt.Sprint(r.Delivered),
			fmt.Sprint(r.Waiting),
			fmt.Sprint(r.Dead),
			kit.Given(r.LastError),
		}
	},
}

func subscriberTest(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := kit.Answer[apiclient.SubscriberTest](client.TestSubscriber(ctx, args[0]))
		if err != nil {
			return err
		}
		if err := keys.Record(s, t, args[0], func() {
			if t.Delivered {
				keys.Say(s, "%s has taken a test event.", args[0])
				return
			}
			keys.Say(s, "%s did not take a test event: %s.", args[0], kit.Given(t.Error))
		}); err != nil || t.Delivered {
			return err
		}
		return kit.Quiet(kit.ExitNotAsItShould)
	})
}

func subscriberDead(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	again := f.Bool("again", false, "try all of them again")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if *again {
			n, err := kit.Answer[apiclient.SentAgain](client.SendAgain(ctx, args[0]))
			if err != nil {
				return err
			}
			return keys.Record(s, n, fmt.Sprint(n.Events), func() {
				keys.Say(s,
					"%s tried again.",
					text.Counted(n.Events, "event")+" "+map[bool]string{true: "is", false: "are"}[n.Events == 1],
				)
			})
		}
		all, err := kit.Answer[[]apiclient.Delivery](client.ListDead(ctx, args[0]))
		if err != nil {
			return err
		}
		return deadListing.Show(s, all, len(all))
	})
}

var deadListing = kit.Listing[apiclient.Delivery]{
	Head: []string{"ENTRY", "GIVEN UP", "TRIES", "WHY", "WHAT"},
	Name: func(d apiclient.Delivery) string { return fmt.Sprint(d.Seq) },
	None: "Everything was delivered.",
	Cells: func(d apiclient.Delivery) []string {
		return []string{fmt.Sprint(d.Seq), kit.Moment(d.EndedAt), fmt.Sprint(d.Attempts), d.Error, d.Sentence}
	},
}

func subscriberPause(pause bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			words := "Events go to %s again, those of meanwhile first."
			if pause {
				words = "Nothing is sent to %s for now; what happens is kept for it."
			}
			r, err := client.ChangeSubscriber(ctx, args[0], apiclient.SubscriberChange{Paused: pause})
			return keys.Settled(s, r, err, words, args[0])
		})
	}
}

func subscriberDelete(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		r, err := client.DeleteSubscriber(ctx, args[0])
		return keys.Settled(s, r, err, "Nothing more is sent to %s.", args[0])
	})
}
