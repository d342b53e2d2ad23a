package outbound

import (
	"fmt"
	"io"
	"net/http"
)

// TooLongError is returned while a longer answer is read than was allowed.
type TooLongError struct{ Limit int64 }

func (e *TooLongError) Error() string {
	return fmt.Sprintf("the answer has over %d bytes, which is the limit", e.Limit)
}

// Bounded returns a transport whose answers end with a *TooLongError after limit bytes, for
// libraries that read whole answers.
func Bounded(inner http.RoundTripper, limit int64) http.RoundTripper { return bounded{inner, limit} }

type bounded struct {
	inner http.RoundTripper
	limit int64
}

// RoundTrip does what the inner transport does.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.inner.RoundTrip(r)
	if err == nil {
		answer.Body = &boundedBody{ReadCloser: answer.Body, left: b.limit, limit: b.limit}
	}
	return answer, err
}

type boundedBody struct {
	io.ReadCloser
	left, limit int64
}

// Read reads what is left, and one byte more to see whether that is all.
func (b *boundedBody) Read(p []byte) (int, error) {
	if int64(len(p)) > b.left+1 {
		p = p[:b.left+1]
	}
	n, err := b.ReadCloser.Read(p)
	if b.left -= int64(n); b.left < 0 {
		return n - 1, &TooLongError{b.limit}
	}
	return n, err
}
