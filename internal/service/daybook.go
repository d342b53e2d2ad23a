package service

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"plumlatch/internal/store"
)

// newID returns an id that grows with time, so that indexes stay compact.
func newID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// entry makes a line of the daybook whose outcome is done.
func (s *Service) entry(actor Actor, action, subjectKind, subject, why, sentence string, args ...any) store.Entry {
	return store.Entry{
		At: s.now(), Person: actor.Name, Via: actor.Via, Action: action, SubjectKind: subjectKind, Subject: subject,
		Why: why, Outcome: "done", Sentence: fmt.Sprintf(sentence, args...), RequestID: actor.RequestID,
	}
}

// Daybook returns one page of entries, newest first.
func (s *Service) Daybook(ctx context.Context, f store.EntryFilter, p store.Page) (store.List[store.Entry], error) {
	l, err := s.store.Daybook(ctx, f, p)
	return l, pageProblem(err)
}

// IdempotencyKey names one request of a caller. An empty Key names none.
type IdempotencyKey struct {
	Key string
	// Request is what was asked, to tell another request under the same key.
	Request []byte
}

// once makes sure that the request under the key is done one time. It returns
// the subject of the earlier request, or "" where this is the first.
func (s *Service) once(ctx context.Context, tx *store.Store, actor Actor, k IdempotencyKey, subject string) (string, error) {
	if k.Key == "" {
		return "", nil
	}
	sum := hashSecret(string(k.Request))
	earlier, err := tx.Remember(ctx, store.Idempotency{OperatorID: actor.ID, Key: k.Key, Request: sum, Subject: subject, CreatedAt: s.now()})
	if err != nil || earlier == nil {
		return "", err
	}
	if string(earlier.Request) != string(sum) {
		return "", &Problem{Kind: Invalid, Code: "idempotency-key-reused", Field: "Idempotency-Key", Detail: "this Idempotency-Key was used for another request", Remedy: "Use a new one for each request"}
	}
	return earlier.Subject, nil
}

var errOnlyAsked = errors.New("it was only asked")

// before returns the subject of the earlier request under the key, "" where there is
// none, for what cannot be judged anew once it was done. Nothing is remembered.
func (s *Service) before(ctx context.Context, actor Actor, k IdempotencyKey) (subject string, err error) {
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if subject, err = s.once(ctx, tx, actor, k, ""); err != nil {
			return err
		}
		return errOnlyAsked
	})
	if errors.Is(err, errOnlyAsked) {
		err = nil
	}
	return subject, err
}
