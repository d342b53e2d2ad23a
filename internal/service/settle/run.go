package settle

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/authorizedkeys"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/means"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/reading"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// settling has the steps of a run that settles the differences of one login.
type settling struct {
	*Service
	run  record.Run
	work *settleWork
}

func (s *Service) settlePlan(run record.Run) (runs.Plan, error) {
	w, err := runs.PayloadOf(run, runs.NoEarlier[settleWork])
	if err != nil {
		return runs.Plan{}, err
	}
	e := &settling{s, run, w}
	what := fmt.Sprintf("place %s and remove %s", text.Counted(len(w.Place), "line"), text.Counted(len(w.Remove), "line"))
	return runs.Plan{Payload: w, Ended: e.ended, Steps: []runs.Step{
		{
			Name:       "change",
			Title:      "Change the lines",
			Intent:     "Log in to " + run.Instance.Name + " with the steward key, " + what,
			UndoIntent: "Take away what was placed, and place again what was removed",
			Do:         e.change,
			Undo:       e.back,
			Patience:   fleet.SshPatience,
		},
		{
			Name:     "ask",
			Title:    "Ask the SSH server",
			Intent:   "See that the SSH server accepts what was placed and refuses what was removed",
			Do:       e.ask,
			Patience: fleet.SshPatience,
		},
	}}, nil
}

func (e *settling) login(ctx context.Context, from *store.Store) (record.LoginToSweep, error) {
	found, err := from.LoginsToSweep(ctx, []uuid.UUID{e.work.Login})
	if err == nil && len(found) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return record.LoginToSweep{}, err
	}
	return found[0], nil
}

func (e *settling) keysToPlace(ctx context.Context) ([]record.Key, error) {
	keys, err := e.store.KeysByID(ctx, e.work.Place)
	if err == nil && len(keys) != len(e.work.Place) {
		err = errors.New("the record of one of its keys is gone")
	}
	return keys, err
}

// going are the keys in the files whose lines are to go.
func (e *settling) going(read means.Seen) (keys []means.Key) {
	for _, f := range read.Files {
		for _, line := range authorizedkeys.Parse(f.Content) {
			if line.Kind != authorizedkeys.Key {
				continue
			}
			if print := keypair.FormatSHA256(keypair.Public{Blob: line.Blob}.SHA256()); slices.Contains(e.work.Remove, print) {
				keys = append(keys, means.Key{Name: print, Blob: line.Blob})
			}
		}
	}
	return keys
}

// changing changes the files of the login with the steward key, and records what they hold then.
func (e *settling) changing(
	ctx context.Context, p *runs.Progress,
	change func(d *means.Door, by sshio.Entry, keys []means.Key) (means.Seen, error),
) (string, error) {
	l, err := e.login(ctx, e.store)
	if err != nil {
		return "", err
	}
	keys, err := e.keysToPlace(ctx)
	if err != nil {
		return "", err
	}
	d, by, end, err := e.reading.StewardDoor(ctx, p, l, &e.work.Journal)
	if err != nil {
		return "", err
	}
	defer end()
	lines, err := e.linesFor(ctx, d, l, keys)
	if err != nil {
		return "", err
	}
	read, err := change(d, by, lines)
	if err != nil {
		return "", reading.Reaching(err)
	}
	return e.reading.RecordSeen(ctx, l, e.run.RequestedBy, read)
}

// linesFor are the lines of the keys, with the ends and the limits that their grants have.
func (e *settling) linesFor(
	ctx context.Context, d *means.Door, l record.LoginToSweep, keys []record.Key,
) ([]means.Key, error) {
	lines := e.reading.MeansKeys(keys)
	granted, err := e.store.LiveGrants(ctx, l.ID, e.work.Place)
	if err != nil {
		return nil, err
	}
	for n, k := range keys {
		if g := granted[k.ID]; g.Limits != "" {
			lines[n].Line = authorizedkeys.Parse([]byte(lines[n].Line))[0].WithLimits(g.Limits).Raw
		}
		if g := granted[k.ID]; g.Until != nil && g.EndBy.InLine() && d.EndsLines() {
			lines[n].Line = authorizedkeys.Parse([]byte(lines[n].Line))[0].WithExpiry(*g.Until).Raw
		}
	}
	return lines, nil
}

