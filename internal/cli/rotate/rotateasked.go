package rotate

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

func rotateOverride(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	login := f.String("login", "", "the one `login`, as user@instance")
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if *login == "" || *reason == "" {
			return kit.Usage("name the one login and say why: -login USER@INSTANCE -reason TEXT")
		}
		client, id, err := rotationAt(s, ctx, args)
		if err != nil {
			return err
		}
		if err := s.Confirm(
			*yes,
			fmt.Sprintf(
				"This removes the lost key's line from %s although nobody has logged in with the new key. If that one does not "+
					"open it, the login is shut.",
				*login,
			),
			*login,
		); err != nil {
			return err
		}
		r, err := kit.Answer[apiclient.Rotation](client.ChangeRotation(
			ctx, id,
			apiclient.ChangeRotation{Change: apiclient.ChangeRotationChangeOverride, Login: login, Reason: reason},
		))
		if err != nil {
			return err
		}
		return WatchRotation(s, ctx, client, r, args[0], nil)
	}
}

func rotateReport(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(ctx context.Context, s *kit.Session, args []string) error {
		client, id, err := rotationAt(s, ctx, args)
		if err != nil {
			return err
		}
		p, err := kit.Answer[apiclient.RotationReport](client.ReportRotation(ctx, id))
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			err = s.WriteJSON(p)
		case s.Quiet:
			for _, i := range p.NotDone {
				fmt.Fprintln(s.Env.Out, i.Login)
			}
		default:
			showReport(s, p)
		}
		if err == nil && len(p.NotDone) > 0 {
			err = kit.Quiet(kit.ExitNotAsItShould)
		}
		return err
	}
}

func showReport(s *kit.Session, p apiclient.RotationReport) {
	r := p.Rotation
	ended := "not yet"
	if r.EndedAt != nil {
		ended = kit.Moment(*r.EndedAt)
	}
	state := string(r.State)
	if kit.Given(r.Urgent) {
		state += ", urgent"
	}
	s.Facts(
		"Rotation", r.Id.String(), "State", state, "Asked for by", r.RequestedBy, "Why", kit.Given(r.Reason), "Begun",
		kit.Moment(r.CreatedAt), "Ended", ended, "Report of", kit.Moment(p.MadeAt),
	)
	proof := func(p *apiclient.ReportedProof) string {
		if p == nil {
			return "none"
		}
		return p.Person + ", " + kit.Moment(p.At)
	}
	if len(p.Replaced) > 0 {
		fmt.Fprintf(s.Env.Out, "\nReplaced (%d):\n", len(p.Replaced))
		t := kit.Table{
			Head: []string{
				"LOGIN",
				"OLD KEY",
				"NEW KEY",
				"WHEN",
				"BY",
				"LOGIN WITH THE OLD BEFORE",
				"LOGIN WITH THE NEW",
				"OLD KEY",
			},
		}
		for _, i := range p.Replaced {
			old := "refused"
			if !kit.Given(i.OldRefused) {
				old = "not seen refused"
			}
			after := proof(i.ProofAfter)
			if i.Override != nil {
				after = "overridden by " + *i.Override
			}
			t.Add(i.Login, i.Old, i.New, kit.Moment(*i.EndedAt), i.Means, proof(i.ProofBefore), after, old)
		}
		t.Write(s)
	}
	if len(p.NotDone) > 0 {
		fmt.Fprintf(s.Env.Out, "\nNot done (%d):\n", len(p.NotDone))
		t := kit.Table{Head: []string{"LOGIN", "OLD KEY", "NEW KEY", "STATE", "WHY"}}
		for _, i := range p.NotDone {
			t.Add(i.Login, i.Old, i.New, string(i.State), kit.Given(i.Detail))
		}
		t.Write(s)
	}
	if len(p.LeftOut) > 0 {
		fmt.Fprintf(s.Env.Out, "\nLeft out by the plan (%d):\n", len(p.LeftOut))
		t := kit.Table{Head: []string{"LOGIN", "KEY", "WHY", "WHAT TO DO"}, Wraps: []string{"WHY", "WHAT TO DO"}}
		for _, i := range p.LeftOut {
			t.Add(i.Login, i.Old, i.Why, kit.Given(i.Remedy))
		}
		t.Write(s)
	}
	if len(p.Elsewhere) == 0 {
		fmt.Fprintln(s.Env.Out, "\nNo place is known where an old key still lives.")
		return
	}
	fmt.Fprintf(s.Env.Out, "\nWhere an old key may still live (%d):\n", len(p.Elsewhere))
	t := kit.Table{
		Head:  []string{"KEY", "KIND", "WHERE", "MADE OR SEEN", "WHAT THAT MEANS"},
		Wraps: []string{"WHAT THAT MEANS"},
	}
	for _, o := range p.Elsewhere {
		at := ""
		if o.At != nil {
			at = kit.Moment(*o.At)
		}
		t.Add(o.Old, string(o.Kind), o.Place, at, o.Note)
	}
	t.Write(s)
}

