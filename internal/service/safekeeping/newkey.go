package safekeeping

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
	"plumlatch/internal/safe"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// SafeState is the state of the safe.
type SafeState struct {
	On bool
	// Mark tells the safe key apart under which all processes seal, without giving it away.
	Mark string
	// SafeKeys is how many safe keys open; over 1 while a new one takes the place of an old.
	SafeKeys int
	// PrivateKeys is how many are kept.
	PrivateKeys int64
	// Unreadable is what no safe key opened when the last one took its place.
	Unreadable []string
}

// SafeState returns the state of the safe.
func (s *Service) SafeState(ctx context.Context) (SafeState, error) {
	n, err := s.store.CountKept(ctx)
	if err != nil || s.Safe == nil {
		return SafeState{PrivateKeys: n}, err
	}
	marks, err := s.store.SafeMarks(ctx, s.Safe.Mark())
	return SafeState{
		On:          true,
		Mark:        marks.Mark,
		SafeKeys:    s.Safe.SafeKeys(),
		PrivateKeys: n,
		Unreadable:  marks.Unreadable,
	}, err
}

// Seal seals a secret under the safe key that all processes seal under. Whoever keeps it has the store
// see that this is still so.
func (s *Service) Seal(ctx context.Context, tx *store.Store, secret []byte, about string) (record.Secret, error) {
	marks, err := tx.SafeMarks(ctx, s.Safe.Mark())
	if err != nil {
		return record.Secret{}, err
	}
	encrypted, err := s.Safe.Seal(marks.Mark, secret, about)
	if errors.Is(err, safe.ErrNoKey) {
		return record.Secret{}, lacksKey(marks.Mark)
	}
	return record.Secret{Encrypted: encrypted, Mark: marks.Mark}, err
}

func lacksKey(mark string) error {
	return &problem.Problem{
		Kind: problem.Unavailable,
		Code: "safe-key-missing",
		Detail: fmt.Sprintf(
			"this process of the service does not have the safe key %s, which the safe is encrypted under", mark,
		),
		Remedy: "Give it the same safe-key-file as the others",
	}
}

const (
	// processSeen is how often a process tells which safe keys it has, and processGone for how long
	// one that tells nothing counts as there.
	processSeen = 10 * time.Second
	processGone = time.Minute
	// renewEvery is how often one that was interrupted is resumed.
	renewEvery = 30 * time.Second
	// processesWithin is for how long a new safe key waits for the other processes before it continues by itself later.
	processesWithin = 25 * time.Second
)

// process is what a process is known by to the others.
type process struct {
	id   uuid.UUID
	host string
}

func newProcess() process {
	host, _ := os.Hostname()
	return process{uuid.New(), cmp.Or(host, "a machine")}
}

// TellKeys has the other processes know which safe keys this one has.
func (s *Service) TellKeys(ctx context.Context) error {
	marks, err := s.store.SafeMarks(ctx, s.Safe.Mark())
	if err != nil {
		return err
	}
	if err := s.knowKeys(marks); err != nil {
		return err
	}
	return s.store.NoteProcess(ctx, s.process.id, s.process.host, s.Safe.Marks(), s.now())
}

// knowKeys reads the safe keys again where one is missing that is in use or will be.
func (s *Service) knowKeys(marks record.SafeMarks) error {
	have := s.Safe.Marks()
	if slices.Contains(have, marks.Mark) && (marks.Wanted == "" || slices.Contains(have, marks.Wanted)) {
		return nil
	}
	return s.Safe.Reload()
}

// NewKey puts everything in the safe under a new safe key while the service runs. What
// is killed on the way is resumed by the next call, or by the service itself.
func (s *Service) NewKey(ctx context.Context, by journal.By, reason string) (SafeState, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return SafeState{}, err
	}
	if s.Safe == nil {
		return SafeState{}, problem.NoSafe()
	}
	ctx, release, ok, err := s.store.Lock(ctx, "new safe key")
	if err != nil {
		return SafeState{}, err
	}
	if !ok {
		return SafeState{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "new-key-at-work",
			Detail: "the safe is being put under a new safe key already",
		}
	}
	defer release()
	if err := s.Safe.Reload(); err != nil {
		return SafeState{}, err
	}
	marks, err := s.store.SafeMarks(ctx, s.Safe.Mark())
	if err != nil {
		return SafeState{}, err
	}
	if s.Safe.SafeKeys() == 1 && s.Safe.Mark() == marks.Mark { // else an earlier call was interrupted
		err := s.Safe.AddKey()
		if errors.Is(err, safe.ErrCommand) {
			return SafeState{}, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "safe-key-from-command",
				Detail: err.Error(),
				Remedy: "Then call this again",
			}
		}
		if err != nil {
			return SafeState{}, err
		}
	}
	n, err := s.renew(ctx, processesWithin)
	if err != nil {
		return SafeState{}, err
	}
	if err := s.noteNewKey(ctx, s.journal.Entry(
		by, "safe.new-key", "safe", s.Safe.Mark(), reason,
		journal.Facts{"secrets": n},
	)); err != nil {
		return SafeState{}, err
	}
	return s.SafeState(ctx)
}

