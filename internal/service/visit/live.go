package visit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/text"
	"plumlatch/internal/core/visit"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

// The kinds of messages between a page and the service, beside what is typed and shown.
const (
	SignKind      = "sign"      // to the page: sign Data
	SignatureKind = "signature" // from the page: Data is the signature in the wire form
	RefusalKind   = "refusal"   // from the page: it does not sign, and Why
	WaitsKind     = "waits"     // to the page: what the opening waits for
	OpenKind      = "open"      // to the page: the login is open, and At is where its output goes on
	SizeKind      = "size"      // from the page
	SeenKind      = "seen"      // from the page: how many bytes of the output it has shown
	EndKind       = "end"       // to the page: How and Why
	LeaveKind     = "leave"     // from the page: the person is done
)

// Message is what a page and the service tell each other.
type Message struct {
	Kind, Why  string
	Data       []byte
	Cols, Rows int
	// Seen and At count the bytes of the output from its beginning.
	Seen, At int64
	How      visit.How
	Recorded bool
}

// Page is the page of a visit, as far as it is connected. All of its methods fail once it is not.
type Page interface {
	Tell(ctx context.Context, m Message) error
	Show(ctx context.Context, output []byte) error
	// Read returns a message, or what was typed.
	Read(ctx context.Context) (*Message, []byte, error)
}

const (
	// window is how many bytes of output are on their way to a page at most, and keep how many are kept for one that
	// comes back.
	window, keep = 512 << 10, 1 << 20
	chunk        = 32 << 10
	// mostTyped is how many bytes may wait for the machine to read them.
	mostTyped  = 4 << 20
	openWithin = 90 * time.Second
)

// live is a visit whose connection is in this process.
type live struct {
	s        *Service
	id       uuid.UUID
	v        record.VisitRecord
	actor    people.Actor
	ctx      context.Context
	cancel   context.CancelFunc
	recorder *recorder
	answers  chan Message

	mu         sync.Mutex
	changed    *sync.Cond
	page       *attached // nil while none is connected
	term       *sshio.Terminal
	session    *sshio.Session
	cols, rows int
	asked      bool // whether the page was asked to sign
	typing     []byte
	// output holds what was shown last, from the byte base on; seen is how far the page has come.
	output     []byte
	base, seen int64

	// transfers is how many files are under way.
	transfers int

	opened, typed, away time.Time
	over                bool
	how                 visit.How
	why                 string
}

// attached is a page that is connected.
type attached struct {
	Page
	cancel context.CancelFunc
}

// Attach connects a page with a visit until either is over: the first one opens it, later ones go on where it is. from
// is how many bytes of the output the page has shown already.
func (s *Service) Attach(ctx context.Context, actor people.Actor, id uuid.UUID, from int64, page Page) error {
	v, err := s.Store.VisitByID(ctx, id)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return noVisit
	case err != nil:
		return err
	case v.OperatorID != actor.ID || v.SessionID != actor.Session:
		return noVisit
	case v.State == visit.Ended:
		return &problem.Problem{Kind: problem.Gone, Code: "visit-over", Detail: "this visit is over"}
	}
	s.mu.Lock()
	l := s.live[id]
	s.mu.Unlock()
	if l == nil {
		if l, err = s.take(ctx, actor, v); err != nil {
			return err
		}
	}
	l.serve(ctx, from, page)
	return nil
}

// take has this process open a visit.
func (s *Service) take(ctx context.Context, actor people.Actor, v record.VisitRecord) (*live, error) {
	change := map[string]any{"state": visit.Opening, "seen_at": s.Now()}
	mine, err := s.Store.ChangeVisit(ctx, v.ID, []visit.State{visit.Asked}, change)
	if err != nil {
		return nil, err
	}
	if !mine {
		return nil, &problem.Problem{
			Kind:   problem.Unavailable,
			Code:   "visit-elsewhere",
			After:  1,
			Detail: "another process of the service has the connection of this visit",
			Remedy: "The page tries again",
		}
	}
	l := &live{s: s, id: v.ID, v: v, actor: actor, answers: make(chan Message, 1), cols: 80, rows: 24}
	l.changed = sync.NewCond(&l.mu)
	l.ctx, l.cancel = context.WithCancel(store.Unlimited(context.Background()))
	l.opened, l.typed = s.Now(), s.Now()
	if v.Recorded {
		l.recorder = &recorder{id: v.ID, store: s.Store, begun: s.Now(), now: s.Now}
		if l.recorder.by, err = s.recordingCipher(v); err != nil {
			return nil, errors.Join(err, s.ended(ctx, v, visit.Failed, "its recording cannot be encrypted", ""))
		}
	}
	s.mu.Lock()
	s.live[v.ID] = l
	s.mu.Unlock()
	s.done.Go(l.run)
	return l, nil
}

