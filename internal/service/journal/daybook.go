package journal

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/daybook"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/secrets"
	"plumlatch/internal/store"
)

// ByService is the service itself as the one who acts.
var ByService = By{Name: "service", Via: "service"}

// By is who does what the daybook tells of, and by which way.
type By struct {
	Name string
	// Via is api, cli, console or service.
	Via string
	// RequestID is the call's, Run the run's in which the wish is carried out.
	RequestID string
	Run       uuid.UUID
}

// ForRun is who asked for the run, by whose work it is now.
func ForRun(run record.Run) By {
	return By{Name: run.RequestedBy, Via: "service", Run: run.ID}
}

// Facts are the details that the sentence of an entry is made from.
type Facts = map[string]any

// Entry makes a line of the daybook whose outcome is done. It tells what sentences.txt has under the
// name, with the facts, and is about its subject, and about the run that it is done in.
func (s *Service) Entry(by By, told, subjectKind, subject, why string, facts Facts) record.Entry {
	e := record.Entry{
		At:          s.now(),
		Person:      by.Name,
		Via:         by.Via,
		Action:      daybook.Action(told),
		SubjectKind: subjectKind,
		Subject:     subject,
		Why:         why,
		Outcome:     "done",
		Told:        told,
		Details:     facts,
		RequestID:   by.RequestID,
		About:       []string{subjectKind + ":" + subject},
	}
	if _, instance, ok := strings.Cut(subject, "@"); ok && subjectKind == "login" {
		e.About = append(e.About, "instance:"+instance)
	}
	if by.Run != (uuid.UUID{}) {
		e.About = append(e.About, "run:"+by.Run.String())
	}
	return e
}

// Instead makes an entry tell of another end of what it was made for.
func Instead(e *record.Entry, outcome, told string) {
	e.Outcome, e.Told, e.Action = outcome, told, daybook.Action(told)
}

// OnKeys adds the keys that an entry is also about.
func OnKeys(e record.Entry, names ...string) record.Entry {
	for _, n := range names {
		if ref := "key:" + n; n != "" && !slices.Contains(e.About, ref) {
			e.About = append(e.About, ref)
		}
	}
	return e
}

// List returns one page of entries, newest first.
func (s *Service) List(ctx context.Context, f record.EntryFilter, p record.Page) (record.List[record.Entry], error) {
	l, err := s.store.Daybook(ctx, f, p)
	return l, problem.FromPage(err)
}

const (
	daybookPart = 1000 // entries read at once
	followPause = 500 * time.Millisecond
)

// Export tells of all entries that fit, oldest first.
func (s *Service) Export(ctx context.Context, f record.EntryFilter, tell func(record.Entry) error) error {
	select {
	case walks <- struct{}{}:
		defer func() { <-walks }()
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(walkWaits):
		return &problem.Problem{
			Kind:   problem.TooMany,
			Code:   "daybook-busy",
			After:  10,
			Detail: "others are going through the whole daybook right now",
			Remedy: "Try again in 10 seconds",
		}
	}
	_, err := s.tellEntries(ctx, f, 0, tell)
	return err
}

// walks are those that go through the whole daybook at this moment, in this process; each reads all of it.
var walks = make(chan struct{}, 2)

// walkWaits is for how long another waits for one of them to end.
const walkWaits = 5 * time.Second

func (s *Service) tellEntries(
	ctx context.Context, f record.EntryFilter, after int64, tell func(record.Entry) error,
) (last int64, err error) {
	for {
		entries, err := s.store.EntriesAfter(ctx, f, after, daybookPart)
		if err != nil {
			return after, err
		}
		for _, e := range entries {
			if err := tell(e); err != nil {
				return after, err
			}
			after = e.Seq
		}
		if len(entries) < daybookPart {
			return after, nil
		}
	}
}

// Watch tells of the entries behind the one with the number, and of those to
// come, until ctx or the service ends. after is -1 for only those to come.
func (s *Service) Watch(
	ctx context.Context, f record.EntryFilter, after int64, tell func(record.Entry) error,
) error {
	if after < 0 {
		var err error
		if after, err = s.store.LastEntry(ctx); err != nil {
			return err
		}
	}
	for {
		var err error
		if after, err = s.tellEntries(ctx, f, after, tell); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.stopping():
			return nil
		case <-time.After(followPause):
		}
	}
}

