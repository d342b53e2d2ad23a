package cloud

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"plumlatch/internal/cloud/adapter"
	"plumlatch/internal/outbound"
)

// ErrCA is returned where certificate authorities cannot be read.
var ErrCA = errors.New("it holds no certificate in PEM")

// Adapter is where the adapter of a cloud is, and what it is spoken to with.
type Adapter struct {
	URL, Token string
	// CA is the certificate authorities in PEM, one of which the adapter's certificate must be of; "" for those of the
	// machine.
	CA string
}

// way sends what a client asks of a cloud to its adapter.
type way struct {
	base  *url.URL
	token string
	over  http.RoundTripper
}

// RoundTrip implements http.RoundTripper.
func (w way) RoundTrip(r *http.Request) (*http.Response, error) {
	out := r.Clone(r.Context())
	out.URL.Scheme, out.URL.Host, out.Host = w.base.Scheme, w.base.Host, ""
	out.URL.Path = strings.TrimSuffix(w.base.Path, "/") + r.URL.Path
	out.URL.RawPath = ""
	if r.URL.RawPath != "" {
		out.URL.RawPath = strings.TrimSuffix(w.base.EscapedPath(), "/") + r.URL.RawPath
	}
	out.Header.Set("Authorization", "Bearer "+w.token)
	return w.over.RoundTrip(out)
}

// Way returns what sends the calls of Over to the adapter; nothing is sent yet. A connection that does not come about
// within timeout is given up.
func (a Adapter) Way(timeout time.Duration) (http.RoundTripper, error) {
	base, err := url.Parse(a.URL)
	if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, fmt.Errorf("%q is no URL of an adapter", a.URL)
	}
	over := &http.Transport{
		DialContext:         outbound.Dialer(timeout).DialContext,
		MaxIdleConnsPerHost: 32,
		IdleConnTimeout:     time.Minute,
	}
	if a.CA != "" {
		pool := x509.NewCertPool()
		if !pool.AppendCertsFromPEM([]byte(a.CA)) {
			return nil, ErrCA
		}
		over.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	}
	return way{base, a.Token, over}, nil
}

// Connect returns the cloud whose adapter is at url; nothing is sent yet. A call that
// is not answered within timeout is given up.
func Connect(url, token string, timeout time.Duration) (*Cloud, error) {
	w, err := Adapter{URL: url, Token: token}.Way(timeout)
	if err != nil {
		return nil, fmt.Errorf("connect to the cloud: %w", err)
	}
	return Over(func(context.Context) (http.RoundTripper, error) { return w, nil }, timeout), nil
}

// found is a way that is looked for at each call.
type found func(context.Context) (http.RoundTripper, error)

// RoundTrip implements http.RoundTripper.
func (f found) RoundTrip(r *http.Request) (*http.Response, error) {
	w, err := f(r.Context())
	if err != nil {
		return nil, err
	}
	return w.RoundTrip(r)
}

// Over returns the cloud to whose adapter find finds the way at each call, and which does not answer where it finds
// none.
func Over(find func(context.Context) (http.RoundTripper, error), timeout time.Duration) *Cloud {
	client, err := adapter.NewClient(
		"http://adapter/v1",
		adapter.WithHTTPClient(&http.Client{
			Timeout: timeout, Transport: found(find),
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		}),
	)
	if err != nil {
		panic(err) // the address is the one above
	}
	return &Cloud{client, found(find), timeout}
}
