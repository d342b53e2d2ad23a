package keys

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
	"plumlatch/internal/cli/grants"
	"plumlatch/internal/cli/kit"
)

// With finds the service first.
func With(do kit.Call) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		return do(ctx, s, client, args)
	}
}

// Say writes a sentence for people.
func Say(s *kit.Session, format string, args ...any) {
	if !s.Quiet && !s.Json {
		fmt.Fprintf(s.Env.Out, format+"\n", args...)
	}
}

// Settled ends a command whose call answers with nothing.
func Settled(s *kit.Session, r *http.Response, err error, format string, args ...any) error {
	if _, err := kit.AnswerBytes(r, err); err != nil {
		return err
	}
	Say(s, format, args...)
	return nil
}

// shown writes a record as JSON where that is asked for, and else what text says.
func Record(s *kit.Session, v any, name string, text func()) error {
	switch {
	case s.Json:
		return s.WriteJSON(v)
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, name)
	default:
		text()
	}
	return nil
}

var CustodyCommands = []kit.Command{
	{
		Name:    "key hand-over",
		Args:    "NAME [HOLDER]",
		Min:     1,
		Max:     2,
		Flags:   keyHandOver,
		Summary: "Ask another holder to take over a key",
		Detail: "It is complete once they prove that they have it: plumlatch prove NAME. A private key that\nnever " +
			"left the " +
			"safe changes its holder at once.",
		Examples: []string{
			"plumlatch key hand-over atlas-deploy marek -reason \"the atlas is his now\"",
			"plumlatch key hand-over atlas-deploy -off",
		},
	},
	{
		Name:     "key hand-overs",
		Flags:    keyHandOvers,
		Summary:  "List hand-overs that are pending",
		Examples: []string{"plumlatch key hand-overs"},
	},
	{
		Name:    "key forget",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   keyForget,
		Summary: "Delete a private key from the safe once its holder has it",
		Detail: "You first prove that you have the private key, from the file or the agent given, or\nfrom one found " +
			"on this machine.",
		Examples: []string{
			"plumlatch key forget atlas-deploy-2",
			"plumlatch key forget atlas-deploy-2 -with ~/.ssh/atlas-deploy-2",
		},
	},
	{
		Name:    "key found",
		Args:    "NAME",
		Min:     1,
		Max:     1,
		Flags:   keyFound,
		Summary: "Take back that a key is lost",
		Detail: "You prove that you have the private key, from the file or the agent given, or from one found on\nthis " +
			"machine. Do it only where nobody else can have had it: a key that was copied stays lost.",
		Examples: []string{
			`plumlatch key found oona-main -reason "the tablet was in the boat all the time"`,
			`plumlatch key found oona-main -with ~/.ssh/oona-main -reason "it was in the boat"`,
		},
	},
	{
		Name:     "consent ask",
		Args:     "KEY",
		Min:      1,
		Max:      1,
		Flags:    consentAsk,
		Summary:  "Ask for consent to release a private key from the safe",
		Examples: []string{"plumlatch consent ask atlas-deploy-2 -reason \"the deploy job moves\" -wait"},
	},
	{
		Name:     "consent list",
		Flags:    consentList,
		Summary:  "List the requests of the last 90 days",
		Examples: []string{"plumlatch consent list"},
	},
	{
		Name:     "consent grant",
		Args:     "KEY|ID",
		Min:      1,
		Max:      1,
		Flags:    consentDecide(true),
		Summary:  "Grant somebody else's request for consent",
		Examples: []string{"plumlatch consent grant ringing-backup"},
	},
	{
		Name:    "consent refuse",
		Args:    "KEY|ID",
		Min:     1,
		Max:     1,
		Flags:   consentDecide(false),
		Summary: "Refuse somebody else's request for consent",
		Examples: []string{
			"plumlatch consent refuse ringing-backup -note \"ask for a key of your own\"",
		},
	},
	{
		Name:    "consent label",
		Args:    "[NAME=VALUE]",
		Max:     1,
		Flags:   consentLabel,
		Summary: "Show or set the labels that ask for consent",
		Detail: "A private key whose key, or an instance of it, has such a label leaves the safe only with a second " +
			"person's consent.",
		Examples: []string{
			"plumlatch consent label",
			"plumlatch consent label team=atlas",
			"plumlatch consent label team=atlas -off",
		},
	},
	{Name: "safe show", NoNames: true, Flags: safeShow, Summary: "Show the state of the " +
		"safe", Examples: []string{"plumlatch safe show"}},
	{
		Name:     "safe new-key",
		Flags:    safeNewKey,
		Summary:  "Replace the safe's key and encrypt everything with the new one",
		Detail:   "The service keeps running. An interrupted change resumes with the next call, or by itself.",
		Examples: []string{"plumlatch safe new-key -reason \"the machine was serviced\""},
	},
}

