// Package faraway makes connections on one machine behave as if their ends were far apart: what is sent comes later,
// in order, by a given time with jitter. It does so in the process, without the kernel's help, for measuring and for
// tests; nothing is lost, and bandwidth is bounded by how much may be on its way alone.
package faraway

import (
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"strings"
	"sync"
	"time"
)

// Distance is how far apart the ends of a connection are. The zero Distance is none.
type Distance struct {
	// Each is for how long what is sent is on its way, in each direction: half a round trip.
	Each time.Duration
	// Jitter is by how much longer it is at most, by chance for each piece.
	Jitter time.Duration
}

// Parse reads a round trip such as 40ms, or 40ms+5ms with the jitter of each direction.
func Parse(text string) (Distance, error) {
	round, jitter, with := strings.Cut(text, "+")
	whole, err := time.ParseDuration(round)
	var d Distance
	if err == nil && with {
		d.Jitter, err = time.ParseDuration(jitter)
	}
	if err != nil || whole < 0 || d.Jitter < 0 || whole > time.Minute || d.Jitter > time.Minute {
		return Distance{}, fmt.Errorf("%q is no round trip: give a time such as 40ms, or 40ms+5ms with jitter", text)
	}
	d.Each = whole / 2
	return d, nil
}

// mostOnTheWay is how many bytes are on their way in one direction at most, as a window of TCP bounds them.
const mostOnTheWay = 4 << 20

// Listener delays what its connections carry. A connection comes as late as one does whose three packets of a handshake
// take that long (RFC 9293 section 3.5).
func Listener(l net.Listener, d Distance) net.Listener {
	if d == (Distance{}) {
		return l
	}
	far := &listener{Listener: l, d: d, came: make(chan accepted), over: make(chan struct{})}
	go far.run()
	return far
}

type accepted struct {
	conn net.Conn
	err  error
}

type listener struct {
	net.Listener
	d     Distance
	came  chan accepted
	over  chan struct{}
	close sync.Once
}

func (l *listener) run() {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			select {
			case l.came <- accepted{err: err}:
				if !errors.Is(err, net.ErrClosed) {
					continue
				}
			case <-l.over:
			}
			return
		}
		time.AfterFunc(3*l.d.Each, func() {
			select {
			case l.came <- accepted{conn: Conn(conn, l.d)}:
			case <-l.over:
				conn.Close()
			}
		})
	}
}

func (l *listener) Accept() (net.Conn, error) {
	select {
	case a := <-l.came:
		return a.conn, a.err
	case <-l.over:
		return nil, net.ErrClosed
	}
}

func (l *listener) Close() error {
	l.close.Do(func() { close(l.over) })
	return l.Listener.Close()
}

// Conn delays what a connection carries, both ways.
func Conn(c net.Conn, d Distance) net.Conn {
	if d == (Distance{}) {
		return c
	}
	f := &conn{Conn: c, in: newWay(d), out: newWay(d)}
	go f.take()
	go f.send()
	return f
}

type conn struct {
	net.Conn
	in, out *way
}

// take brings what comes into the way in.
func (c *conn) take() {
	for {
		b := make([]byte, 32<<10)
		n, err := c.Conn.Read(b)
		if n > 0 && !c.in.put(b[:n]) {
			return
		}
		if err != nil {
			c.in.end(err)
			return
		}
	}
}

// send brings what is on the way out to the other end.
func (c *conn) send() {
	for {
		b, err := c.out.next()
		if err != nil {
			if errors.Is(err, io.EOF) { // closed from here
				c.Conn.Close()
			}
			return
		}
		if _, err := c.Conn.Write(b); err != nil {
			c.out.end(err)
			return
		}
	}
}

func (c *conn) Read(b []byte) (int, error) { return c.in.read(b) }

func (c *conn) Write(b []byte) (int, error) {
	if !c.out.put(append([]byte(nil), b...)) {
		return 0, c.out.why(net.ErrClosed)
	}
	return len(b), nil
}

