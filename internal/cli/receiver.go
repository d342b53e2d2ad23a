package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

var receiverCommands = []command{
	{
		name:    "receiver add",
		args:    "NAME ADDRESS",
		min:     2,
		max:     2,
		flags:   receiverAdd,
		summary: "Have events sent to a webhook or to syslog",
		detail: "The address is https:// or http:// for a webhook (CloudEvents 1.0, signed by HMAC-SHA256 as in\nRFC " +
			"9421), and udp://, tcp:// or tls:// with a port for syslog (RFC 5424).",
		examples: []string{
			"plumlatch receiver add pager https://hooks.wrackline.example/latch -kind login-shut -kind left-open",
			"plumlatch receiver add log tls://log.wrackline.example:6514 -kind all",
		},
	},
	{
		name:     "receiver list",
		flags:    receiverList,
		summary:  "List the receivers and how they do",
		examples: []string{"plumlatch receiver list"},
	},
	{
		name:     "receiver test",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    receiverTest,
		summary:  "Send one event at once",
		examples: []string{"plumlatch receiver test pager"},
	},
	{
		name:     "receiver dead",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    receiverDead,
		summary:  "List what could not be delivered, or try it again",
		examples: []string{"plumlatch receiver dead pager", "plumlatch receiver dead pager -again"},
	},
	{
		name:     "receiver pause",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    receiverPause(true),
		summary:  "Send nothing for a while; what happens is kept",
		examples: []string{"plumlatch receiver pause pager"},
	},
	{
		name:     "receiver resume",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    receiverPause(false),
		summary:  "Go on sending",
		examples: []string{"plumlatch receiver resume pager"},
	},
	{
		name:     "receiver delete",
		args:     "NAME",
		min:      1,
		max:      1,
		flags:    receiverDelete,
		summary:  "End a receiver",
		examples: []string{"plumlatch receiver delete pager"},
	},
}

func receiverAdd(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var kinds names
	f.Var(
		&kinds,
		"kind",
		"login-shut, stranger, run-failed, left-open, key-released or all; may be given several times; all but the last "+
			"unless given",
	)
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		request := apiclient.NewReceiver{Name: args[0], Address: args[1]}
		if len(kinds) > 0 {
			request.Kinds = &[]apiclient.ReceiverKind{}
			for _, k := range kinds {
				*request.Kinds = append(*request.Kinds, apiclient.ReceiverKind(k))
			}
		}
		r, err := answer[apiclient.Receiver](
			client.AddReceiver(ctx, &apiclient.AddReceiverParams{IdempotencyKey: newRequestKey()}, request),
		)
		if err != nil {
			return err
		}
		return s.record(r, r.Name, func() {
			s.say("Events (%s) go to %s from now on.", kindText(r.Kinds), r.Address)
			if r.Secret != nil {
				s.say("Their signatures are made with this secret (base64url), shown only now:\n  %s", *r.Secret)
			}
			s.say("Try it: plumlatch receiver test %s", r.Name)
		})
	})
}

func kindText(kinds []apiclient.ReceiverKind) string {
	var out []string
	for _, k := range kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

func receiverList(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		all, err := answer[[]apiclient.Receiver](client.ListReceivers(ctx))
		if err != nil {
			return err
		}
		return receiverListing.show(s, all, len(all))
	})
}

var receiverListing = listing[apiclient.Receiver]{
	head: []string{"NAME", "ADDRESS", "EVENTS", "STATE", "DELIVERED", "WAITING", "DEAD", "LAST ERROR"},
	name: func(r apiclient.Receiver) string { return r.Name },
	none: "There is no receiver.",
	cells: func(r apiclient.Receiver) []string {
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
			given(r.LastError),
		}
	},
}

func receiverTest(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		t, err := answer[apiclient.ReceiverTest](client.TestReceiver(ctx, args[0]))
		if err != nil {
			return err
		}
		if err := s.record(t, args[0], func() {
			if t.Delivered {
				s.say("%s has taken a test event.", args[0])
				return
			}
			s.say("%s did not take a test event: %s.", args[0], given(t.Error))
		}); err != nil || t.Delivered {
			return err
		}
		return &quietError{exitNotAsItShould}
	})
}

func receiverDead(f *flag.FlagSet) func(context.Context, *session, []string) error {
	again := f.Bool("again", false, "try all of them again")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		if *again {
			n, err := answer[apiclient.SentAgain](client.SendAgain(ctx, args[0]))
			if err != nil {
				return err
			}
			return s.record(n, fmt.Sprint(n.Events), func() {
				s.say(
					"%s tried again.",
					text.Counted(n.Events, "event")+" "+map[bool]string{true: "is", false: "are"}[n.Events == 1],
				)
			})
		}
		all, err := answer[[]apiclient.Delivery](client.ListDead(ctx, args[0]))
		if err != nil {
			return err
		}
		return deadListing.show(s, all, len(all))
	})
}

var deadListing = listing[apiclient.Delivery]{
	head: []string{"ENTRY", "GIVEN UP", "TRIES", "WHY", "WHAT"},
	name: func(d apiclient.Delivery) string { return fmt.Sprint(d.Seq) },
	none: "Everything was delivered.",
	cells: func(d apiclient.Delivery) []string {
		return []string{fmt.Sprint(d.Seq), moment(d.EndedAt), fmt.Sprint(d.Attempts), d.Error, d.Sentence}
	},
}

func receiverPause(pause bool) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(*flag.FlagSet) func(context.Context, *session, []string) error {
		return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
			words := "Events go to %s again, those of meanwhile first."
			if pause {
				words = "Nothing is sent to %s for now; what happens is kept for it."
			}
			r, err := client.ChangeReceiver(ctx, args[0], apiclient.ReceiverChange{Paused: pause})
			return s.settled(r, err, words, args[0])
		})
	}
}

func receiverDelete(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		r, err := client.DeleteReceiver(ctx, args[0])
		return s.settled(r, err, "Nothing is sent to %s any more.", args[0])
	})
}