// releaseInfo binds what is encrypted to its purpose; the service's is the same.
const releaseInfo = "plum latch private key "

// release takes a private key out of the safe, encrypted on the way to a key that is made for
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
	text, err := kit.AnswerBytes(client.ReleasePrivateKey(
		ctx, name, &apiclient.ReleasePrivateKeyParams{Reason: kit.Optional(reason)},
		apiclient.Recipient{Recipient: &recipient},
	))
	if err != nil {
		return nil, err
	}
	encrypted, err := base64.StdEncoding.DecodeString(string(text))
	if err != nil {
		return nil, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	signer, err := hpke.Open(private, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+name), encrypted)
	if err != nil {
		return nil, fmt.Errorf("what the service encrypted cannot be opened here: %w", err)
	}
	return signer, nil
}

func keyHandOver(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	off := f.Bool("off", false, "cancel the pending hand-over")
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if *off {
			r, err := client.CallOffHandOver(ctx, args[0])
			return Settled(s, r, err, "Nobody is asked to take %s over now.", args[0])
		}
		if len(args) < 2 {
			return kit.Usage("key hand-over: say who is to take it over\nSee: plumlatch holder list")
		}
		return handOver(s, ctx, client, args[0], apiclient.HandOver{To: args[1], Reason: kit.Optional(*reason)})
	})
}

// handOver asks somebody to take a key over, and says what is left to do.
func handOver(s *kit.Session, ctx context.Context, client *apiclient.Client, key string, to apiclient.HandOver) error {
	h, err := kit.Answer[apiclient.HandedOver](client.HandOverKey(ctx, key, to))
	if err != nil {
		return err
	}
	return Record(s, h, h.Key.Name, func() {
		if h.WaitsFor == nil {
			Say(s, "%s is the holder of %s now; its private key has never left the safe.", to.To, key)
			return
		}
		Say(s,
			"%s is asked to take over %s. The hand-over is complete once they prove that they have it:\n  plumlatch prove %s",
			*h.WaitsFor, key, key,
		)
	})
}

func keyHandOvers(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.WaitingHandOver](client.ListHandOvers(ctx))
		if err != nil {
			return err
		}
		return handOverListing.Show(s, all, len(all))
	})
}

var handOverListing = kit.Listing[apiclient.WaitingHandOver]{
	Head: []string{"KEY", "FROM", "TO", "ASKED BY", "ON", "WHY"},
	Name: func(h apiclient.WaitingHandOver) string { return h.Key },
	None: "No hand-over waits.",
	Cells: func(h apiclient.WaitingHandOver) []string {
		return []string{h.Key, kit.Given(h.From), h.To, h.AskedBy, kit.Day(h.AskedAt), kit.Given(h.Reason)}
	},
}

// proveFirst proves that the person has the private key, from the file or the agent given, or from one that is
// found on this machine.
func proveFirst(ctx context.Context, s *kit.Session, client *apiclient.Client, key string, h kit.LocalKeyFlags) error {
	var signers []kit.AtHand
	if h.Given() {
		found, done, err := s.LocalKeys(h)
		if err != nil {
			return err
		}
		defer done()
		signers = found
	}
	_, err := grants.ProveKey(s, ctx, client, key, signers, h)
	return err
}

