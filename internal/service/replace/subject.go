package replace

import (
	"context"
	"errors"
	"maps"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/store"
)

// subject is what a run of one item works on.
type subject struct {
	login    record.LoginToSweep
	old, New record.Key
}

// Taken is what somebody who takes the steps of a run from their own machine works on.
type Taken struct {
	Login    record.LoginToSweep
	Old, New record.Key
	Phase    rotation.Phase
}

// taken returns what the run of one item works on.
func (s *Service) Taken(ctx context.Context, run record.Run) (Taken, error) {
	w, err := WorkOf(run)
	if err != nil {
		return Taken{}, err
	}
	r, err := (&rotating{Service: s, run: run, work: w}).subject(ctx)
	return Taken{Login: r.login, Old: r.old, New: r.New, Phase: w.Phase}, err
}

// Prepare reads what the runs work on for all of them at once. What it does not come to, each reads
// itself.
func (s *Service) Prepare(ctx context.Context, ids []uuid.UUID) {
	list, err := s.store.RunsByID(ctx, ids)
	if err != nil {
		return
	}
	if of, err := subjectsOf(ctx, s.store, list); err == nil {
		s.prepared.put(of)
	}
}

// begin counts the run as one at work and returns what it works on.
func (e *rotating) begin(ctx context.Context) (subject, error) {
	if !e.counted {
		e.counted = true
		e.busy.Add(1)
	}
	return e.subject(ctx)
}

// subjectIn is subject where a transaction is open.
func (e *rotating) subjectIn(ctx context.Context, tx *store.Store) (subject, error) {
	if e.about != nil {
		return *e.about, nil
	}
	all, err := subjectsOf(ctx, tx, []record.Run{e.run})
	if err != nil {
		return subject{}, err
	}
	r, there := all[e.run.ID]
	if !there {
		return r, errors.New("the record of one of its keys is gone")
	}
	return r, nil
}

func (e *rotating) subject(ctx context.Context) (subject, error) {
	if e.about != nil {
		return *e.about, nil
	}
	if r, there := e.prepared.take(e.run.ID); there {
		e.about = &r
		return r, nil
	}
	all, err := subjectsOf(ctx, e.store, []record.Run{e.run})
	if err != nil {
		return subject{}, err
	}
	r, there := all[e.run.ID]
	if !there {
		return r, errors.New("the record of one of its keys is gone")
	}
	e.about = &r
	return r, nil
}

// subjectsOf reads what runs work on, in a few statements whatever their number. Runs of
// which the record of a key is gone are not in it.
func subjectsOf(ctx context.Context, from *store.Store, list []record.Run) (map[uuid.UUID]subject, error) {
	facts := make([][3]uuid.UUID, len(list)) // login, old and new key
	var logins, keys []uuid.UUID
	for n, run := range list {
		w, err := WorkOf(run)
		if err != nil {
			return nil, err
		}
		facts[n] = [3]uuid.UUID{w.Login, w.Old, w.New}
		logins, keys = append(logins, facts[n][0]), append(keys, facts[n][1], facts[n][2])
	}
	found, err := from.LoginsToSweep(ctx, logins)
	if err != nil {
		return nil, err
	}
	records, err := from.KeysByID(ctx, keys)
	if err != nil {
		return nil, err
	}
	byLogin, byKey := map[uuid.UUID]record.LoginToSweep{}, map[uuid.UUID]record.Key{}
	for _, l := range found {
		byLogin[l.Login.ID] = l
	}
	for _, k := range records {
		byKey[k.ID] = k
	}
	out := map[uuid.UUID]subject{}
	for n, run := range list {
		l, old, next := byLogin[facts[n][0]], byKey[facts[n][1]], byKey[facts[n][2]]
		if l.Login.ID != uuid.Nil && old.ID != uuid.Nil && next.ID != uuid.Nil {
			out[run.ID] = subject{l, old, next}
		}
	}
	return out, nil
}

// preparedFor is for how long what was read for several runs at once is good for one.
const preparedFor = 5 * time.Second

// preparations keep what runs work on from when they are started until a worker takes
// them up. What is lost or old is read again.
type preparations struct {
	mu sync.Mutex
	of map[uuid.UUID]preparation
}

type preparation struct {
	subject
	at time.Time
}

func (p *preparations) put(of map[uuid.UUID]subject) {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.of, func(_ uuid.UUID, r preparation) bool { return time.Since(r.at) > preparedFor })
	if p.of == nil {
		p.of = map[uuid.UUID]preparation{}
	}
	for run, r := range of {
		p.of[run] = preparation{r, time.Now()}
	}
}

func (p *preparations) take(run uuid.UUID) (subject, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	r, there := p.of[run]
	delete(p.of, run)
	return r.subject, there && time.Since(r.at) <= preparedFor
}
