// Package smtptest is a mail server for tests: it takes mail on loopback, after STARTTLS or over TLS, of a user with a
// password, and keeps it.
package smtptest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"io"
	"math/big"
	"mime/quotedprintable"
	"net"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// User and Password are those that the server takes mail of.
const (
	User     = "latch"
	Password = "a password of the post"
)

// Mail is a mail that was taken. Text is its body, and Bcc the header of that name, which none is to have.
type Mail struct{ From, To, Text, Bcc string }

// Server is a mail server.
type Server struct {
	// Address is host:port, and Roots the file with the authority of its certificate.
	Address, Roots string

	mu    sync.Mutex
	taken []Mail
	away  bool
}

// Start starts a server that ends with the test. straight is TLS from the beginning instead of STARTTLS.
func Start(t testing.TB, straight bool) *Server {
	t.Helper()
	certificate, text := certify(t)
	s := &Server{Roots: filepath.Join(t.TempDir(), "roots.pem")}
	if err := os.WriteFile(s.Roots, text, 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s.Address = l.Addr().String()
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{of: s}, nil }))
	server.Domain = "localhost"
	server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{certificate}}
	if straight {
		l = tls.NewListener(l, server.TLSConfig)
	}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	return s
}

// Away has the server refuse all mail, or take it again.
func (s *Server) Away(away bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// Taken are the mails that were taken.
func (s *Server) Taken() []Mail {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Mail{}, s.taken...)
}

func certify(t testing.TB) (tls.Certificate, []byte) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{
		SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true,
	}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key},
		pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

type session struct {
	of   *Server
	in   bool
	mail Mail
}

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != User || password != Password {
			return errors.New("no such user or another password")
		}
		s.in = true
		return nil
	}), nil
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	if !s.in || s.of.away {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not now"}
	}
	s.mail = Mail{From: from}
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.mail.To = to
	return nil
}

func (s *session) Data(r io.Reader) error {
	message, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	body := message.Body
	if message.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	s.mail.Text, s.mail.Bcc = strings.ReplaceAll(string(text), "\r\n", "\n"), message.Header.Get("Bcc")
	s.of.mu.Lock()
	defer s.of.mu.Unlock()
	s.of.taken = append(s.of.taken, s.mail)
	return nil
}

func (s *session) Reset()        {}
func (s *session) Logout() error { return nil }
