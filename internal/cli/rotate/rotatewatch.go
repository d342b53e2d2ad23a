package rotate

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/kit"
)

// calledBy is what the newest rotation, which was just started, is called in the commands to type next.
func calledBy(r apiclient.Rotation) string {
	if len(r.Keys) == 0 {
		return r.Id.String()
	}
	return r.Keys[0]
}

// rotatedText names the keys that a rotation replaces.
func rotatedText(r apiclient.Rotation) string {
	names := strings.Join(r.Keys, ", ")
	if more := r.KeysTotal - len(r.Keys); more > 0 {
		names += fmt.Sprintf(" and %d more", more)
	}
	return names
}

// toType is the command about a rotation that is called so; "" is the newest.
func toType(command, called string) string {
	return strings.TrimSpace(command + " " + called)
}

// rotationSaid shows a rotation once, and ends with 3 where something failed. called is what the rotation was
// called by who asked; "" is the newest.
func rotationSaid(s *kit.Session, r apiclient.Rotation, called string) error {
	switch {
	case s.Json:
		if err := s.WriteJSON(r); err != nil {
			return err
		}
	case s.Quiet:
		fmt.Fprintln(s.Env.Out, r.Id)
	default:
		fmt.Fprintf(s.Env.Out, "%s: %s\n", r.State, countsText(r))
		if r.PausedWhy != nil {
			s.Below("Paused: ", *r.PausedWhy+".", kit.AsItIs)
			fmt.Fprintf(
				s.Env.Out, "Look at it:  %s\nContinue:    %s\nOr undo it:  %s\n", toType("plumlatch rotate show", called),
				toType("plumlatch rotate resume", called), toType("plumlatch rotate undo", called),
			)
		}
	}
	if r.Counts["failed"] > 0 {
		return kit.Quiet(kit.ExitNotAsItShould)
	}
	return nil
}

var itemStates = []string{
	"asked",
	"waiting",
	"placing",
	"placed",
	"proved",
	"removing",
	"done",
	"failed",
	"undoing",
	"undone",
}

