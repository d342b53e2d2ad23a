package main

import (
	"crypto/x509"
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"

	"plumlatch/internal/service/mailing"
	"plumlatch/internal/smtp"
)

// mailSettings say by which server mail is sent.
type mailSettings struct {
	address, security, from, user, passwordFile, roots string
}

func (m *mailSettings) flags(f *flag.FlagSet) {
	f.StringVar(
		&m.address, "smtp", "", "mail server, as host:port, by which people are told what they have to do; none unless given",
	)
	f.StringVar(
		&m.security, "smtp-security", string(smtp.STARTTLS),
		"how the connection to the mail server is encrypted: starttls, or tls from the beginning",
	)
	f.StringVar(&m.from, "smtp-from", "", "address that mail is sent from")
	f.StringVar(&m.user, "smtp-user", "", "user at the mail server, where it asks for one")
	f.StringVar(&m.passwordFile, "smtp-password-file", "", "file with the password at the mail server")
	f.StringVar(
		&m.roots, "smtp-ca", "", "file with the authorities, in PEM, that the mail server's certificate may be of, instead "+
			"of this machine's",
	)
}

// options opens what the settings name; nothing where no mail is sent.
func (m mailSettings) options(publicURL string) (mailing.Options, error) {
	if m.address == "" {
		return mailing.Options{}, nil
	}
	if m.from == "" {
		return mailing.Options{}, errors.New("-smtp needs -smtp-from ADDRESS")
	}
	o := smtp.Options{Address: m.address, Security: smtp.Security(m.security), From: m.from, User: m.user}
	if m.passwordFile != "" {
		password, err := os.ReadFile(m.passwordFile)
		if err != nil {
			return mailing.Options{}, fmt.Errorf("-smtp-password-file: %w", err)
		}
		o.Password = strings.TrimRight(string(password), "\r\n")
	}
	if m.roots != "" {
		pem, err := os.ReadFile(m.roots)
		if err != nil {
			return mailing.Options{}, fmt.Errorf("-smtp-ca: %w", err)
		}
		o.Roots = x509.NewCertPool()
		if !o.Roots.AppendCertsFromPEM(pem) {
			return mailing.Options{}, fmt.Errorf("-smtp-ca: %s has no certificate in PEM", m.roots)
		}
	}
	server, err := smtp.New(o)
	return mailing.Options{Sender: server, Console: strings.TrimSuffix(publicURL, "/")}, err
}
