package faraway

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"testing"
	"time"
)

// echo answers with what comes, at a distance, until the test ends.
func echo(t *testing.T, d Distance) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	far := Listener(l, d)
	t.Cleanup(func() { far.Close() })
	go func() {
		for {
			c, err := far.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_, _ = io.Copy(c, c)
			}()
		}
	}()
	return l.Addr().String()
}

// TestWhatIsSentComesInOrderAndWhole sends more than fits on the way, in pieces of any size, with jitter.
func TestWhatIsSentComesInOrderAndWhole(t *testing.T) {
	t.Parallel()
	for _, d := range []Distance{
		{}, {Each: time.Millisecond}, {Each: 2 * time.Millisecond, Jitter: 3 * time.Millisecond},
	} {
		c, err := net.Dial("tcp", echo(t, d))
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		sent := make([]byte, 2*mostOnTheWay+12345)
		for n := range sent {
			sent[n] = byte(rand.IntN(256))
		}
		go func() {
			for rest := sent; len(rest) > 0; {
				n := min(len(rest), 1+rand.IntN(100_000))
				if _, err := c.Write(rest[:n]); err != nil {
					t.Error(err)
					return
				}
				rest = rest[n:]
			}
			_ = c.(*net.TCPConn).CloseWrite()
		}()
		got, err := io.ReadAll(c)
		if err != nil || !bytes.Equal(got, sent) {
			t.Errorf("%+v: %d bytes came of %d, %v", d, len(got), len(sent), err)
		}
	}
}

// TestNothingComesBeforeItsTime asks a few times and looks that each answer took a round trip and the first, which
// has the handshake before it, two.
func TestNothingComesBeforeItsTime(t *testing.T) {
	t.Parallel()
	d := Distance{Each: 20 * time.Millisecond}
	begun := time.Now()
	c, err := net.Dial("tcp", echo(t, d))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	b := make([]byte, 1)
	for n := range 3 {
		if _, err := c.Write([]byte{'x'}); err != nil {
			t.Fatal(err)
		}
		if _, err := c.Read(b); err != nil {
			t.Fatal(err)
		}
		least := 2 * d.Each
		if n == 0 {
			least = 4 * d.Each
		}
		if took := time.Since(begun); took < least {
			t.Errorf("answer %d came after %v, a round trip is %v", n, took, 2*d.Each)
		}
		begun = time.Now()
	}
}

func TestADeadlineAndAnEndAreKept(t *testing.T) {
	t.Parallel()
	here, there := net.Pipe()
	defer there.Close()
	c := Conn(here, Distance{Each: time.Millisecond})
	if err := c.SetReadDeadline(time.Now().Add(5 * time.Millisecond)); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("nothing came: %v", err)
	}
	if err := c.SetReadDeadline(time.Time{}); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		_, err := c.Read(make([]byte, 1))
		done <- err
	}()
	c.Close()
	if err := <-done; !errors.Is(err, net.ErrClosed) {
		t.Errorf("closed while it read: %v", err)
	}
	if _, err := c.Write([]byte("x")); err == nil {
		t.Error("it was written to after its end")
	}
}

func TestParseReadsARoundTrip(t *testing.T) {
	for text, want := range map[string]Distance{
		"40ms":      {Each: 20 * time.Millisecond},
		"150ms+5ms": {Each: 75 * time.Millisecond, Jitter: 5 * time.Millisecond},
		"0":         {},
	} {
		if got, err := Parse(text); err != nil || got != want {
			t.Errorf("%q: %+v %v, want %+v", text, got, err, want)
		}
	}
	for _, text := range []string{"", "40", "-1ms", "40ms+", "40ms+-1ms", "2m", "x"} {
		if got, err := Parse(text); err == nil {
			t.Errorf("%q: %+v", text, got)
		}
	}
}