func keyForget(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if err := proveFirst(ctx, s, client, args[0], h); err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.ForgetKey(ctx, args[0]))
		if err != nil {
			return err
		}
		return Record(s, k, k.Name, func() {
			Say(s, "You have proved that you have %s. The safe has deleted its copy, so yours is the only one.", k.Name)
		})
	})
}

func keyFound(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var h kit.LocalKeyFlags
	h.Flags(f)
	reason := f.String("reason", "", "where it was, and why nobody else had it; needed")
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if *reason == "" {
			return kit.Usage("say where it was, and why nobody else had it: -reason TEXT")
		}
		if err := proveFirst(ctx, s, client, args[0], h); err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.MarkFound(ctx, args[0], apiclient.MarkLost{Reason: *reason}))
		if err != nil {
			return err
		}
		return Record(s, k, k.Name, func() {
			Say(s, "You have proved that you have %s; it is no longer marked as lost. See who gets in: plumlatch opens %s",
				k.Name, k.Name)
		})
	})
}

const consentPause = 2 * time.Second

func consentAsk(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "the reason, for the person who decides")
	wait := f.Bool("wait", false, "wait until somebody has decided")
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		c, err := kit.Answer[apiclient.Consent](client.AskConsent(ctx, apiclient.AskConsent{Key: args[0], Reason: *reason}))
		if err != nil {
			return err
		}
		if *wait {
			Say(s, "Asked; somebody else decides: plumlatch consent grant %s", c.Key)
		}
		for *wait && c.State == apiclient.ConsentStateAsked {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(consentPause):
			}
			all, err := kit.Answer[[]apiclient.Consent](client.ListConsents(ctx))
			if err != nil {
				return err
			}
			for _, o := range all {
				if o.Id == c.Id {
					c = o
				}
			}
		}
		if err := Record(s, c, c.Id.String(), func() {
			switch c.State {
			case apiclient.ConsentStateGranted:
				Say(s, "%s consents. Take it: plumlatch key private %s -reason TEXT", kit.Given(c.DecidedBy), c.Key)
			case apiclient.ConsentStateAsked:
				Say(s,
					"Asked until %s. Another admin or holder of %s decides:\n  plumlatch consent grant %s",
					kit.Moment(c.ExpiresAt),
					c.Key,
					c.Key,
				)
			default:
				Say(s, "It is %s. %s", c.State, kit.Given(c.Note))
			}
		}); err != nil {
			return err
		}
		if c.State != apiclient.ConsentStateGranted {
			return kit.Quiet(kit.ExitNotAsItShould)
		}
		return nil
	})
}

func consentList(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		all, err := kit.Answer[[]apiclient.Consent](client.ListConsents(ctx))
		if err != nil {
			return err
		}
		return consentListing.Show(s, all, len(all))
	})
}

var consentListing = kit.Listing[apiclient.Consent]{
	Head: []string{"KEY", "STATE", "ASKED BY", "WHY", "UNTIL", "DECIDED BY", "ID"},
	Name: func(c apiclient.Consent) string { return c.Id.String() },
	None: "Nobody has asked for consent.",
	Cells: func(c apiclient.Consent) []string {
		return []string{
			c.Key,
			string(c.State),
			c.AskedBy,
			c.Reason,
			kit.Moment(c.ExpiresAt),
			kit.Given(c.DecidedBy),
			c.Id.String(),
		}
	},
}

