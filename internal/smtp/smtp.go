// Package smtp sends plain text by a mail server (RFC 5321), encrypted from the beginning (RFC 8314) or after
// STARTTLS (RFC 3207), and always by a certificate that is checked.
package smtp

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	netmail "net/mail"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"plumlatch/internal/core/text"
)

// Security is how the connection to the server is encrypted.
type Security string

// The ways. TLS encrypts from the beginning.
const (
	STARTTLS Security = "starttls"
	TLS      Security = "tls"
)

// MaxAddress is the length of an address in bytes (RFC 5321 §4.5.3.1.3, without the brackets).
const MaxAddress = 254

// timeout is for how long one mail may take.
const timeout = 20 * time.Second

// Server sends mail.
type Server struct {
	client *mail.Client
	from   string
}

// Options says which server, and who sends.
type Options struct {
	// Address is host:port.
	Address  string
	Security Security
	From     string
	// User and Password are for a server that asks who sends; "" for one that does not.
	User, Password string
	// Roots are the authorities that the server's certificate may be of; nil means the machine's.
	Roots *x509.CertPool
}

// New returns a server by which mail is sent. Nothing is connected to yet.
func New(o Options) (*Server, error) {
	host, port, err := net.SplitHostPort(o.Address)
	if err != nil {
		return nil, fmt.Errorf("the mail server: %w; write host:port", err)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the mail server: %q is no port", port)
	}
	if _, err := ReadAddress(o.From); err != nil {
		return nil, fmt.Errorf("who sends: %w", err)
	}
	encrypted := &tls.Config{ServerName: host, RootCAs: o.Roots, MinVersion: tls.VersionTLS12}
	options := []mail.Option{mail.WithPort(number), mail.WithTimeout(timeout), mail.WithTLSConfig(encrypted)}
	method := mail.SMTPAuthAutoDiscover
	switch o.Security {
	case TLS:
		method = mail.SMTPAuthPlain // the library finds methods by itself only where it encrypts by itself
		options = append(options, mail.WithSSL(), mail.WithDialContextFunc(dialer(encrypted)))
	case STARTTLS:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory), mail.WithDialContextFunc(dialer(nil)))
	default:
		return nil, fmt.Errorf("%q is no way to encrypt; use %s or %s", o.Security, STARTTLS, TLS)
	}
	if o.User != "" {
		options = append(
			options, mail.WithSMTPAuth(method), mail.WithUsername(o.User), mail.WithPassword(o.Password),
		)
	}
	client, err := mail.NewClient(host, options...)
	return &Server{client: client, from: o.From}, err
}

// dialer connects, encrypted where a configuration is given. The whole connection ends by the timeout: a server that
// says nothing is not waited for longer.
func dialer(encrypted *tls.Config) func(ctx context.Context, network, address string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		var d net.Dialer
		c, err := d.DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		if err := c.SetDeadline(time.Now().Add(timeout)); err != nil {
			c.Close()
			return nil, err
		}
		if encrypted == nil {
			return c, nil
		}
		over := tls.Client(c, encrypted)
		if err := over.HandshakeContext(ctx); err != nil {
			c.Close()
			return nil, err
		}
		return over, nil
	}
}

// ReadAddress returns an address as a mail server takes it (addr-spec of RFC 5322), without a name.
func ReadAddress(address string) (string, error) {
	parsed, err := netmail.ParseAddress(address)
	switch {
	case err != nil || parsed.Name != "" || parsed.Address != address || text.Plain(address) != address:
		return "", fmt.Errorf("%q is no e-mail address", text.Cut(address, text.MaxLine))
	case len(address) > MaxAddress:
		return "", fmt.Errorf("an e-mail address has at most %d bytes", MaxAddress)
	}
	return parsed.Address, nil
}

// Send sends one mail.
func (s *Server) Send(ctx context.Context, to, subject, body string) error {
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := m.From(s.from); err != nil {
		return err
	}
	if err := m.To(to); err != nil {
		return err
	}
	m.SetMessageID()
	m.SetDate()
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	m.Subject(text.Line(subject, text.MaxLine))
	m.SetBodyString(mail.TypeTextPlain, body)
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	return s.client.DialAndSendWithContext(ctx, m)
}