func countsText(r apiclient.Rotation) string {
	var parts []string
	for _, state := range itemStates {
		if n := r.Counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return strings.Join(parts, ", ")
}

const (
	rotatePause = 200 * time.Millisecond
	// restsAfter is for how long nothing has to change before it is asked whether
	// all waits for somebody or for a time.
	restsAfter = 2 * time.Second
)

// WatchRotation shows a rotation until it ends or is paused, and completes the logins
// that are awaited where a private key is here. What is edited from somebody's machine
// is, where there is something to work with.
func WatchRotation(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Rotation,
	called string,
	here *hereWork,
) error {
	live := s.Live() && !s.Json && !s.Quiet
	tried := map[string]bool{} // what was tried from here, and whether the login was completed
	begun, doneBefore := time.Now(), r.Counts["done"]
	last, changed := countsText(r), time.Now()
	patience := s.Patience()
	patience.Answered() // it has told of what is watched
	for r.EndedAt == nil && r.State != apiclient.RotationStatePaused {
		if live {
			rate := float64(r.Counts["done"]-doneBefore) / max(time.Since(begun).Seconds(), 1)
			ended := r.Counts["done"] + r.Counts["failed"] + r.Counts["undone"]
			fmt.Fprintf(s.Env.Err, "\r\x1b[K  %s %s, %.1f a second", kit.Bar(ended*100/max(r.Total, 1)), countsText(r), rate)
		}
		if r.Counts["placed"] > 0 {
			proveRotated(s, ctx, client, r.Id, tried)
		}
		if here != nil && r.Counts["waiting"]+r.Counts["proved"]+r.Counts["undoing"] > 0 {
			if _, err := rotateFromHere(s, ctx, client, r.Id, here); err != nil && kit.Status(err) != kit.ExitUnreachable {
				return err
			}
		}
		if now := countsText(r); now != last {
			last, changed = now, time.Now()
		}
		if time.Since(changed) > restsAfter && r.Counts["placing"]+r.Counts["removing"]+r.Counts["undoing"] == 0 {
			if stop, err := restsOnOthers(s, ctx, client, r, called, tried, here); stop ||
				err != nil && kit.Status(err) != kit.ExitUnreachable {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return kit.Stopped("rotation", toType("plumlatch rotate watch", called))
		case <-time.After(rotatePause):
		}
		fresh, err := kit.Answer[apiclient.Rotation](client.GetRotation(ctx, r.Id))
		if err != nil && ctx.Err() == nil {
			if err := patience.Wait(ctx, err); err != nil {
				return err
			}
		}
		if err == nil {
			patience.Answered()
			r = fresh
		}
	}
	if live {
		fmt.Fprint(s.Env.Err, "\r\x1b[K")
	}
	if r.Counts["failed"] > 0 && !s.Json && !s.Quiet {
		if err := showItems(s, ctx, client, r.Id, "failed"); err != nil {
			return err
		}
	}
	return rotationSaid(s, r, called)
}

// restsOnOthers stops watching where all that is left waits for a grace to end, for
// hours to come, for a key that is asked for, or for a login that cannot be completed
// or worked on from here, and says what.
func restsOnOthers(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	r apiclient.Rotation,
	called string,
	tried map[string]bool,
	here *hereWork,
) (bool, error) {
	items, err := items(s, ctx, client, r.Id, "")
	if err != nil {
		return false, err
	}
	soon, inGrace, waiting := time.Now().Add(restsAfter), false, false
	for _, i := range items {
		completed, known := tried[i.Login+i.New]
		elsewhere := kit.Given(i.Means) == hereMeans
		switch {
		case i.State == apiclient.RotationItemStatePlaced && (completed || !known):
			return false, nil
		case i.State == apiclient.RotationItemStateProved && i.DueAt.Before(soon) && r.Settings.Between == nil &&
			(!elsewhere || here != nil && here.has(ctx, s, client, i.New)):
			return false, nil
		case i.State == apiclient.RotationItemStateWaiting &&
			(i.Next == nil || elsewhere && here != nil && here.has(ctx, s, client, i.Old)):
			waiting = true
		}
		inGrace = inGrace || i.State == apiclient.RotationItemStateProved || i.State == apiclient.RotationItemStatePlaced ||
			i.State == apiclient.RotationItemStateAsked
	}
	if waiting && !inGrace && r.Settings.Between == nil {
		return false, nil // for an instance on which another run is at work
	}
	if !s.Json && !s.Quiet {
		for _, state := range []string{"asked", "waiting", "placed", "proved"} {
			if err := showItems(s, ctx, client, r.Id, state); err != nil {
				return true, err
			}
		}
		fmt.Fprintf(
			s.Env.Out,
			"\nThe rest waits; the rotation continues by itself. Watch again: %s\n",
			toType("plumlatch rotate watch", called),
		)
	}
	return true, rotationSaid(s, r, called)
}

func items(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	id uuid.UUID,
	state string,
) ([]apiclient.RotationItem, error) {
	rows, _, err := kit.Fetch[apiclient.RotationItem](
		ctx,
		kit.Paging{Limit: 1, All: true},
		func(ctx context.Context, after *string, limit int, _ *bool) (*http.Response, error) {
			params := apiclient.ListRotationItemsParams{After: after, Limit: &limit}
			if state != "" {
				params.State = new(apiclient.RotationItemState(state))
			}
			return client.ListRotationItems(ctx, id, &params)
		},
	)
	return rows, err
}

// provesAtOnce is how many logins are completed from here at once.
const provesAtOnce = 8

// proveRotated completes a login for each item that awaits one and whose new private
// key is here, and reports it. Each is tried once.
func proveRotated(s *kit.Session, ctx context.Context, client *apiclient.Client, id uuid.UUID, tried map[string]bool) {
	items, err := items(s, ctx, client, id, "placed")
	if err != nil {
		return // the next look tells
	}
	waiting := slices.DeleteFunc(items, func(i apiclient.RotationItem) bool {
		_, known := tried[i.Login+i.New]
		return known
	})
	completed := make([]bool, len(waiting))
	var group errgroup.Group
	group.SetLimit(provesAtOnce)
	for n, i := range waiting {
		group.Go(func() error {
			completed[n] = proveOne(s, ctx, client, i)
			return nil
		})
	}
	group.Wait()
	for n, i := range waiting {
		tried[i.Login+i.New] = completed[n]
	}
}

// proveOne reports whether the login was completed.
func proveOne(s *kit.Session, ctx context.Context, client *apiclient.Client, i apiclient.RotationItem) bool {
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, i.New))
	if err != nil {
		return false
	}
	file := s.FindPrivate(k.Fingerprints.Sha256)
	if file == "" {
		return false // somebody else holds it
	}
	signer, err := s.FileKey(file, "", true)
	if err == nil {
		var l apiclient.Login
		if l, err = kit.Answer[apiclient.Login](client.GetLogin(ctx, i.Login)); err == nil {
			_, err = completeLogin(s, ctx, client, l, signer)
		}
	}
	if err != nil && !s.Quiet && !s.Json {
		fmt.Fprintf(s.Env.Err, "\r\x1b[K%s: no login with %s from here: %v\n", i.Login, s.Shown(file), err)
	}
	return err == nil
}

func completeLogin(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	l apiclient.Login,
	signer kit.AtHand,
) (apiclient.Login, error) {
	session, signer, err := s.Enter(ctx, l.Connection, []kit.AtHand{signer})
	if err != nil {
		return l, err
	}
	defer session.Close()
	return s.ReportEntry(ctx, client, l, session, signer)
}

func showItems(s *kit.Session, ctx context.Context, client *apiclient.Client, id uuid.UUID, state string) error {
	items, err := items(s, ctx, client, id, state)
	if err != nil {
		return err
	}
	if s.Json {
		return s.WriteJSON(items)
	}
	if len(items) == 0 {
		return nil
	}
	t := kit.Table{Head: []string{"LOGIN", "OLD KEY", "NEW KEY", "STATE", "WHAT", "NEXT"}, Wraps: []string{"WHAT", "NEXT"}}
	for _, i := range items {
		what := kit.Given(i.Detail)
		if i.DueAt != nil {
			what = "the old key is removed on " + kit.Moment(*i.DueAt)
		}
		mark := ""
		if i.State == apiclient.RotationItemStateFailed {
			mark = " !"
		}
		t.Add(i.Login, i.Old, i.New, string(i.State)+mark, what, kit.Given(i.Next))
	}
	t.Write(s)
	return nil
}
