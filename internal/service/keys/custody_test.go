package keys_test

import (
	"crypto/ecdh"
	"crypto/hpke"
	"crypto/rand"
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/servicetest"
)

func TestAReleaseUnderALabelNeedsSomebodyElsesConsent(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	ctx := t.Context()
	runa, tomas := o.Hire("runa", people.Operator, nil), o.Hire("tomas", people.Operator, nil)
	o.Keep("deploy", "runa", map[string]string{"team": "atlas"})
	o.Wants("the label", o.Keys.SetConsentLabel(ctx, o.Ines, "team", "atlas", true), "")
	take := func(actor people.Actor) ([]byte, error) {
		return o.Keys.PrivateKey(ctx, actor, keys.Release{Key: "deploy", Reason: "the job moves"})
	}
	_, err := take(runa)
	o.Wants("without asking", err, "consent-needed")
	_, err = o.Keys.AskConsent(ctx, tomas, "deploy", "me too")
	o.Wants("asked by somebody else", err, "not-the-holder")
	_, err = o.Keys.AskConsent(ctx, runa, "deploy", "")
	o.Wants("asked without a reason", err, "no-reason")
	c, err := o.Keys.AskConsent(ctx, runa, "deploy", "the job moves")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := o.Keys.AskConsent(ctx, runa, "deploy", "the job moves"); err != nil || again.ID != c.ID {
		t.Errorf("asked twice: %v %v", again.ID, err)
	}
	_, err = take(runa)
	o.Wants("before anybody decided", err, "consent-awaited")
	_, err = o.Keys.DecideConsent(ctx, runa, c.ID, true, "")
	o.Wants("decided by herself", err, "own-request")
	_, err = o.Keys.DecideConsent(ctx, tomas, c.ID, true, "")
	o.Wants("decided by a bystander", err, "not-the-holder")
	_, err = o.Keys.DecideConsent(ctx, o.Ines, c.ID, false, "not today")
	o.Wants("refused", err, "")
	_, err = take(runa)
	o.Wants("after the refusal", err, "consent-refused")
	_, err = o.Keys.DecideConsent(ctx, o.Marek, c.ID, true, "")
	o.Wants("decided twice", err, "consent-decided")

	if c, err = o.Keys.AskConsent(ctx, runa, "deploy", "really"); err != nil {
		t.Fatal(err)
	}
	o.At = o.At.Add(keys.ConsentHolds + time.Minute)
	_, err = o.Keys.DecideConsent(ctx, o.Ines, c.ID, true, "")
	o.Wants("decided too late", err, "consent-decided")
	if c, err = o.Keys.AskConsent(ctx, runa, "deploy", "really"); err != nil {
		t.Fatal(err)
	}
	if _, err = o.Keys.DecideConsent(ctx, o.Ines, c.ID, true, ""); err != nil {
		t.Fatal(err)
	}
	o.At = o.At.Add(keys.ConsentHolds + time.Minute)
	_, err = take(runa)
	o.Wants("used too late", err, "consent-needed")

	// An admin asks, too, and does not consent to themselves.
	if c, err = o.Keys.AskConsent(ctx, o.Ines, "deploy", "for runa"); err != nil {
		t.Fatal(err)
	}
	_, err = o.Keys.DecideConsent(ctx, o.Ines, c.ID, true, "")
	o.Wants("an admin's own", err, "own-request")
	_, err = o.Keys.DecideConsent(ctx, runa, c.ID, true, "")
	o.Wants("decided by the holder", err, "")
	_, err = take(runa)
	o.Wants("somebody else's consent", err, "consent-needed")
	if private, err := take(o.Ines); err != nil || !strings.Contains(string(private), "PRIVATE KEY") {
		t.Errorf("with consent: %v", err)
	}
	_, err = take(o.Ines)
	o.Wants("again", err, "private-key-released")
	l, err := o.Journal.List(
		ctx, record.EntryFilter{About: []string{"key:deploy"}, Action: "key.release"}, record.Page{Limit: 9},
	)
	if err != nil || len(l.Items) != 1 || !strings.Contains(l.Items[0].Text(), "with the consent of runa") {
		t.Errorf("%+v %v", l.Items, err)
	}
	o.Wants("the label's end", o.Keys.SetConsentLabel(ctx, o.Ines, "team", "atlas", false), "")
	_, err = o.Keys.AskConsent(ctx, runa, "deploy", "x")
	o.Wants("with no label", err, "no-consent-needed")
}

