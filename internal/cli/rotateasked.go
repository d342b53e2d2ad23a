package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strings"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/core/text"
)

func rotateOverride(f *flag.FlagSet) func(context.Context, *session, []string) error {
	login := f.String("login", "", "the one `login`, as user@instance")
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return func(ctx context.Context, s *session, args []string) error {
		if *login == "" || *reason == "" {
			return &usageError{"name the one login and say why: -login USER@INSTANCE -reason TEXT"}
		}
		client, id, err := s.rotationAt(ctx, args)
		if err != nil {
			return err
		}
		if err := s.confirm(
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
		r, err := answer[apiclient.Rotation](
			client.ChangeRotation(
				ctx,
				id,
				apiclient.ChangeRotation{Change: apiclient.ChangeRotationChangeOverride, Login: login, Reason: reason},
			),
		)
		if err != nil {
			return err
		}
		return s.watchRotation(ctx, client, r, nil)
	}
}

func rotateReport(f *flag.FlagSet) func(context.Context, *session, []string) error {
	return func(ctx context.Context, s *session, args []string) error {
		client, id, err := s.rotationAt(ctx, args)
		if err != nil {
			return err
		}
		p, err := answer[apiclient.RotationReport](client.ReportRotation(ctx, id))
		if err != nil {
			return err
		}
		switch {
		case s.json:
			err = s.writeJSON(p)
		case s.quiet:
			for _, i := range p.NotDone {
				fmt.Fprintln(s.env.Out, i.Login)
			}
		default:
			s.showReport(p)
		}
		if err == nil && len(p.NotDone) > 0 {
			err = &quietError{exitNotAsItShould}
		}
		return err
	}
}

func (s *session) showReport(p apiclient.RotationReport) {
	r := p.Rotation
	ended := "not yet"
	if r.EndedAt != nil {
		ended = moment(*r.EndedAt)
	}
	state := string(r.State)
	if given(r.Urgent) {
		state += ", urgent"
	}
	s.facts(
		"Rotation",
		r.Id.String(),
		"State",
		state,
		"Asked for by",
		r.RequestedBy,
		"Why",
		given(r.Reason),
		"Begun",
		moment(r.CreatedAt),
		"Ended",
		ended,
		"Report of",
		moment(p.MadeAt),
	)
	proof := func(p *apiclient.ReportedProof) string {
		if p == nil {
			return "none"
		}
		return p.Person + ", " + moment(p.At)
	}
	if len(p.Replaced) > 0 {
		fmt.Fprintf(s.env.Out, "\nReplaced (%d):\n", len(p.Replaced))
		t := table{
			head: []string{
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
			if !given(i.OldRefused) {
				old = "not seen refused"
			}
			after := proof(i.ProofAfter)
			if i.Override != nil {
				after = "overridden by " + *i.Override
			}
			t.add(i.Login, i.Old, i.New, moment(*i.EndedAt), i.Means, proof(i.ProofBefore), after, old)
		}
		t.write(s)
	}
	if len(p.NotDone) > 0 {
		fmt.Fprintf(s.env.Out, "\nNot done (%d):\n", len(p.NotDone))
		t := table{head: []string{"LOGIN", "OLD KEY", "NEW KEY", "STATE", "WHY"}}
		for _, i := range p.NotDone {
			t.add(i.Login, i.Old, i.New, string(i.State), given(i.Detail))
		}
		t.write(s)
	}
	if len(p.LeftOut) > 0 {
		fmt.Fprintf(s.env.Out, "\nLeft out by the plan (%d):\n", len(p.LeftOut))
		t := table{head: []string{"LOGIN", "KEY", "WHY", "WHAT TO DO"}}
		for _, i := range p.LeftOut {
			t.add(i.Login, i.Old, i.Why, given(i.Remedy))
		}
		t.write(s)
	}
	if len(p.Elsewhere) == 0 {
		fmt.Fprintln(s.env.Out, "\nNo place is known where an old key still lives.")
		return
	}
	fmt.Fprintf(s.env.Out, "\nWhere an old key may still live (%d):\n", len(p.Elsewhere))
	t := table{head: []string{"KEY", "KIND", "WHERE", "MADE OR SEEN", "WHAT THAT MEANS"}}
	for _, o := range p.Elsewhere {
		at := ""
		if o.At != nil {
			at = moment(*o.At)
		}
		t.add(o.Old, string(o.Kind), o.Place, at, o.Note)
	}
	t.write(s)
}

func rotateAsked(f *flag.FlagSet) func(context.Context, *session, []string) error {
	keeper := f.String("keeper", "", "only what this `keeper` is asked for; me for yourself")
	return func(ctx context.Context, s *session, _ []string) error {
		client, err := s.connect()
		if err != nil {
			return err
		}
		asked, err := answer[[]apiclient.AskedKey](
			client.ListAskedKeys(ctx, &apiclient.ListAskedKeysParams{Keeper: optional(*keeper)}),
		)
		if err != nil {
			return err
		}
		return listing[apiclient.AskedKey]{
			head: []string{
				"NAME",
				"KEEPER",
				"FOLLOWS",
				"BEST AS",
				"LOGINS",
				"ASKED BY",
				"SINCE",
				"WHY",
			}, none: "No new public half is asked for.",
			name: func(k apiclient.AskedKey) string { return k.Name },
			cells: func(k apiclient.AskedKey) []string {
				return []string{
					k.Name,
					k.Keeper,
					k.Follows,
					typeText(k.Type, k.Bits),
					fmt.Sprint(k.Logins),
					k.RequestedBy,
					moment(k.AskedAt),
					given(k.Reason),
				}
			},
		}.show(s, asked, len(asked))
	}
}

func rotateBring(f *flag.FlagSet) func(context.Context, *session, []string) error {
	fresh := f.Bool("new", false, "make the pair here; its private half goes to ~/.ssh")
	return func(ctx context.Context, s *session, args []string) error {
		if *fresh == (len(args) == 2) {
			return &usageError{"give the FILE with the public half, or -new to make a pair here"}
		}
		client, err := s.connect()
		if err != nil {
			return err
		}
		asked, err := answer[[]apiclient.AskedKey](client.ListAskedKeys(ctx, &apiclient.ListAskedKeysParams{}))
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
			return fmt.Errorf(
				"no key named %s is asked for. Asked for are: %s",
				args[0],
				strings.Join(append(names, "none")[:max(len(names), 1)], ", "),
			)
		}
		line, drop, err := s.broughtHalf(of[0], args, *fresh)
		if err != nil {
			return err
		}
		k, err := answer[apiclient.Key](client.BringAskedKey(ctx, of[0].Id, apiclient.BringKey{PublicKey: line}))
		var refused *apiclientError
		if errors.As(err, &refused) && refused.Status < 500 {
			err = errors.Join(err, drop())
		}
		if err != nil {
			return err
		}
		switch {
		case s.json:
			return s.writeJSON(k)
		case s.quiet:
			fmt.Fprintln(s.env.Out, k.Name)
		default:
			fmt.Fprintf(
				s.env.Out,
				"%s takes the place of %s in %s. Show that it opens them: plumlatch rotate watch %s\n",
				k.Name,
				of[0].Follows,
				text.Counted(of[0].Logins, "login"),
				of[0].Rotation,
			)
		}
		return nil
	}
}

// broughtHalf returns the public line that is brought, and what takes back a pair that
// was made for it.
func (s *session) broughtHalf(
	asked apiclient.AskedKey,
	args []string,
	fresh bool,
) (line string, drop func() error, err error) {
	if !fresh {
		file, err := s.readKeyFile(args[1], "", false)
		if err != nil {
			return "", nil, err
		}
		return file.public.Line(), func() error { return nil }, nil
	}
	made, err := s.makePairs(
		[]apiclient.PlannedKey{{Name: asked.Name, Type: asked.Type, Bits: asked.Bits, Follows: asked.Follows}},
	)
	if err != nil {
		return "", nil, err
	}
	if !s.json && !s.quiet {
		fmt.Fprintf(
			s.env.Out,
			"Made %s (%s); its private half is in %s.\n",
			asked.Name,
			typeText(asked.Type, asked.Bits),
			s.shown(made[0].place.path),
		)
	}
	return made[0].pair.Line(), made[0].place.remove, nil
}