func consentDecide(grant bool) func(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		note := f.String("note", "", "a note to the person who asked, for the daybook")
		return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			id, err := consentMeant(ctx, client, args[0])
			if err != nil {
				return err
			}
			c, err := kit.Answer[apiclient.Consent](
				client.DecideConsent(ctx, id, apiclient.ConsentDecision{Grant: grant, Note: kit.Optional(*note)}),
			)
			if err != nil {
				return err
			}
			return Record(s, c, c.Id.String(), func() {
				if grant {
					Say(
						s,
						"%s may take the private key of %s out of the safe once, until %s.", c.AskedBy, c.Key,
						kit.Moment(c.ExpiresAt),
					)
					return
				}
				Say(s, "Refused: %s does not get the private key of %s.", c.AskedBy, c.Key)
			})
		})
	}
}

// consentMeant returns the request that text means: the newest for a key of that name, or by its id.
func consentMeant(ctx context.Context, client *apiclient.Client, text string) (uuid.UUID, error) {
	all, err := kit.Answer[[]apiclient.Consent](client.ListConsents(ctx))
	if err != nil {
		return uuid.Nil, err
	}
	things := make([]kit.Thing, len(all))
	for n, c := range all {
		things[n] = kit.Thing{ID: c.Id, What: fmt.Sprintf("%s for %s, %s", c.Key, c.AskedBy, c.State)}
		if c.State == apiclient.ConsentStateAsked {
			things[n].Names = []string{c.Key}
		}
	}
	return kit.Meant("consent", text, "consent list", things)
}

func consentLabel(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	off := f.Bool("off", false, "stop asking for consent because of this label")
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if len(args) == 0 {
			all, err := kit.Answer[[]apiclient.ConsentLabel](client.ListConsentLabels(ctx))
			if err != nil {
				return err
			}
			return consentLabelListing.Show(s, all, len(all))
		}
		name, value, ok := strings.Cut(args[0], "=")
		if !ok {
			return kit.Usage("a label is written name=value")
		}
		words := "Before the private key of a key with %s, or granted such an instance, is taken out of the safe, a " +
			"second person has to consent."
		if *off {
			words = "%s asks for consent no longer."
		}
		r, err := client.SetConsentLabel(ctx, apiclient.ConsentLabelChange{Name: name, Value: value, Asks: !*off})
		return Settled(s, r, err, words, args[0])
	})
}

var consentLabelListing = kit.Listing[apiclient.ConsentLabel]{
	Head: []string{"LABEL", "SET BY", "ON"},
	Name: func(l apiclient.ConsentLabel) string { return l.Name + "=" + l.Value },
	None: "No label asks for consent.",
	Cells: func(l apiclient.ConsentLabel) []string {
		return []string{l.Name + "=" + l.Value, l.AddedBy, kit.Day(l.AddedAt)}
	},
}

func safeShow(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		v, err := kit.Answer[apiclient.Safe](client.GetSafe(ctx))
		if err != nil {
			return err
		}
		return showSafe(s, v)
	})
}

func showSafe(s *kit.Session, v apiclient.Safe) error {
	return Record(s, v, kit.Given(v.Mark), func() {
		if !v.On {
			Say(s, "The safe is switched off; start the service with -safe-key-file FILE.")
			return
		}
		old := ""
		if v.SafeKeys > 1 {
			old = fmt.Sprintf("%d still open: plumlatch safe new-key continues", v.SafeKeys-1)
		}
		s.Facts(
			"Safe", "switched on", "Safe key", kit.Given(v.Mark), "Old safe keys", old, "Private keys",
			fmt.Sprint(v.PrivateKeys), "Opened by none", strings.Join(kit.Given(v.Unreadable), ", "),
		)
	})
}

func safeNewKey(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	return With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, _ []string) error {
		v, err := kit.Answer[apiclient.Safe](
			client.NewSafeKey(ctx, &apiclient.NewSafeKeyParams{Reason: kit.Optional(*reason)}),
		)
		if err != nil {
			return err
		}
		Say(s,
			"Everything in the safe is under a new safe key. Keep a copy of its file elsewhere, and destroy those of the "+
				"old one once no backup needs them.",
		)
		return showSafe(s, v)
	})
}