// run opens the login and passes its output on.
func (l *live) run() {
	ctx, cancel := context.WithTimeout(l.ctx, openWithin)
	defer cancel()
	guard := func(do func() error) error { return problem.Guard(l.s.Log, "a visit", do) }
	if err := guard(func() error { return l.open(ctx) }); err != nil {
		l.end(visit.Failed, text.Line(err.Error(), text.MaxLine), "")
		return
	}
	l.s.done.Go(func() {
		if err := guard(l.typeInto); err != nil {
			l.end(visit.Cut, text.Line(err.Error(), text.MaxLine), "")
		}
	})
	err := guard(l.pump)
	switch {
	case !errors.Is(err, io.EOF):
	case l.term.Broke():
		err = errors.New("the connection with the machine broke")
	default:
		l.end(visit.Left, "", "")
		return
	}
	l.end(visit.Cut, text.Line(err.Error(), text.MaxLine), "")
}

// open logs in and starts the shell.
func (l *live) open(ctx context.Context) error {
	s, v := l.s, l.v
	for !l.connected() { // the page that took the visit is about to be served
		select {
		case <-ctx.Done():
			return errors.New("the page went away")
		case <-time.After(5 * time.Millisecond):
		}
	}
	if v.KeyID == nil {
		return errors.New("the record of its key was deleted")
	}
	k, err := s.Store.KeyByID(ctx, *v.KeyID)
	if err != nil {
		return err
	}
	if err := l.awaitLine(ctx); err != nil {
		return err
	}
	login, i, err := s.Fleet.LoginNamed(ctx, fleet.LoginName(v.OSUser, v.InstanceName))
	if err != nil {
		return err
	}
	var signer ssh.Signer
	consented, unsigned := "", error(nil)
	if v.Way == visit.KeptKey {
		signer, consented, err = s.Keys.UseKept(l.actor.Within(ctx), l.actor, k, v.Reason)
	} else {
		signer, err = newPageSigner(k.Blob, func(data []byte) (signature []byte, err error) {
			signature, unsigned = l.ask(ctx, data)
			return signature, unsigned
		})
	}
	if err != nil {
		return err
	}
	l.tell(Message{Kind: WaitsKind, Why: "the SSH server of " + v.InstanceName})
	session, err := sshio.Login(l.ctx, s.Fleet.Target(i, login.OSUser), signer)
	if unsigned != nil {
		return unsigned
	}
	if err != nil {
		return inWords(err, k.Name, fleet.LoginName(v.OSUser, v.InstanceName))
	}
	l.mu.Lock()
	cols, rows := l.cols, l.rows
	l.mu.Unlock()
	inTime := context.AfterFunc(ctx, session.Close) // a server may never answer
	term, err := session.Terminal(cols, rows)
	if err != nil {
		session.Close()
		return err
	}
	if !inTime() {
		return fmt.Errorf("%s gives no terminal within %s", v.InstanceName, openWithin)
	}
	if err := l.recordOpened(ctx, k, session, consented); err != nil {
		session.Close()
		return err
	}
	l.mu.Lock()
	l.session, l.term, l.opened, l.typed = session, term, s.Now(), s.Now()
	over := l.over
	now := [2]int{l.cols, l.rows}
	l.changed.Broadcast()
	l.mu.Unlock()
	if over {
		session.Close()
		return errors.New("it was ended while it opened")
	}
	if now != [2]int{cols, rows} {
		_ = term.Resize(now[0], now[1])
	}
	l.tell(Message{Kind: OpenKind, Recorded: v.Recorded})
	return nil
}

// recordOpened records the login: who, where and by which key, and what it proves.
func (l *live) recordOpened(ctx context.Context, k record.Key, session *sshio.Session, consented string) error {
	s, v := l.s, l.v
	now := s.Now().Truncate(time.Microsecond)
	if l.recorder != nil {
		l.mu.Lock()
		cols, rows := l.cols, l.rows
		l.mu.Unlock()
		l.recorder.head(cols, rows, now, fleet.LoginName(v.OSUser, v.InstanceName))
	}
	return s.Store.InTx(ctx, func(tx *store.Store) error {
		change := map[string]any{"state": visit.Open, "opened_at": now, "seen_at": now}
		opened, err := tx.ChangeVisit(ctx, v.ID, []visit.State{visit.Opening}, change)
		if err != nil {
			return err
		}
		if !opened {
			return errors.New("it was ended while it opened")
		}
		l.mu.Lock()
		l.v.OpenedAt = &now
		l.mu.Unlock()
		if v.Way == visit.OwnKey { // the person has just signed with its private key
			host := ssh.FingerprintSHA256(session.HostKey)
			if err := tx.AddProof(ctx, record.Proof{
				ID: store.NewID(), Kind: "entry", KeyID: k.ID, LoginID: &v.LoginID, At: now, Person: v.Person, HostKey: host,
			}); err != nil {
				return err
			}
			if err := s.Keys.TakeOver(ctx, tx, l.actor, k); err != nil {
				return err
			}
		}
		return tx.Note(ctx, journal.OnKeys(s.Journal.Entry(
			l.actor.By(), "visit.open", "login", fleet.LoginName(v.OSUser, v.InstanceName), v.Reason,
			journal.Facts{
				"key": k.Name, "way": string(v.Way), "address": v.Address, "recorded": v.Recorded, "consent_by": consented,
			},
		), k.Name))
	})
}