// Close ends the connection once what was written has come.
func (c *conn) Close() error {
	c.in.end(net.ErrClosed)
	c.out.end(io.EOF)
	return nil
}

// SetLinger is that of TCP (SO_LINGER), for the end of the connection.
func (c *conn) SetLinger(seconds int) error {
	if t, ok := c.Conn.(*net.TCPConn); ok {
		return t.SetLinger(seconds)
	}
	return nil
}

func (c *conn) SetDeadline(t time.Time) error {
	c.in.until(t)
	return nil
}

func (c *conn) SetReadDeadline(t time.Time) error { return c.SetDeadline(t) }

// SetWriteDeadline does nothing: what is written is on its way at once.
func (c *conn) SetWriteDeadline(time.Time) error { return nil }

// piece is what was sent at one time, and when it comes.
type piece struct {
	data []byte
	at   time.Time
}

// way is one direction.
type way struct {
	d Distance

	mu       sync.Mutex
	changed  *sync.Cond
	pieces   []piece
	bytes    int
	last     time.Time // when the last piece comes, which none overtakes
	err      error     // after the pieces
	deadline time.Time
}

func newWay(d Distance) *way {
	w := &way{d: d}
	w.changed = sync.NewCond(&w.mu)
	return w
}

// put sends data on its way; false where the way has ended.
func (w *way) put(data []byte) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for w.bytes > mostOnTheWay && w.err == nil {
		w.changed.Wait()
	}
	if w.err != nil {
		return false
	}
	at := time.Now().Add(w.d.Each)
	if w.d.Jitter > 0 {
		at = at.Add(rand.N(w.d.Jitter))
	}
	if at.Before(w.last) {
		at = w.last
	}
	w.last = at
	w.pieces, w.bytes = append(w.pieces, piece{data, at}), w.bytes+len(data)
	w.changed.Broadcast()
	return true
}

// end ends the way, after what is on it.
func (w *way) end(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err == nil {
		w.err = err
	}
	w.changed.Broadcast()
}

func (w *way) until(t time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.deadline = t
	w.changed.Broadcast()
}

func (w *way) why(otherwise error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.err != nil && !errors.Is(w.err, io.EOF) {
		return w.err
	}
	return otherwise
}

// wait waits until the first piece has come, and leaves the lock to the caller.
func (w *way) wait() error {
	for {
		now := time.Now()
		var next time.Time
		switch {
		case errors.Is(w.err, net.ErrClosed):
			return w.err
		case len(w.pieces) > 0 && !w.pieces[0].at.After(now):
			return nil
		case !w.deadline.IsZero() && !w.deadline.After(now):
			return os.ErrDeadlineExceeded
		case len(w.pieces) > 0:
			next = w.pieces[0].at
		case w.err != nil:
			return w.err
		}
		if !w.deadline.IsZero() && (next.IsZero() || w.deadline.Before(next)) {
			next = w.deadline
		}
		if !next.IsZero() {
			wake := time.AfterFunc(next.Sub(now), w.changed.Broadcast)
			w.changed.Wait()
			wake.Stop()
			continue
		}
		w.changed.Wait()
	}
}

// next is the first piece, once it has come.
func (w *way) next() ([]byte, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.wait(); err != nil {
		return nil, err
	}
	data := w.pieces[0].data
	w.pieces, w.bytes = w.pieces[1:], w.bytes-len(data)
	w.changed.Broadcast()
	return data, nil
}

func (w *way) read(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.wait(); err != nil {
		return 0, err
	}
	n := copy(b, w.pieces[0].data)
	if w.pieces[0].data = w.pieces[0].data[n:]; len(w.pieces[0].data) == 0 {
		w.pieces = w.pieces[1:]
	}
	w.bytes -= n
	w.changed.Broadcast()
	return n, nil
}