func TestAPrivateKeyComesEncryptedForWhoeverOffersAKey(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	o.Keep("deploy", "ines", nil)
	own, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"x", "QUJD", base64.StdEncoding.EncodeToString(make([]byte, 33))} {
		_, err := o.Keys.PrivateKey(t.Context(), o.Ines, keys.Release{Key: "deploy", Reason: "r", Recipient: bad})
		o.Wants("the recipient "+bad, err, "bad-recipient")
	}
	text, err := o.Keys.PrivateKey(
		t.Context(), o.Ines,
		keys.Release{Key: "deploy", Reason: "r", Recipient: base64.StdEncoding.EncodeToString(own.PublicKey().Bytes())},
	)
	if err != nil || strings.Contains(string(text), "PRIVATE") {
		t.Fatalf("%v", err)
	}
	encrypted, err := base64.StdEncoding.DecodeString(string(text))
	if err != nil {
		t.Fatal(err)
	}
	k, err := hpke.NewDHKEMPrivateKey(own)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := hpke.Open(
		k, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(keys.ReleaseInfo+"another"), encrypted,
	); err == nil {
		t.Error("it opens for another key's name")
	}
	private, err := hpke.Open(k, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(keys.ReleaseInfo+"deploy"), encrypted)
	if err != nil || !strings.Contains(string(private), "PRIVATE KEY") {
		t.Errorf("%v", err)
	}
}

func TestTheSafeForgetsOnlyWhatSomebodyHasJustProvedToHold(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	ctx := t.Context()
	tomas := o.Hire("tomas", people.Operator, nil)
	o.Keep("deploy", "ines", nil)
	_, err := o.Keys.ForgetKey(ctx, o.Ines, "deploy")
	o.Wants("never released", err, "never-released")
	private, err := o.Keys.PrivateKey(ctx, o.Ines, keys.Release{Key: "deploy", Reason: "r"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = o.Keys.ForgetKey(ctx, o.Ines, "deploy")
	o.Wants("not proved", err, "not-proved")
	o.At = o.At.Add(time.Minute)
	if err := o.Prove(o.Ines, "deploy", private); err != nil {
		t.Fatal(err)
	}
	_, err = o.Keys.ForgetKey(ctx, tomas, "deploy")
	o.Wants("by somebody else", err, "not-the-holder")
	o.At = o.At.Add(keys.ProofForForgetting + time.Minute)
	_, err = o.Keys.ForgetKey(ctx, o.Ines, "deploy")
	o.Wants("proved too long ago", err, "not-proved")
	if err := o.Prove(o.Ines, "deploy", private); err != nil {
		t.Fatal(err)
	}
	k, err := o.Keys.ForgetKey(ctx, o.Ines, "deploy")
	if err != nil || k.Custody != "holder" {
		t.Fatalf("%+v %v", k, err)
	}
	_, err = o.Keys.ForgetKey(ctx, o.Ines, "deploy")
	o.Wants("again", err, "not-kept")
}

func TestAKeyIsHandedOverOnceItsNewHolderProvesToHoldIt(t *testing.T) {
	t.Parallel()
	o := servicetest.NewOffice(t)
	ctx := t.Context()
	runa, tomas := o.Hire("runa", people.Operator, nil), o.Hire("tomas", people.Operator, nil)
	holder := func(key string) string {
		k, err := o.Keys.Key(ctx, key)
		if err != nil {
			t.Fatal(err)
		}
		return k.Holder.Name
	}
	o.Keep("still", "runa", nil)
	_, _, err := o.Keys.HandOver(ctx, tomas, "still", "tomas", "")
	o.Wants("by somebody else", err, "not-the-holder")
	_, waits, err := o.Keys.HandOver(ctx, runa, "still", "tomas", "")
	if err != nil || waits != nil || holder("still") != "tomas" {
		t.Errorf("never released: %v %v, its holder is %s", waits, err, holder("still"))
	}
	o.Keep("out", "runa", nil)
	private, err := o.Keys.PrivateKey(ctx, runa, keys.Release{Key: "out", Reason: "r"})
	if err != nil {
		t.Fatal(err)
	}
	o.Wants("a team", o.People.AddTeam(ctx, o.Ines, journal.IdempotencyKey{}, "cameras", ""), "")
	if _, waits, err = o.Keys.HandOver(ctx, runa, "out", "cameras", ""); err != nil || waits == nil {
		t.Fatal(waits, err)
	}
	_, _, err = o.Keys.HandOver(ctx, runa, "out", "tomas", "")
	o.Wants("a second one", err, "hand-over-waits")
	o.Wants("runa's own proof", o.Prove(runa, "out", private), "")
	o.Wants("a bystander's proof", o.Prove(tomas, "out", private), "")
	if holder("out") != "runa" {
		t.Errorf("its holder is %s", holder("out"))
	}
	o.Wants("tomas joins", o.People.SetTeamMember(ctx, o.Ines, "cameras", "tomas", true), "")
	o.Wants("a member's proof", o.Prove(tomas, "out", private), "")
	if holder("out") != "cameras" {
		t.Errorf("its holder is %s", holder("out"))
	}
	o.Wants("a team with a key", o.People.DeleteTeam(ctx, o.Ines, "cameras"), "team-holds-keys")
	_, _, err = o.Keys.HandOver(ctx, tomas, "out", "runa", "")
	o.Wants("by a member", err, "")
	o.Wants("called off", o.Keys.CallOffHandOver(ctx, tomas, "out"), "")
	o.Wants("called off twice", o.Keys.CallOffHandOver(ctx, tomas, "out"), "no-hand-over")
	_, _, err = o.Keys.HandOver(ctx, tomas, "out", "nobody", "")
	o.Wants("to nobody", err, "no-such-holder")
}