// awaitLine waits until the line of a visit's own key is in place.
func (l *live) awaitLine(ctx context.Context) error {
	if l.v.RunID == nil {
		return nil
	}
	l.tell(Message{Kind: WaitsKind, Why: "the line of the key for this visit"})
	var last record.Run
	done := errors.New("the run has ended")
	err := l.s.Runs.Watch(ctx, *l.v.RunID, 0, func(r record.Run) error {
		if last = r; r.EndedAt != nil {
			return done
		}
		return nil
	})
	switch {
	case last.EndedAt == nil:
		return fmt.Errorf("the line of its key was not placed in time: %w", err)
	case last.Error != "":
		return fmt.Errorf("the line of its key was not placed: %s", last.Error)
	}
	return nil
}

// ask has the page sign, once in a visit.
func (l *live) ask(ctx context.Context, data []byte) ([]byte, error) {
	l.mu.Lock()
	again := l.asked
	l.asked = true
	l.mu.Unlock()
	if again {
		return nil, errors.New("the page has signed for this visit already")
	}
	l.tell(Message{Kind: SignKind, Data: data})
	select {
	case <-ctx.Done():
		return nil, errors.New("the page did not sign in time")
	case m := <-l.answers:
		if m.Kind == RefusalKind {
			return nil, fmt.Errorf("the page does not sign: %s", text.Line(m.Why, text.MaxLine))
		}
		return m.Data, nil
	}
}

func (l *live) connected() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.page != nil
}

// tell tells the page, if one is connected; one that is not is told when it comes.
func (l *live) tell(m Message) {
	l.mu.Lock()
	page := l.page
	l.mu.Unlock()
	if page == nil {
		return
	}
	ctx, cancel := context.WithTimeout(l.ctx, 10*time.Second)
	defer cancel()
	if page.Tell(ctx, m) != nil {
		page.cancel()
	}
}

// pump takes the output of the machine, no faster than the page shows it: while the page is away, what writes it waits.
func (l *live) pump() error {
	b := make([]byte, chunk)
	for {
		n, err := l.term.Read(b)
		if n > 0 {
			l.recorder.add(visit.Shown, b[:n])
			l.mu.Lock()
			for !l.over && l.base+int64(len(l.output))-l.seen > window {
				l.changed.Wait()
			}
			l.output = append(l.output, b[:n]...)
			if more := len(l.output) - keep; more > 0 {
				l.output = append(l.output[:0], l.output[more:]...)
				l.base += int64(more)
			}
			l.changed.Broadcast()
			l.mu.Unlock()
			if err := l.recorder.keep(l.ctx, true); err != nil {
				return fmt.Errorf("the recording cannot be kept: %w", err)
			}
		}
		if err != nil {
			return err
		}
	}
}

// typeInto passes on what is typed.
func (l *live) typeInto() error {
	for {
		l.mu.Lock()
		for len(l.typing) == 0 && !l.over {
			l.changed.Wait()
		}
		data := l.typing
		l.typing = nil
		over := l.over
		l.mu.Unlock()
		if over {
			return nil
		}
		if _, err := l.term.Write(data); err != nil {
			return nil // the output ends as well, and says why
		}
	}
}

// serve connects a page until it goes, or the visit is over.
func (l *live) serve(ctx context.Context, from int64, page Page) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	me := &attached{page, cancel}
	l.mu.Lock()
	if l.page != nil {
		l.page.cancel()
	}
	l.page, l.away = me, time.Time{}
	end := l.base + int64(len(l.output))
	if from < l.base || from > end {
		from = l.base
	}
	l.seen = from
	open := l.term != nil
	l.changed.Broadcast()
	l.mu.Unlock()
	stop := context.AfterFunc(ctx, func() {
		l.mu.Lock()
		l.changed.Broadcast()
		l.mu.Unlock()
	})
	defer stop()
	if open && page.Tell(ctx, Message{Kind: OpenKind, Recorded: l.v.Recorded, At: from}) != nil {
		cancel()
	}
	var sending sync.WaitGroup
	sending.Go(func() {
		defer cancel()
		l.send(ctx, me, from)
	})
	l.listen(ctx, page)
	cancel()
	sending.Wait()
	l.mu.Lock()
	last := l.page == me
	if last {
		l.page, l.away = nil, l.s.Now()
	}
	early := last && l.term == nil && !l.over
	l.changed.Broadcast()
	l.mu.Unlock()
	if early {
		l.end(visit.Failed, "the page went away", "")
	}
}

