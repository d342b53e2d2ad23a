package e2e

import (
	"encoding/json"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/apiclient"
	"plumlatch/internal/smtp/smtptest"
)

var mailCode = regexp.MustCompile(`mail confirm (\S{43})`)

// withMail starts the service again with a mail server.
func (h *house) withMail(server *smtptest.Server) {
	h.t.Helper()
	listen := h.listen()
	if err := h.service.Stop(10 * time.Second); err != nil {
		h.t.Fatal(err)
	}
	h.startService(
		listen,
		"-smtp",
		server.Address,
		"-smtp-ca",
		server.Roots,
		"-smtp-from",
		"latch@wrackline.example",
		"-smtp-user",
		smtptest.User,
		"-smtp-password-file",
		writeFile(h.t, filepath.Join(h.dir, "post"), smtptest.Password+"\n"),
		"-public-url",
		h.url,
	)
}

func (h *house) mail(token string) (m apiclient.Mail) {
	h.t.Helper()
	r := h.as(token, "mail", "show", "-json")
	if err := json.Unmarshal([]byte(r.out), &m); err != nil {
		h.t.Fatal(err, r.err)
	}
	return m
}

// TestPeopleAreToldByMailWhatKeepsThemOut has a rotation of sunniva's key tell her, at the address that she confirmed.
func TestPeopleAreToldByMailWhatKeepsThemOut(t *testing.T) {
	t.Parallel()
	h := newHouse(t, "")
	if r := h.client("mail", "show"); r.status != 3 {
		t.Errorf("without a mail server: %+v", r)
	}
	h.refused("no-mail", "mail", "set", "ines@wrackline.example")
	server := smtptest.Start(t, false)
	h.withMail(server)
	sunniva := h.person("sunniva")
	own := writeFile(t, filepath.Join(h.dir, "sunnivas"), password)
	set := func(address string) result { return h.as(sunniva, "mail", "set", address, "-confirm-file", own) }
	if r := set("Sunniva <sunniva@wrackline.example>"); r.status == 0 {
		t.Error("an address with a name is taken")
	}
	// A stolen token sends the mails nowhere else.
	if status, body := h.call("PUT", "/api/v1/mail", sunniva, `{"address":"mallory@example.org"}`); status != 403 {
		t.Errorf("by a token alone: %d %s", status, body)
	}
	if r := set("sunniva@wrackline.example"); r.status != 0 {
		t.Fatal(r.err)
	}
	if r := set("other@wrackline.example"); r.status != 6 {
		t.Errorf("a second code at once: %+v", r)
	}
	mails := server.Taken()
	if len(mails) != 1 || mails[0].To != "sunniva@wrackline.example" {
		t.Fatalf("%+v", mails)
	}
	code := mailCode.FindStringSubmatch(mails[0].Text)
	if code == nil || !strings.Contains(mails[0].Text, h.url+"/settings?mail="+code[1]) {
		t.Fatalf("no code and link in\n%s", mails[0].Text)
	}
	if r := h.as(sunniva, "mail", "confirm", strings.Repeat("A", 43)); r.status == 0 {
		t.Error("another code is taken")
	}
	h.refused("bad-code", "mail", "confirm", code[1]) // of ines, who has found it
	if r := h.as(sunniva, "key", "new", "hers"); r.status != 0 {
		t.Fatal(r.err)
	}
	h.must("instance", "launch", "ringing-db", "-image", "debian-12", "-size", "small", "-key", "hers", "-steward")
	if r := h.as(sunniva, "prove", "debian@ringing-db", "-with", h.private("hers")); r.status != 0 {
		t.Fatal(r.err)
	}
	server.Away(true)
	h.must("rotate", "start", "-key", "hers", "-yes")
	if e := h.told("holder.asked:take"); len(e) != 1 || e[0].Subject != "sunniva" {
		t.Errorf("the daybook says %+v", e)
	}
	// The console confirms by the link, and a server that is away loses nothing.
	p := openBrowser(t, h.url)
	p.signedIn("sunniva", password)
	p.open("/settings?mail=" + code[1])
	p.press("Confirm this address")
	p.says("confirmed on")
	eventually(t, "the failure is told", func() bool { return h.mail(sunniva).Problem != nil })
	if n := len(server.Taken()); n != 1 {
		t.Errorf("%d mails", n)
	}
	server.Away(false)
	// Tried again ten minutes after the failure, which this does not wait for.
	h.sql("UPDATE mail_addresses SET tried_at = tried_at - interval '11 minutes'")
	eventually(t, "the mail arrives", func() bool { return len(server.Taken()) == 2 })
	text := server.Taken()[1].Text
	if !strings.Contains(text, "1 key to take out of the safe") || !strings.Contains(text, "hers-2") ||
		strings.Contains(text, "ringing-db") || strings.Contains(text, "PRIVATE") {
		t.Errorf("it says\n%s", text)
	}
	if m := h.mail(sunniva); m.Problem != nil || m.SentAt == nil {
		t.Errorf("afterwards: %+v", m)
	}
	h.sql("UPDATE mail_addresses SET tried_at = tried_at - interval '11 minutes'") // and once is enough
	if r := h.as(sunniva, "mail", "forget"); r.status != 0 || h.mail(sunniva).Address != nil {
		t.Errorf("forgotten: %+v", r)
	}
}
