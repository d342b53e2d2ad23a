package outbound

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
)

func TestAnAnswerIsReadUpToItsLimit(t *testing.T) {
	long := 0
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		io.WriteString(w, strings.Repeat("x", long))
	}))
	defer server.Close()
	client := http.Client{Transport: Bounded(http.DefaultTransport, 1000)}
	for _, long = range []int{0, 1, 999, 1000, 1001, 1_000_000} {
		r, err := client.Get(server.URL)
		if err != nil {
			t.Fatal(err)
		}
		data, err := io.ReadAll(r.Body)
		r.Body.Close()
		var tooLong *TooLongError
		if errors.As(err, &tooLong) != (long > 1000) || len(data) != min(long, 1000) {
			t.Errorf("of %d bytes %d are read, %v", long, len(data), err)
		}
	}
}
