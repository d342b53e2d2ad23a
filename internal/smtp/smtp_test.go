package smtp_test

import (
	"crypto/x509"
	"os"
	"strings"
	"testing"

	"plumlatch/internal/smtp"
	"plumlatch/internal/smtp/smtptest"
)

func options(t *testing.T, server *smtptest.Server) smtp.Options {
	t.Helper()
	pem, err := os.ReadFile(server.Roots)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pem)
	return smtp.Options{
		Address: server.Address, Security: smtp.STARTTLS, From: "latch@wrackline.example", User: smtptest.User,
		Password: smtptest.Password, Roots: roots,
	}
}

func TestMailIsSentEncryptedAndNotOtherwise(t *testing.T) {
	for security, straight := range map[smtp.Security]bool{smtp.STARTTLS: false, smtp.TLS: true} {
		server := smtptest.Start(t, straight)
		o := options(t, server)
		o.Security = security
		send := func(o smtp.Options) error {
			s, err := smtp.New(o)
			if err != nil {
				return err
			}
			return s.Send(t.Context(), "oona@wrackline.example", "three\r\nBcc: mallory@example.org", "a line\n")
		}
		if err := send(o); err != nil {
			t.Fatalf("%s: %v", security, err)
		}
		taken := server.Taken()
		if len(taken) != 1 || taken[0].To != "oona@wrackline.example" || taken[0].From != "latch@wrackline.example" ||
			!strings.Contains(taken[0].Text, "a line") || taken[0].Bcc != "" {
			t.Errorf("%s: %+v", security, taken)
		}
		for name, change := range map[string]func(*smtp.Options){
			"another authority": func(o *smtp.Options) { o.Roots = x509.NewCertPool() },
			"another password":  func(o *smtp.Options) { o.Password = "guessed" },
			"the other security": func(o *smtp.Options) {
				o.Security = map[bool]smtp.Security{true: smtp.STARTTLS, false: smtp.TLS}[straight]
			},
		} {
			wrong := o
			change(&wrong)
			if err := send(wrong); err == nil {
				t.Errorf("%s: sent with %s", security, name)
			}
		}
		if n := len(server.Taken()); n != 1 {
			t.Errorf("%s: %d mails", security, n)
		}
	}
}

func TestAnAddressIsOneAndPlain(t *testing.T) {
	for _, bad := range []string{
		"", "oona", "oona@", "Oona <oona@wrackline.example>", "a@b.example, c@d.example", "a@b.example\r\nBcc: c@d.example",
		strings.Repeat("a", 250) + "@b.example",
	} {
		if got, err := smtp.ReadAddress(bad); err == nil {
			t.Errorf("%q is read as %q", bad, got)
		}
	}
	if _, err := smtp.ReadAddress("oona.vik+latch@wrackline.example"); err != nil {
		t.Error(err)
	}
}