// Check is what going through the daybook came to.
type Check struct {
	Entries int64
	Head    daybook.Hash
	// Fault is the first entry that is not intact, nil if all do.
	Fault *daybook.Fault
	// Redacted are the entries whose details were taken away and of which a later one tells.
	Redacted []int64
	// Open is whether the role of the service could change the daybook.
	Open bool
}

// Check goes through the whole daybook, and compares it with an earlier head
// if one is given.
func (s *Service) Check(ctx context.Context, kept *daybook.Head) (Check, error) {
	ctx = store.Unlimited(ctx)
	c := daybook.Checker{Kept: kept}
	var out Check
	err := s.Export(ctx, record.EntryFilter{}, func(e record.Entry) error { return c.Add(e.Linked()) })
	if err == nil {
		err = c.End()
	}
	if errors.As(err, &out.Fault) {
		err = nil
	}
	out.Entries, out.Head = c.Head()
	out.Redacted = c.Redacted()
	if err != nil {
		return out, err
	}
	out.Open, err = s.store.DaybookOpen(ctx)
	return out, err
}

// SignedHead is the last entry's place in the chain, signed with the service's own key.
type SignedHead struct {
	daybook.Head
	PublicKey, Signature string
}

const (
	daybookKey  = "daybook"
	ServiceName = "plum latch"
)

// Head signs the head of the daybook as it is now.
func (s *Service) Head(ctx context.Context) (SignedHead, error) {
	ctx = store.Unlimited(ctx)
	signer, err := s.OwnKey(ctx, daybookKey)
	if err != nil {
		return SignedHead{}, err
	}
	last, err := s.store.Daybook(ctx, record.EntryFilter{}, record.Page{Limit: 1})
	if err != nil {
		return SignedHead{}, err
	}
	h := SignedHead{
		Head:      daybook.Head{Service: ServiceName, At: s.now().UTC().Truncate(time.Second)},
		PublicKey: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))),
	}
	for _, e := range last.Items {
		h.Seq = e.Seq
		h.Hash, _ = daybook.AsHash(e.Hash)
	}
	h.Signature, err = signature.Sign(signer, daybook.Namespace, []byte(h.Text()))
	return h, err
}

// IdempotencyKey names one request of a caller. An empty Key names none.
type IdempotencyKey struct {
	Key string
	// Request is what was asked, to tell another request under the same key.
	Request []byte
}

// Once makes sure that the request under the key is done one time. It returns
// the subject of the earlier request, or "" where this is the first.
func (s *Service) Once(
	ctx context.Context, tx *store.Store, operator uuid.UUID, k IdempotencyKey, subject string,
) (string, error) {
	if k.Key == "" {
		return "", nil
	}
	sum := secrets.Hash(string(k.Request))
	earlier, err := tx.Remember(
		ctx, record.Idempotency{OperatorID: operator, Key: k.Key, Request: sum, Subject: subject, CreatedAt: s.now()},
	)
	if err != nil || earlier == nil {
		return "", err
	}
	if string(earlier.Request) != string(sum) {
		return "", &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "idempotency-key-reused",
			Field:  "Idempotency-Key",
			Detail: "this Idempotency-Key was used for another request",
			Remedy: "Use a new one for each request",
		}
	}
	return earlier.Subject, nil
}

var ErrOnlyAsked = errors.New("it was only asked")

// Before returns the subject of the earlier request under the key, "" where there is
// none, for what cannot be judged again once it was done. Nothing is remembered.
func (s *Service) Before(ctx context.Context, operator uuid.UUID, k IdempotencyKey) (subject string, err error) {
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		if subject, err = s.Once(ctx, tx, operator, k, ""); err != nil {
			return err
		}
		return ErrOnlyAsked
	})
	if errors.Is(err, ErrOnlyAsked) {
		err = nil
	}
	return subject, err
}
