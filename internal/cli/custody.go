package cli

import (
	"context"
	"crypto/ecdh"
	"crypto/hpke"
	"crypto/rand"
	"encoding/base64"
	"flag"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
)

// with finds the service first.
func with(do call) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		return do(ctx, s, client, args)
	}
}

// say writes a sentence for people.
func (s *session) say(format string, args ...any) {
	if !s.quiet && !s.json {
		fmt.Fprintf(s.env.Out, format+"\n", args...)
	}
}

// settled ends a command whose call answers with nothing.
func (s *session) settled(r *http.Response, err error, format string, args ...any) error {
	if _, err := answerBytes(r, err); err != nil {
		return err
	}
	s.say(format, args...)
	return nil
}

// shown writes a record as JSON where that is asked for, and else what text says.
func (s *session) record(v any, name string, text func()) error {
	switch {
	case s.json:
		return s.writeJSON(v)
	case s.quiet:
		fmt.Fprintln(s.env.Out, name)
	default:
		text()
	}
	return nil
}

var custodyCommands = []command{
	{
		name:    "key hand-over",
		args:    "NAME [KEEPER]",
		min:     1,
		max:     2,
		flags:   keyHandOver,
		summary: "Ask another keeper to take a key over",
		detail: "It is done once they prove that they hold it: plumlatch prove NAME. A private half that\nnever left the " +
			"safe changes its keeper at once.",
		examples: []string{
			"plumlatch key hand-over atlas-deploy marek -reason \"the atlas is his now\"",
			"plumlatch key hand-over atlas-deploy -off",
		},
	},
	{
		name:     "key hand-overs",
		flags:    keyHandOvers,
		summary:  "List the hand-overs that wait for a proof",
		examples: []string{"plumlatch key hand-overs"},
	},
	{
		name:    "key forget",
		args:    "NAME",
		min:     1,
		max:     1,
		flags:   keyForget,
		summary: "Have the safe forget a private half that its keeper holds",
		detail: "It is proved first that you hold the private half, from the file or the agent given, or\nfrom one found " +
			"on this machine.",
		examples: []string{
			"plumlatch key forget atlas-deploy-2",
			"plumlatch key forget atlas-deploy-2 -with ~/.ssh/atlas-deploy-2",
		},
	},
	{
		name:     "consent ask",
		args:     "KEY",
		min:      1,
		max:      1,
		flags:    consentAsk,
		summary:  "Ask for consent to take a private half out of the safe",
		examples: []string{"plumlatch consent ask atlas-deploy-2 -reason \"the deploy job moves\" -wait"},
	},
	{
		name:     "consent list",
		flags:    consentList,
		summary:  "List the requests of the last 90 days",
		examples: []string{"plumlatch consent list"},
	},
	{
		name:     "consent grant",
		args:     "ID",
		min:      1,
		max:      1,
		flags:    consentDecide(true),
		summary:  "Consent to somebody else's request",
		examples: []string{"plumlatch consent grant 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10"},
	},
	{
		name:    "consent refuse",
		args:    "ID",
		min:     1,
		max:     1,
		flags:   consentDecide(false),
		summary: "Refuse somebody else's request",
		examples: []string{
			"plumlatch consent refuse 0199c0de-7b1f-7c3a-9a51-3f2b6c9d8e10 -note \"ask for a key of your own\"",
		},
	},
	{
		name:    "consent label",
		args:    "[NAME=VALUE]",
		max:     1,
		flags:   consentLabel,
		summary: "Show or set the labels that ask for consent",
		detail: "A label of the key, or of an instance that it is granted, has a second person consent before\nits " +
			"private half is taken out of the safe.",
		examples: []string{
			"plumlatch consent label",
			"plumlatch consent label team=atlas",
			"plumlatch consent label team=atlas -off",
		},
	},
	{name: "safe show", flags: safeShow, summary: "Show how the safe stands", examples: []string{"plumlatch safe show"}},
	{
		name:    "safe rekey",
		flags:   safeRekey,
		summary: "Put everything in the safe under a new master key",
		detail: "The service goes on meanwhile. What is cut off is gone on with by the next call, or by the\nservice " +
			"itself.",
		examples: []string{"plumlatch safe rekey -reason \"the machine was serviced\""},
	},
}

// releaseInfo binds what is sealed to its purpose; the service's is the same.
const releaseInfo = "plum latch private half "