// noteNewKey also tells of what could not be opened.
func (s *Service) noteNewKey(ctx context.Context, e record.Entry) error {
	marks, err := s.store.SafeMarks(ctx, s.Safe.Mark())
	if err != nil {
		return err
	}
	if len(marks.Unreadable) > 0 {
		e.Details["unreadable"] = listed(marks.Unreadable)
	}
	return s.store.Note(ctx, e)
}

// renew puts all under the first safe key: it waits until every process has it, has all seal under it,
// seals again what is under an older one, and then drops the older ones. What none of them opens is
// stepped over, and told of.
func (s *Service) renew(ctx context.Context, within time.Duration) (n int, err error) {
	ctx = store.Unlimited(ctx)
	mark := s.Safe.Mark()
	if err := s.store.WantMark(ctx, mark); err != nil {
		return 0, err
	}
	for until := time.Now().Add(within); ; {
		lack, err := s.store.ProcessesWithout(ctx, mark, s.now().Add(-processGone))
		if err != nil {
			return 0, err
		}
		if len(lack) == 0 {
			break
		}
		if time.Now().After(until) {
			return 0, &problem.Problem{
				Kind:   problem.Conflict,
				Code:   "new-key-waits",
				Where:  lack,
				Detail: fmt.Sprintf("not every process of the service has the new safe key %s yet: on %s", mark, listed(lack)),
				Remedy: "Give it the same safe-key-file; the change continues by itself then",
			}
		}
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
	if err := s.store.UseMark(ctx, mark); err != nil {
		return 0, err
	}
	var unreadable []string
	err = s.eachEncrypted(ctx, func(t record.Encrypted) error {
		encrypted, err := s.Safe.Reseal(mark, t.Encrypted, t.Record)
		switch {
		case errors.Is(err, safe.ErrEncrypted):
			unreadable = append(unreadable, t.Called)
			return nil
		case err != nil || encrypted == nil:
			return err
		}
		n++
		return s.store.Reseal(ctx, t, record.Secret{Encrypted: encrypted, Mark: mark})
	})
	if err != nil {
		return n, err
	}
	if err := s.Safe.DropOld(mark); err != nil && !errors.Is(err, safe.ErrCommand) {
		return n, err
	}
	return n, s.store.MarkUsed(ctx, unreadable)
}

// eachEncrypted tells of everything that the safe has encrypted.
func (s *Service) eachEncrypted(ctx context.Context, tell func(record.Encrypted) error) error {
	var last *record.Encrypted
	for {
		things, err := s.store.EncryptedThings(ctx, last, 200)
		if err != nil || len(things) == 0 {
			return err
		}
		for _, t := range things {
			if err := tell(t); err != nil {
				return fmt.Errorf("%s: %w", t.Called, err)
			}
		}
		last = &things[len(things)-1]
	}
}

// carryNewKey continues with a new safe key that was interrupted, or that waited for a
// process.
func (s *Service) carryNewKey(ctx context.Context) error {
	if s.Safe == nil || s.Safe.Fixed() {
		return nil
	}
	marks, err := s.store.SafeMarks(ctx, s.Safe.Mark())
	if err != nil || s.Safe.SafeKeys() == 1 && marks.Wanted == "" {
		return err
	}
	ctx, release, ok, err := s.store.Lock(ctx, "new safe key")
	if err != nil || !ok {
		return err
	}
	defer release()
	if err := s.Safe.Reload(); err != nil {
		return err
	}
	if marks.Wanted != "" && s.Safe.Mark() != marks.Wanted {
		return lacksKey(marks.Wanted)
	}
	n, err := s.renew(ctx, 0)
	var waits *problem.Problem
	if errors.As(err, &waits) && waits.Code == "new-key-waits" {
		s.log.Info("a new safe key waits", "err", err)
		return nil
	}
	if err != nil {
		return err
	}
	return s.noteNewKey(ctx, s.journal.Entry(
		journal.ByService, "safe.new-key:resumed", "safe", s.Safe.Mark(), "",
		journal.Facts{"secrets": n},
	))
}

// listed writes names in a row, of many the first ones.
func listed(names []string) string {
	if more := len(names) - 10; more > 0 {
		return strings.Join(names[:10], ", ") + fmt.Sprintf(" and %d more", more)
	}
	return strings.Join(names, ", ")
}