// send shows the page the output, until it is gone or another is there in its place.
func (l *live) send(ctx context.Context, me *attached, at int64) {
	for {
		l.mu.Lock()
		for at == l.base+int64(len(l.output)) && !l.over && l.page == me && ctx.Err() == nil {
			l.changed.Wait()
		}
		if l.page != me || ctx.Err() != nil {
			l.mu.Unlock()
			return
		}
		at = max(at, l.base)
		next := l.output[at-l.base:]
		next = append([]byte(nil), next[:min(len(next), chunk)]...)
		over := Message{Kind: EndKind, How: l.how, Why: l.why}
		l.mu.Unlock()
		if len(next) == 0 {
			_ = me.Tell(ctx, over)
			return
		}
		if me.Show(ctx, next) != nil {
			return
		}
		at += int64(len(next))
	}
}

// listen takes what the page says, until it is gone.
func (l *live) listen(ctx context.Context, page Page) {
	for {
		m, typed, err := page.Read(ctx)
		if err != nil {
			return
		}
		if m == nil {
			if !l.takeTyped(typed) {
				return
			}
			continue
		}
		switch m.Kind {
		case SignatureKind, RefusalKind:
			select {
			case l.answers <- *m:
			default: // nobody asked
			}
		case SizeKind:
			l.resize(m.Cols, m.Rows)
		case SeenKind:
			l.mu.Lock()
			if end := l.base + int64(len(l.output)); m.Seen > l.seen && m.Seen <= end {
				l.seen = m.Seen
				l.changed.Broadcast()
			}
			l.mu.Unlock()
		case LeaveKind:
			l.end(visit.Left, "", "")
			return
		}
	}
}

// takeTyped keeps what was typed until the machine reads it; false where that is more than is kept.
func (l *live) takeTyped(data []byte) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.term == nil {
		return true // there is nothing to type into yet
	}
	if len(l.typing)+len(data) > mostTyped {
		return false
	}
	l.recorder.add(visit.Typed, data)
	l.typed = l.s.Now()
	l.typing = append(l.typing, data...)
	l.changed.Broadcast()
	return true
}

func (l *live) resize(cols, rows int) {
	cols, rows = sshio.TerminalSize(cols, rows)
	l.mu.Lock()
	same := l.cols == cols && l.rows == rows
	l.cols, l.rows = cols, rows
	term := l.term
	l.mu.Unlock()
	if same || term == nil {
		return
	}
	l.recorder.resized(cols, rows)
	_ = term.Resize(cols, rows) // a window that stays as it is harms nothing
}

func (l *live) facts() visit.Facts {
	l.mu.Lock()
	defer l.mu.Unlock()
	return visit.Facts{Opened: l.opened, Typed: l.typed, Away: l.away, Recorded: l.recorder.size()}
}

// end ends the visit, once, and records that.
func (l *live) end(how visit.How, why, by string) {
	l.mu.Lock()
	if l.over {
		l.mu.Unlock()
		return
	}
	if l.term == nil && how == visit.Cut {
		how = visit.Failed
	}
	l.over, l.how, l.why = true, how, why
	session, v := l.session, l.v
	l.changed.Broadcast()
	l.mu.Unlock()
	if session != nil {
		session.Close()
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(l.ctx), 10*time.Second)
	defer cancel()
	if err := l.recorder.keep(ctx, false); err != nil {
		l.s.Log.Error("keep the end of a recording", "visit", l.id, "err", err)
	}
	if err := l.s.ended(ctx, v, how, why, by); err != nil {
		l.s.Log.Error("record the end of a visit", "visit", l.id, "err", err)
	}
	l.s.mu.Lock()
	delete(l.s.live, l.id)
	l.s.mu.Unlock()
	l.cancel()
}

// inWords says what a login that failed means for the person.
func inWords(err error, key, login string) error {
	switch {
	case errors.Is(err, sshio.ErrHostKey):
		return fmt.Errorf("%w; nothing was signed. Find out why it changed before anything else", err)
	case errors.Is(err, sshio.ErrRefused):
		return fmt.Errorf("the SSH server does not let %s in to %s", key, login)
	}
	return err
}
