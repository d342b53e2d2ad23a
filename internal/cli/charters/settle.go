package charters

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/keys"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/text"
)

func settle(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	strict := f.Bool("strict", false, "refuse a pattern that no login fits")
	as := f.String("as", "", "settle just the comparison with this `id`")
	partly := f.Bool("partly", false, "do the rest where some changes cannot be made now")
	reason := f.String("reason", "", "why, for the daybook")
	signed := f.String("signed", "", "the `file` with a person's signature over the files, see charter sign")
	detach := f.Bool("detach", false, "do not wait until it is over")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		files, err := collect(args)
		if err != nil {
			return err
		}
		by, err := signatureIn(*signed)
		if err != nil {
			return err
		}
		request := apiclient.SettleCharter{
			Files: wire(files), Strict: strict, As: *as, Partly: partly, Reason: kit.Optional(*reason),
			Signature: by,
		}
		if *as == "" {
			c, err := kit.Answer[apiclient.CharterComparison](
				client.CompareCharter(ctx, apiclient.CompareCharter{Files: request.Files, Strict: strict}),
			)
			if err != nil {
				return err
			}
			if len(c.Flaws) > 0 || c.Refused != nil || len(c.Changes) > 0 && !*yes {
				shown := *s
				if s.Json || s.Quiet {
					shown.Env.Out = s.Env.Err
				}
				showComparison(&shown, c)
			}
			if len(c.Flaws) > 0 || c.Refused != nil {
				return verdict(c)
			}
			if len(c.Changes) > 0 {
				what := fmt.Sprintf("This makes %s.", text.Counted(len(c.Changes), "change"))
				if err := s.Confirm(*yes, what, "yes"); err != nil {
					return err
				}
			}
			request.As = c.Id
		}
		t, err := kit.Answer[apiclient.CharterSettlement](client.SettleCharter(ctx, request))
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, *detach)
	})
}

const watchPause = 200 * time.Millisecond

// follow shows a settlement until it is over or paused, and what came of it.
func follow(
	ctx context.Context, s *kit.Session, client *apiclient.Client, t apiclient.CharterSettlement, detach bool,
) error {
	live := s.Live() && !s.Json && !s.Quiet
	patience := s.Patience()
	for !detach && t.State == apiclient.CharterSettlementStateRunning {
		over := t.Done + t.Failed + t.LeftOut
		all := over + t.Waiting + t.AtWork
		if live {
			fmt.Fprintf(s.Env.Err, "\r\x1b[K  %s %d of %d", kit.Bar(over*100/max(all, 1)), over, all)
		}
		select {
		case <-ctx.Done():
			return kit.Stopped("settlement", "plumlatch charter watch "+t.Charter)
		case <-time.After(watchPause):
		}
		fresh, err := kit.Answer[apiclient.CharterSettlement](client.GetCharterSettlement(ctx, t.Id))
		if err != nil && ctx.Err() == nil {
			if err := patience.Wait(ctx, err); err != nil {
				return err
			}
			continue
		}
		patience.Answered()
		t = fresh
	}
	if live {
		fmt.Fprint(s.Env.Err, "\r\x1b[K")
	}
	err := keys.Record(s, t, t.Charter, func() { tellSettlement(s, t) })
	if err == nil && t.Failed+t.LeftOut > 0 {
		err = kit.Quiet(kit.ExitNotAsItShould)
	}
	return err
}

func tellSettlement(s *kit.Session, t apiclient.CharterSettlement) {
	switch {
	case t.State == apiclient.CharterSettlementStatePaused:
		keys.Say(s, "The settlement of %s is paused. Continue: plumlatch charter resume %s", t.Charter, t.Charter)
	case t.State == apiclient.CharterSettlementStateRunning:
		keys.Say(s, "%s is being settled. Watch it: plumlatch charter watch %s", t.Charter, t.Charter)
	case t.Failed+t.LeftOut > 0:
		keys.Say(
			s, "%s made, %d failed or left out. See why: plumlatch charter changes %s -state failed",
			text.Counted(t.Done, "change"), t.Failed+t.LeftOut, t.Charter,
		)
	case t.Done == 0:
		keys.Say(s, "%s is so already.", t.Charter)
	case t.Undoes != nil:
		keys.Say(s, "The last settlement of %s is taken back: %s made.", t.Charter, text.Counted(t.Done, "change"))
	default:
		keys.Say(
			s,
			"%s is settled: %s made. Undo it: plumlatch charter undo %s",
			t.Charter,
			text.Counted(t.Done, "change"),
			t.Charter,
		)
	}
}

