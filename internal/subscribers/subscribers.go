// Package subscribers sends what happened to programs elsewhere: to webhooks as CloudEvents 1.0
// in JSON (the structured mode of its HTTP binding), signed by HMAC-SHA256 as HTTP
// message signatures (RFC 9421) over a digest of the content (RFC 9530), and to syslog (RFC 5424,
// over TCP with octet counting as in RFC 6587, over TLS as in RFC 5425, or over UDP).
package subscribers

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"plumlatch/internal/core/text"
	"plumlatch/internal/outbound"
)

// Timeout is for how long one delivery may take.
const Timeout = 10 * time.Second

// Event is one thing that happened.
type Event struct {
	// ID is the same however often it is sent.
	ID   string
	Type string // such as plumlatch.login-shut
	// Source is who tells of it; Subject what it is about.
	Source, Subject string
	At              time.Time
	// Sentence says it in words; Data is the rest, for programs.
	Sentence string
	Data     any
	// Bad is whether it is something that should not be.
	Bad bool
}

// Address is where a subscriber is.
type Address struct{ url *url.URL }

// ReadAddress reads http://, https://, udp://, tcp:// and tls:// addresses.
func ReadAddress(s string) (Address, error) {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" {
		return Address{}, errors.New("an address is written as in https://hooks.example/latch or tcp://log.example:601")
	}
	switch u.Scheme {
	case "http", "https":
		if u.User != nil {
			return Address{}, errors.New(
				"a password in the address would be shown to everybody who reads it; the signature says who sends",
			)
		}
	case "udp", "tcp", "tls":
		if u.Port() == "" || strings.Trim(u.Path, "/") != "" {
			return Address{}, errors.New("a syslog address has a port and no path, as in udp://log.example:514")
		}
	default:
		return Address{}, fmt.Errorf("%q is not http, https, udp, tcp or tls", u.Scheme)
	}
	return Address{u}, nil
}

// Webhook reports whether events go there over HTTP, and are signed.
func (a Address) Webhook() bool { return a.url.Scheme == "http" || a.url.Scheme == "https" }

// Send delivers one event. name and secret are for the signature of a webhook.
func Send(ctx context.Context, a Address, name string, secret []byte, e Event, now time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, Timeout)
	defer cancel()
	if a.Webhook() {
		return post(ctx, a.url.String(), name, secret, e, now)
	}
	return log(ctx, a.url, e)
}

var client = &http.Client{
	Transport: &http.Transport{
		DialContext:         outbound.Dialer(Timeout).DialContext,
		MaxIdleConnsPerHost: 4,
		IdleConnTimeout:     time.Minute,
		ForceAttemptHTTP2:   true,
	},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func post(ctx context.Context, to, name string, secret []byte, e Event, now time.Time) error {
	body, err := json.Marshal(map[string]any{
		"specversion":     "1.0",
		"id":              e.ID,
		"source":          e.Source,
		"type":            e.Type,
		"subject":         e.Subject,
		"time":            e.At.UTC().Format(time.RFC3339Nano),
		"datacontenttype": "application/json", "data": e.Data,
	})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/cloudevents+json")
	r.Header.Set("User-Agent", "plumlatchd")
	Sign(r, body, name, secret, now)
	resp, err := client.Do(r)
	if err != nil {
		var u *url.Error // it would repeat the address
		if errors.As(err, &u) {
			err = u.Err
		}
		return err
	}
	defer resp.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(resp.Body, 64<<10)); err != nil {
		return err
	}
	if resp.StatusCode < 200 || resp.StatusCode > 299 {
		return fmt.Errorf("it answered %s", resp.Status)
	}
	return nil
}

// Sign puts the digest of the body and a signature by HMAC-SHA256 into the headers. The
// signature covers the method, the address and the digest; keyid is the subscriber's name.
func Sign(r *http.Request, body []byte, name string, secret []byte, now time.Time) {
	sum := sha256.Sum256(body)
	digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
	params := fmt.Sprintf(
		`("@method" "@target-uri" "content-digest");created=%d;keyid=%q;alg="hmac-sha256"`, now.Unix(), name,
	)
	base := fmt.Sprintf(
		"\"@method\": %s\n\"@target-uri\": %s\n\"content-digest\": %s\n\"@signature-params\": %s", r.Method,
		r.URL.String(), digest, params,
	)
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(base))
	r.Header.Set("Content-Digest", digest)
	r.Header.Set("Signature-Input", "latch="+params)
	r.Header.Set("Signature", "latch=:"+base64.StdEncoding.EncodeToString(mac.Sum(nil))+":")
}

// The syslog priority is facility 13 (log audit) with severity 4 (warning) or 6
// (informational).
const (
	facility = 13
	warning  = 4
	inform   = 6
)

// Message writes an event as RFC 5424 has it.
func Message(host string, e Event) string {
	severity := inform
	if e.Bad {
		severity = warning
	}
	quoted := strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace
	return fmt.Sprintf(
		"<%d>1 %s %s plumlatchd - %s [event@32473 id=\"%s\" subject=\"%s\"] \ufeff%s", facility*8+severity,
		e.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"), printable(host),
		printable(strings.TrimPrefix(e.Type, "plumlatch.")), quoted(text.Plain(e.ID)), quoted(text.Plain(e.Subject)),
		text.Line(e.Sentence, 4*text.MaxMessage),
	)
}

// printable is a header field: printable ASCII, "-" for none.
func printable(s string) string {
	s = strings.Map(func(r rune) rune {
		if r > 32 && r < 127 {
			return r
		}
		return -1
	}, s)
	if s == "" {
		return "-"
	}
	return s[:min(len(s), 48)]
}

func log(ctx context.Context, u *url.URL, e Event) error {
	host, _, err := net.SplitHostPort(u.Host)
	if err != nil {
		return err
	}
	text := Message(strings.TrimPrefix(e.Source, "/"), e)
	network := u.Scheme
	if network == "tls" {
		network = "tcp"
	}
	conn, err := outbound.Dialer(Timeout).DialContext(ctx, network, u.Host)
	if err != nil {
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if u.Scheme == "udp" {
		_, err = io.WriteString(conn, text)
		return err
	}
	if u.Scheme == "tls" {
		secured := tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
		if err := secured.HandshakeContext(ctx); err != nil {
			return err
		}
		conn = secured
	}
	_, err = fmt.Fprintf(conn, "%d %s", len(text), text)
	return err
}
