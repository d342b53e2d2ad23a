package rotate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/cli/access"
	"plumlatch/internal/cli/grants"
	"plumlatch/internal/cli/kit"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/sshio"
)

// hereWork is what a rotation's logins are edited with from this machine.
type hereWork struct {
	signers []kit.AtHand    // those given, by which the old keys' logins are opened
	names   map[string]bool // the keys whose private keys are at hand; false for those looked for in vain
}

// workHere returns what there is to work with; nil where nothing was given.
func workHere(
	s *kit.Session, ctx context.Context, client *apiclient.Client, h kit.LocalKeyFlags,
) (*hereWork, func(), error) {
	if !h.Given() {
		return nil, func() {}, nil
	}
	signers, end, err := s.LocalKeys(h)
	if err != nil {
		return nil, nil, err
	}
	w := &hereWork{signers: signers, names: map[string]bool{}}
	for _, signer := range signers {
		name, err := s.RecordOf(ctx, client, signer)
		if err != nil {
			end()
			return nil, nil, err
		}
		if name != "" {
			w.names[name] = true
		}
	}
	return w, end, nil
}

// has reports whether the private key of the key is at hand: one that was given, or
// one in the folders where keys are kept.
func (w *hereWork) has(ctx context.Context, s *kit.Session, client *apiclient.Client, key string) bool {
	if at, known := w.names[key]; known {
		return at
	}
	k, err := kit.Answer[apiclient.Key](client.GetKey(ctx, key))
	file := ""
	if err == nil {
		file = s.FindPrivate(k.Fingerprints.Sha256)
	}
	if file != "" {
		signer, err := s.FileKey(file, "", true)
		if w.names[key] = err == nil; err == nil {
			w.signers = append(w.signers, signer)
		}
		return w.names[key]
	}
	w.names[key] = false
	return false
}

// signer returns the private key of a public line.
func (w *hereWork) signer(line string) (kit.AtHand, error) {
	public, err := keypair.ReadLine(line)
	if err != nil {
		return kit.AtHand{}, err
	}
	for _, h := range w.signers {
		if bytes.Equal(h.Blob, public.Blob) {
			return h, nil
		}
	}
	return kit.AtHand{}, errors.New("its private key is not at hand here")
}

// rotateFromHere takes the items that can be worked on from here and works on them,
// some at once. It returns how many.
func rotateFromHere(s *kit.Session,
	ctx context.Context,
	client *apiclient.Client,
	id uuid.UUID,
	w *hereWork,
) (int, error) {
	items, err := items(s, ctx, client, id, "")
	if err != nil {
		return 0, err
	}
	var keys []string
	for _, i := range items {
		if kit.Given(i.Means) != hereMeans {
			continue
		}
		for _, key := range []string{i.Old, i.New} {
			if i.EndedAt == nil && w.has(ctx, s, client, key) {
				keys = append(keys, key)
			}
		}
	}
	slices.Sort(keys)
	if keys = slices.Compact(keys); len(keys) == 0 {
		return 0, nil
	}
	taken, err := kit.Answer[[]apiclient.TakenItem](
		client.TakeRotationItems(ctx, id, apiclient.TakeRotationItems{Keys: keys}),
	)
	if err != nil {
		return 0, err
	}
	var group errgroup.Group
	for _, i := range taken {
		group.Go(func() error { return workOn(s, ctx, client, i, w) })
	}
	return len(taken), group.Wait()
}

// hereMeans is how the contract names logins that are edited from somebody's machine.
const hereMeans = "from here"

// workOn does the steps of one item and reports each. What goes wrong with the login
// is reported; the error is that it could not be reported.
func workOn(s *kit.Session, ctx context.Context, client *apiclient.Client, i apiclient.TakenItem, w *hereWork) error {
	e := &editHere{Session: s, client: client, item: i, work: w}
	defer e.close()
	steps := map[apiclient.TakenItemPhase][]string{
		apiclient.TakenItemPhaseIn:   {"place"},
		apiclient.TakenItemPhaseOut:  {"enter", "remove", "see"},
		apiclient.TakenItemPhaseBack: {"take-back"},
	}[i.Phase]
	for _, step := range steps {
		outcome, failed := e.do(ctx, step)
		report := apiclient.ReportStep{Step: step, Outcome: kit.Optional(outcome)}
		if failed != nil {
			report = apiclient.ReportStep{Step: step, Error: new(text.Line(failed.Error(), text.MaxMessage))}
		}
		run, err := kit.Answer[apiclient.Run](client.ReportStep(ctx, i.Run, report))
		if err != nil {
			return fmt.Errorf("%s: %w", i.Login, err)
		}
		if run.EndedAt != nil {
			return nil
		}
	}
	return nil
}