// last returns the last settlement of a charter.
func last(ctx context.Context, client *apiclient.Client, name string) (apiclient.CharterSettlement, error) {
	if _, err := kit.Answer[apiclient.CharterDetail](client.GetCharter(ctx, name)); err != nil {
		return apiclient.CharterSettlement{}, err
	}
	page, err := kit.Answer[apiclient.CharterSettlementPage](client.ListCharterSettlements(
		ctx, &apiclient.ListCharterSettlementsParams{Charter: &name, Limit: new(1)},
	))
	if err != nil || len(page.Items) == 0 {
		return apiclient.CharterSettlement{}, cmp.Or(
			err, kit.Missing("no-settlement", name+" was never settled", "Settle it: plumlatch charter settle FILE"),
		)
	}
	return page.Items[0], nil
}

func changes(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	var p kit.Paging
	p.Flags(f)
	state := f.String("state", "", "only those in this `state`: waiting, at-work, done, failed or left-out")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		return showItems(ctx, s, client, t.Id, p, *state)
	})
}

// itemsOf fetches the changes of a settlement, all or those in a state.
func itemsOf(
	ctx context.Context, client *apiclient.Client, id uuid.UUID, p kit.Paging, state string,
) ([]apiclient.CharterSettlementChange, int, error) {
	params := apiclient.ListCharterSettlementChangesParams{}
	if state != "" {
		params.State = new(apiclient.CharterSettlementChangeState(state))
	}
	return kit.Fetch[apiclient.CharterSettlementChange](
		ctx, p, func(ctx context.Context, after *string, limit int, count *bool) (*http.Response, error) {
			q := params
			q.After, q.Limit, q.Total = after, &limit, count
			return client.ListCharterSettlementChanges(ctx, id, &q)
		},
	)
}

func showItems(
	ctx context.Context, s *kit.Session, client *apiclient.Client, id uuid.UUID, p kit.Paging, state string,
) error {
	items, total, err := itemsOf(ctx, client, id, p, state)
	if err != nil {
		return err
	}
	return kit.Listing[apiclient.CharterSettlementChange]{
		Head: []string{"STATE", "CHANGE", "KEY", "WHERE", "DETAIL"}, Least: []string{"DETAIL"},
		Name: func(i apiclient.CharterSettlementChange) string { return whereOf(i.Change) },
		None: "No change matches.",
		Cells: func(i apiclient.CharterSettlementChange) []string {
			return []string{
				string(i.State), wordsOf[i.Change.Kind], kit.Given(i.Change.Key), whereOf(i.Change), kit.Given(i.Detail),
			}
		},
	}.Show(s, items, total)
}

func watchIt(*flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, false)
	})
}

func pause(goOn bool) func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	return func(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
		reason := f.String("reason", "", "why, for the daybook")
		return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
			t, err := last(ctx, client, args[0])
			if err != nil {
				return err
			}
			t, err = kit.Answer[apiclient.CharterSettlement](client.PauseCharterSettlement(
				ctx, t.Id, apiclient.PauseCharterSettlement{Resume: &goOn, Reason: kit.Optional(*reason)},
			))
			if err != nil {
				return err
			}
			return keys.Record(s, t, t.Charter, func() { tellSettlement(s, t) })
		})
	}
}

func undo(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	detach := f.Bool("detach", false, "do not wait until it is over")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		t, err := last(ctx, client, args[0])
		if err != nil {
			return err
		}
		what := fmt.Sprintf(
			"This takes back the %s that %s made in %s.",
			text.Counted(t.Done, "change"),
			t.RequestedBy,
			t.Charter,
		)
		done, _, err := itemsOf(ctx, client, t.Id, kit.Paging{All: true, Limit: kit.PageSize}, "done")
		if err != nil {
			return err
		}
		var stay []string
		for _, i := range done {
			if i.Change.Kind == apiclient.CharterChangeKindLaunch {
				stay = append(stay, *i.Change.Instance)
			}
		}
		if len(stay) > 0 {
			what += " Instances that it launched stay: " + strings.Join(stay, ", ") +
				". Each is deleted by its name alone: plumlatch instance delete " + stay[0]
		}
		if err := s.Confirm(*yes, what, "yes"); err != nil {
			return err
		}
		t, err = kit.Answer[apiclient.CharterSettlement](
			client.UndoCharter(ctx, args[0], apiclient.UndoCharterJSONRequestBody{Reason: kit.Optional(*reason)}),
		)
		if err != nil {
			return err
		}
		return follow(ctx, s, client, t, *detach)
	})
}

func release(f *flag.FlagSet) func(context.Context, *kit.Session, []string) error {
	reason := f.String("reason", "", "why, for the daybook")
	yes := f.Bool("yes", false, "do not ask")
	return keys.With(func(ctx context.Context, s *kit.Session, client *apiclient.Client, args []string) error {
		if err := s.Confirm(*yes, "What "+args[0]+" owns stays as it is, and is nobody's.", "yes"); err != nil {
			return err
		}
		r, err := client.ReleaseCharter(ctx, args[0], &apiclient.ReleaseCharterParams{Reason: kit.Optional(*reason)})
		return keys.Settled(s, r, err, "%s is released.", args[0])
	})
}