func rotateAsked(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	holder := f.String("holder", "", "only what this `holder` is asked for; me for yourself")
	return func(ctx context.Context, s *kit.Session, _ []string) error {
		client, err := s.Connect()
		if err != nil {
			return err
		}
		asked, err := kit.Answer[[]apiclient.AskedKey](
			client.ListAskedKeys(ctx, &apiclient.ListAskedKeysParams{Holder: kit.Optional(*holder)}),
		)
		if err != nil {
			return err
		}
		return kit.Listing[apiclient.AskedKey]{
			Head: []string{
				"NAME",
				"HOLDER",
				"FOLLOWS",
				"BEST AS",
				"LOGINS",
				"ASKED BY",
				"SINCE",
				"WHY",
			}, None: "No new public key is asked for.",
			Name: func(k apiclient.AskedKey) string { return k.Name },
			Cells: func(k apiclient.AskedKey) []string {
				return []string{
					k.Name,
					k.Holder,
					k.Follows,
					kit.TypeText(k.Type, k.Bits),
					fmt.Sprint(k.Logins),
					k.RequestedBy,
					kit.Moment(k.AskedAt),
					kit.Given(k.Reason),
				}
			},
		}.Show(s, asked, len(asked))
	}
}

func rotateBring(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	fresh := f.Bool("new", false, "make the pair here and write its private key to ~/.ssh")
	return func(ctx context.Context, s *kit.Session, args []string) error {
		if *fresh == (len(args) == 2) {
			return kit.Usage("give the FILE with the public key, or -new to make a pair here")
		}
		client, err := s.Connect()
		if err != nil {
			return err
		}
		asked, err := kit.Answer[[]apiclient.AskedKey](client.ListAskedKeys(ctx, &apiclient.ListAskedKeysParams{}))
		if err != nil {
			return err
		}
		var of []apiclient.AskedKey
		for _, k := range asked {
			if k.Name == args[0] {
				of = append(of, k)
			}
		}
		if len(of) != 1 { // two rotations never plan the same free name at once, but one may have ended meanwhile
			names := slices.Collect(func(yield func(string) bool) {
				for _, k := range asked {
					if !yield(k.Name) {
						return
					}
				}
			})
			return kit.Missing(
				"not-asked", "no key named "+args[0]+" is asked for",
				"Asked for: "+strings.Join(append(names, "none")[:max(len(names), 1)], ", "),
			)
		}
		line, drop, err := broughtKey(s, of[0], args, *fresh)
		if err != nil {
			return err
		}
		k, err := kit.Answer[apiclient.Key](client.BringAskedKey(ctx, of[0].Id, apiclient.BringKey{PublicKey: line}))
		var refused *kit.ApiclientError
		if errors.As(err, &refused) && refused.Status < 500 {
			err = errors.Join(err, drop())
		}
		if err != nil {
			return err
		}
		switch {
		case s.Json:
			return s.WriteJSON(k)
		case s.Quiet:
			fmt.Fprintln(s.Env.Out, k.Name)
		default:
			fmt.Fprintf(
				s.Env.Out,
				"%s takes the place of %s in %s. Show that it opens them: plumlatch rotate watch %s\n", k.Name,
				of[0].Follows, text.Counted(of[0].Logins, "login"), of[0].Rotation,
			)
		}
		return nil
	}
}

// broughtKey returns the public line that is brought, and what takes back a pair that
// was made for it.
func broughtKey(s *kit.Session,
	asked apiclient.AskedKey,
	args []string,
	fresh bool,
) (line string, drop func() error, err error) {
	if !fresh {
		file, err := s.ReadKeyFile(args[1], "", false)
		if err != nil {
			return "", nil, err
		}
		return file.Public.Line(), func() error { return nil }, nil
	}
	made, err := makePairs(s,
		[]apiclient.PlannedKey{{Name: asked.Name, Type: asked.Type, Bits: asked.Bits, Follows: asked.Follows}},
	)
	if err != nil {
		return "", nil, err
	}
	if !s.Json && !s.Quiet {
		fmt.Fprintf(
			s.Env.Out,
			"Made %s (%s); its private key is in %s.\n", asked.Name, kit.TypeText(asked.Type, asked.Bits),
			s.Shown(made[0].place.Path),
		)
	}
	return made[0].pair.Line(), made[0].place.Remove, nil
}