// editHere works on one login of a rotation from this machine.
type editHere struct {
	*kit.Session
	client *apiclient.Client
	item   apiclient.TakenItem
	work   *hereWork
	open   *sshio.Session
}

func (e *editHere) close() {
	if e.open != nil {
		e.open.Close()
	}
}

func (e *editHere) do(ctx context.Context, step string) (string, error) {
	old, err := grants.LineKey(e.item.Old, e.item.OldPublicKey)
	if err != nil {
		return "", err
	}
	fresh, err := grants.LineKey(e.item.New, e.item.NewPublicKey)
	if err != nil {
		return "", err
	}
	switch step {
	case "place":
		return e.place(ctx, old, fresh)
	case "take-back":
		return e.takeBack(ctx, fresh)
	case "enter":
		if err := e.enter(ctx, e.item.NewPublicKey); err != nil {
			return "", err
		}
		return "a login with " + e.item.New + " was completed from here", nil
	case "remove":
		return e.remove(ctx, old)
	case "see":
		return e.see(ctx, old)
	}
	return "", fmt.Errorf("this client knows no step %q; use a newer one", step)
}

// enter opens a session with the private key of the first of the lines that opens
// the login.
func (e *editHere) enter(ctx context.Context, lines ...string) error {
	var signers []kit.AtHand
	var missing error
	for _, line := range lines {
		signer, err := e.work.signer(line)
		if err == nil {
			signers = append(signers, signer)
		}
		missing = errors.Join(missing, err)
	}
	if len(signers) == 0 {
		return missing
	}
	l, err := kit.Answer[apiclient.Login](e.client.GetLogin(ctx, e.item.Login))
	if err != nil {
		return err
	}
	e.close()
	e.open, _, err = e.Enter(ctx, l.Connection, signers)
	return err
}

// edit changes the files in the open session and reports what they hold afterwards.
func (e *editHere) edit(ctx context.Context, change func(*means.Door) (means.Seen, error)) error {
	if _, err := change(means.New(means.Over(e.open), nil, nil, time.Now)); err != nil {
		return err
	}
	_, err := access.Report(ctx, e.client, e.item.Login, e.open)
	return err
}

func (e *editHere) place(ctx context.Context, old, fresh means.Key) (string, error) {
	// By the new one, where the old line was removed just before a cut.
	if err := e.enter(ctx, e.item.OldPublicKey, e.item.NewPublicKey); err != nil {
		return "", err
	}
	err := e.edit(ctx, func(d *means.Door) (means.Seen, error) { return d.PlaceBeside(ctx, old, fresh) })
	return "the new line is in place beside the old one, placed from here with " + e.item.Old, err
}

// takeBack removes the new line in a session that was opened with the old key, whose line stays.
func (e *editHere) takeBack(ctx context.Context, fresh means.Key) (string, error) {
	if err := e.enter(ctx, e.item.OldPublicKey); err != nil {
		return "", err
	}
	err := e.edit(ctx, func(d *means.Door) (means.Seen, error) { return d.Remove(ctx, e.open.Entry(), fresh) })
	return "the new line is gone, taken out from here", err
}

// remove takes the old line out in the session that was opened with the new key.
func (e *editHere) remove(ctx context.Context, old means.Key) (string, error) {
	err := e.edit(ctx, func(d *means.Door) (means.Seen, error) { return d.Remove(ctx, e.open.Entry(), old) })
	return "the old line is gone, taken out from here with " + e.item.New, err
}

func (e *editHere) see(ctx context.Context, old means.Key) (string, error) {
	l, err := kit.Answer[apiclient.Login](e.client.GetLogin(ctx, e.item.Login))
	if err != nil {
		return "", err
	}
	target, err := e.TargetOf(l.Connection, nil)
	if err != nil {
		return "", err
	}
	accepted, err := sshio.Accepts(ctx, target, old.Blob)
	if err != nil {
		return "", err
	}
	if accepted {
		return "", fmt.Errorf("the SSH server still accepts %s", e.item.Old)
	}
	if err := e.enter(ctx, e.item.NewPublicKey); err != nil {
		return "", err
	}
	return e.item.Old + " is refused, and " + e.item.New + " opens", nil
}