// release takes a private half out of the safe, sealed on the way to a key that is made for
// this one call (HPKE, RFC 9180).
func release(ctx context.Context, client *apiclient.Client, name, reason string) ([]byte, error) {
	own, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	private, err := hpke.NewDHKEMPrivateKey(own)
	if err != nil {
		return nil, err
	}
	recipient := base64.StdEncoding.EncodeToString(own.PublicKey().Bytes())
	text, err := answerBytes(
		client.ReleasePrivateHalf(
			ctx,
			name,
			&apiclient.ReleasePrivateHalfParams{Reason: optional(reason)},
			apiclient.Recipient{Recipient: &recipient},
		),
	)
	if err != nil {
		return nil, err
	}
	sealed, err := base64.StdEncoding.DecodeString(string(text))
	if err != nil {
		return nil, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	half, err := hpke.Open(private, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+name), sealed)
	if err != nil {
		return nil, fmt.Errorf("what the service sealed cannot be opened here: %w", err)
	}
	return half, nil
}

func keyHandOver(f *flag.FlagSet) func(context.Context, *session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	off := f.Bool("off", false, "call off the one that waits")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		if *off {
			r, err := client.CallOffHandOver(ctx, args[0])
			return s.settled(r, err, "Nobody is asked to take %s over any more.", args[0])
		}
		if len(args) < 2 {
			return &usageError{"key hand-over: say who is to take it over\nSee: plumlatch keeper list"}
		}
		h, err := answer[apiclient.HandedOver](
			client.HandOverKey(ctx, args[0], apiclient.HandOver{To: args[1], Reason: optional(*reason)}),
		)
		if err != nil {
			return err
		}
		return s.record(h, h.Key.Name, func() {
			if h.WaitsFor == nil {
				s.say("%s is the keeper of %s now; its private half has never left the safe.", args[1], args[0])
				return
			}
			s.say(
				"%s is asked to take %s over. It is done once they prove that they hold it:\n  plumlatch prove %s",
				*h.WaitsFor,
				args[0],
				args[0],
			)
		})
	})
}

func keyHandOvers(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		all, err := answer[[]apiclient.WaitingHandOver](client.ListHandOvers(ctx))
		if err != nil {
			return err
		}
		return handOverListing.show(s, all, len(all))
	})
}

var handOverListing = listing[apiclient.WaitingHandOver]{
	head: []string{"KEY", "FROM", "TO", "ASKED BY", "ON", "WHY"},
	name: func(h apiclient.WaitingHandOver) string { return h.Key },
	none: "No hand-over waits.",
	cells: func(h apiclient.WaitingHandOver) []string {
		return []string{h.Key, given(h.From), h.To, h.AskedBy, day(h.AskedAt), given(h.Reason)}
	},
}

func keyForget(f *flag.FlagSet) func(context.Context, *session, []string) error {
	var h holderFlags
	h.flags(f)
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		var halves []atHand
		if h.given() {
			found, done, err := s.holder(h)
			if err != nil {
				return err
			}
			defer done()
			halves = found
		}
		if _, err := s.proveKey(ctx, client, args[0], halves, h); err != nil {
			return err
		}
		k, err := answer[apiclient.Key](client.ForgetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		return s.record(k, k.Name, func() {
			s.say("You have proved that you hold %s. The safe has forgotten its copy, so yours is the only one.", k.Name)
		})
	})
}

const consentPause = 2 * time.Second

func consentAsk(f *flag.FlagSet) func(context.Context, *session, []string) error {
	reason := f.String("reason", "", "why, for whoever decides")
	wait := f.Bool("wait", false, "wait until somebody has decided")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		c, err := answer[apiclient.Consent](client.AskConsent(ctx, apiclient.AskConsent{Key: args[0], Reason: *reason}))
		if err != nil {
			return err
		}
		if *wait {
			s.say("Asked; somebody else decides: plumlatch consent grant %s", c.Id)
		}
		for *wait && c.State == apiclient.ConsentStateAsked {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(consentPause):
			}
			all, err := answer[[]apiclient.Consent](client.ListConsents(ctx))
			if err != nil {
				return err
			}
			for _, o := range all {
				if o.Id == c.Id {
					c = o
				}
			}
		}
		if err := s.record(c, c.Id.String(), func() {
			switch c.State {
			case apiclient.ConsentStateGranted:
				s.say("%s consents. Take it: plumlatch key private %s -reason TEXT", given(c.DecidedBy), c.Key)
			case apiclient.ConsentStateAsked:
				s.say(
					"Asked until %s. Another admin, or somebody else who holds %s, decides:\n  plumlatch consent grant %s",
					moment(c.ExpiresAt),
					c.Key,
					c.Id,
				)
			default:
				s.say("It is %s. %s", c.State, given(c.Note))
			}
		}); err != nil {
			return err
		}
		if c.State != apiclient.ConsentStateGranted {
			return &quietError{exitNotAsItShould}
		}
		return nil
	})
}