// change places the lines, and then removes those that go.
func (e *settling) change(ctx context.Context, p *runs.Progress) (string, error) {
	return e.changing(ctx, p, func(d *means.Door, by sshio.Entry, keys []means.Key) (means.Seen, error) {
		read, err := d.Place(ctx, keys...)
		if err != nil || len(e.work.Remove) == 0 {
			return read, err
		}
		going := e.going(read)
		l, err := e.login(ctx, e.store)
		if err == nil {
			by, err = e.access.EntryBeside(ctx, l, by, going...)
		}
		if err != nil {
			return read, err
		}
		return d.Remove(ctx, by, going...)
	})
}

// back places again what this run removed, and takes away what it placed.
func (e *settling) back(ctx context.Context, p *runs.Progress) error {
	_, err := e.changing(ctx, p, func(d *means.Door, _ sshio.Entry, keys []means.Key) (means.Seen, error) {
		if read, err := d.PutBack(ctx); err != nil {
			return read, err
		}
		return d.TakeBack(ctx, false, nil, keys...)
	})
	return err
}

func (e *settling) ask(ctx context.Context, _ *runs.Progress) (string, error) {
	l, err := e.login(ctx, e.store)
	if err != nil {
		return "", err
	}
	keys, err := e.keysToPlace(ctx)
	if err != nil {
		return "", err
	}
	granted, err := e.store.LiveGrants(ctx, l.ID, e.work.Place)
	if err != nil {
		return "", err
	}
	target := e.fleet.Target(l.Instance, l.OSUser)
	for _, k := range keys {
		accepted, err := sshio.Accepts(ctx, target, k.Blob)
		if err != nil {
			return "", fleet.Answering(err)
		}
		if !accepted && !strings.Contains(granted[k.ID].Limits, "from=") {
			return "", fmt.Errorf(
				"the line is in place there, but the SSH server does not accept %s; see why: plumlatch why %s", k.Name,
				l.Instance.Name,
			)
		}
	}
	refused := 0
	for _, lines := range e.work.Journal.Removed {
		for _, line := range authorizedkeys.Parse([]byte(strings.Join(lines, "\n"))) {
			accepted, err := sshio.Accepts(ctx, target, line.Blob)
			if err != nil {
				return "", fleet.Answering(err)
			}
			if accepted {
				return "", fmt.Errorf(
					"the SSH server still accepts %s", keypair.FormatSHA256(keypair.Public{Blob: line.Blob}.SHA256()),
				)
			}
			refused++
		}
	}
	var said []string
	if len(keys) > 0 {
		said = append(said, "accepts "+text.Counted(len(keys), "key")+" that "+pastOf(len(keys))+" placed")
	}
	if refused > 0 {
		said = append(said, "refuses "+text.Counted(refused, "key")+" that "+pastOf(refused)+" removed")
	}
	return "it " + strings.Join(said, " and "), nil
}

func pastOf(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}

func (e *settling) ended(ctx context.Context, tx *store.Store, state runs.State, reason string) error {
	l, err := e.login(ctx, tx)
	if err != nil {
		return err
	}
	called := fleet.LoginName(l.OSUser, l.Instance.Name)
	note := e.journal.Entry(
		journal.ForRun(e.run), "login.settled", "login", called, e.run.Reason,
		journal.Facts{"place": len(e.work.Place), "remove": len(e.work.Remove), "reason": reason},
	)
	if state != runs.Done {
		journal.Instead(&note, string(state), "login.settled:not")
	}
	return tx.Note(ctx, note)
}

// settleWork is the payload of the runs that settle the differences of one login.
type settleWork struct {
	Login uuid.UUID   `json:"login"`
	Place []uuid.UUID `json:"place,omitempty"` // keys
	// Remove are the SHA-256 fingerprints of the keys whose lines go.
	Remove  []string      `json:"remove,omitempty"`
	Journal means.Journal `json:"journal"`
}
