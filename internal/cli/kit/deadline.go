package kit

import (
	"context"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// How long the service may take to take a connection, to begin its answer, to give the whole of it, and to say
// something in a stream, which is opened again then.
const (
	dialWithin   = 15 * time.Second
	answerWithin = 2 * time.Minute
	wholeWithin  = 10 * time.Minute
	streamWithin = 2 * time.Minute
)

func newHTTPClient(dialWithin, answerWithin time.Duration) *http.Client {
	return &http.Client{Transport: &deadlines{whole: wholeWithin, idle: streamWithin, next: paced{&http.Transport{
		Proxy:                 http.ProxyFromEnvironment,
		DialContext:           (&net.Dialer{Timeout: dialWithin}).DialContext,
		TLSHandshakeTimeout:   dialWithin,
		ResponseHeaderTimeout: answerWithin, ForceAttemptHTTP2: true, MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute,
	}}}}
}

// paced asks again where the service says that it was asked too often, and to come back within a second or two.
type paced struct{ next http.RoundTripper }

const (
	mostAgain   = 5
	longestWait = 2 * time.Second
)

func (p paced) RoundTrip(r *http.Request) (*http.Response, error) {
	for again := 0; ; again++ {
		answer, err := p.next.RoundTrip(r)
		if err != nil || answer.StatusCode != http.StatusTooManyRequests || again == mostAgain {
			return answer, err
		}
		seconds, err := strconv.Atoi(answer.Header.Get("Retry-After"))
		wait := time.Duration(seconds) * time.Second
		if err != nil || wait <= 0 || wait > longestWait || r.Body != nil && r.GetBody == nil {
			return answer, nil
		}
		answer.Body.Close()
		select {
		case <-r.Context().Done():
			return nil, r.Context().Err()
		case <-time.After(wait):
		}
		if r = r.Clone(r.Context()); r.GetBody != nil {
			if r.Body, err = r.GetBody(); err != nil {
				return nil, err
			}
		}
	}
}

// deadlines gives every call an end: the whole answer within a time, and for streams something to read within one.
type deadlines struct {
	whole, idle time.Duration
	next        http.RoundTripper
}

func (d *deadlines) RoundTrip(r *http.Request) (*http.Response, error) {
	ctx, cancel := context.WithCancel(r.Context())
	end := time.AfterFunc(d.whole, cancel)
	answer, err := d.next.RoundTrip(r.WithContext(ctx))
	if err != nil {
		end.Stop()
		cancel()
		return nil, err
	}
	body := &endingBody{ReadCloser: answer.Body, end: end, cancel: cancel}
	if strings.HasPrefix(answer.Header.Get("Content-Type"), "text/event-stream") {
		body.idle = d.idle
		end.Reset(d.idle)
	}
	answer.Body = body
	return answer, nil
}

// endingBody is the body of an answer whose reading has an end.
type endingBody struct {
	io.ReadCloser
	end    *time.Timer
	idle   time.Duration // of a stream; 0 for what has a whole
	cancel context.CancelFunc
}

func (b *endingBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.idle > 0 && n > 0 {
		b.end.Reset(b.idle)
	}
	return n, err
}

func (b *endingBody) Close() error {
	b.end.Stop()
	defer b.cancel()
	return b.ReadCloser.Close()
}