func consentList(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		all, err := answer[[]apiclient.Consent](client.ListConsents(ctx))
		if err != nil {
			return err
		}
		return consentListing.show(s, all, len(all))
	})
}

var consentListing = listing[apiclient.Consent]{
	head: []string{"KEY", "STATE", "ASKED BY", "WHY", "UNTIL", "DECIDED BY", "ID"},
	name: func(c apiclient.Consent) string { return c.Id.String() },
	none: "Nobody has asked for consent.",
	cells: func(c apiclient.Consent) []string {
		return []string{c.Key, string(c.State), c.AskedBy, c.Reason, moment(c.ExpiresAt), given(c.DecidedBy), c.Id.String()}
	},
}

func consentDecide(grant bool) func(*flag.FlagSet) func(context.Context, *session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *session, []string) error {
		note := f.String("note", "", "a word to whoever asked, for the daybook")
		return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
			id, err := uuid.Parse(args[0])
			if err != nil {
				return &usageError{fmt.Sprintf("%q is no id of a request\nSee: plumlatch consent list", args[0])}
			}
			c, err := answer[apiclient.Consent](
				client.DecideConsent(ctx, id, apiclient.ConsentDecision{Grant: grant, Note: optional(*note)}),
			)
			if err != nil {
				return err
			}
			return s.record(c, c.Id.String(), func() {
				if grant {
					s.say("%s may take the private half of %s out of the safe once, until %s.", c.AskedBy, c.Key, moment(c.ExpiresAt))
					return
				}
				s.say("Refused: %s does not get the private half of %s.", c.AskedBy, c.Key)
			})
		})
	}
}

func consentLabel(f *flag.FlagSet) func(context.Context, *session, []string) error {
	off := f.Bool("off", false, "have the label ask for consent no longer")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, args []string) error {
		if len(args) == 0 {
			all, err := answer[[]apiclient.ConsentLabel](client.ListConsentLabels(ctx))
			if err != nil {
				return err
			}
			return consentLabelListing.show(s, all, len(all))
		}
		name, value, ok := strings.Cut(args[0], "=")
		if !ok {
			return &usageError{"a label is written name=value"}
		}
		words := "Before the private half of a key with %s, or granted such an instance, is taken out of the safe, a " +
			"second person has to consent."
		if *off {
			words = "%s asks for no consent any more."
		}
		r, err := client.SetConsentLabel(ctx, apiclient.ConsentLabelChange{Name: name, Value: value, Asks: !*off})
		return s.settled(r, err, words, args[0])
	})
}

var consentLabelListing = listing[apiclient.ConsentLabel]{
	head: []string{"LABEL", "SET BY", "ON"},
	name: func(l apiclient.ConsentLabel) string { return l.Name + "=" + l.Value },
	none: "No label asks for consent.",
	cells: func(l apiclient.ConsentLabel) []string {
		return []string{l.Name + "=" + l.Value, l.AddedBy, day(l.AddedAt)}
	},
}

func safeShow(*flag.FlagSet) func(context.Context, *session, []string) error {
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		v, err := answer[apiclient.Safe](client.GetSafe(ctx))
		if err != nil {
			return err
		}
		return s.showSafe(v)
	})
}

func (s *session) showSafe(v apiclient.Safe) error {
	return s.record(v, given(v.Mark), func() {
		if !v.On {
			s.say("The safe is switched off; start the service with -safe-key-file FILE.")
			return
		}
		old := ""
		if v.Masters > 1 {
			old = fmt.Sprintf("%d still open: plumlatch safe rekey goes on", v.Masters-1)
		}
		s.facts(
			"Safe",
			"switched on",
			"Master key",
			given(v.Mark),
			"Old master keys",
			old,
			"Private halves",
			fmt.Sprint(v.Halves),
			"Opened by none",
			strings.Join(given(v.Unreadable), ", "),
		)
	})
}

func safeRekey(f *flag.FlagSet) func(context.Context, *session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	return with(func(ctx context.Context, s *session, client *apiclient.Client, _ []string) error {
		v, err := answer[apiclient.Safe](client.RekeySafe(ctx, &apiclient.RekeySafeParams{Reason: optional(*reason)}))
		if err != nil {
			return err
		}
		s.say(
			"Everything in the safe is under a new master key. Keep a copy of its file elsewhere, and destroy those of the " +
				"old one once no backup needs them.",
		)
		return s.showSafe(v)
	})
}
