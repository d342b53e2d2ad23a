package service

import (
	"crypto/ecdh"
	"crypto/hpke"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/store"
)

// prove has the actor sign a challenge with the private half.
func (o *office) prove(actor Actor, key string, private []byte) error {
	o.t.Helper()
	signer, err := ssh.ParsePrivateKey(private)
	if err != nil {
		o.t.Fatal(err)
	}
	c, err := o.Challenge(o.t.Context(), actor, key, nil)
	if err != nil {
		return err
	}
	text, err := signature.Sign(signer, signature.Namespace, []byte(c.Text))
	if err != nil {
		o.t.Fatal(err)
	}
	_, err = o.Prove(o.t.Context(), actor, key, c.ID, text)
	return err
}

func TestAReleaseUnderALabelNeedsSomebodyElsesConsent(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	ctx := t.Context()
	runa, tomas := o.hire("runa", Operator, nil), o.hire("tomas", Operator, nil)
	o.keep("deploy", "runa", map[string]string{"team": "atlas"})
	o.wants("the label", o.SetConsentLabel(ctx, o.ines, "team", "atlas", true), "")
	take := func(actor Actor) ([]byte, error) {
		return o.PrivateHalf(ctx, actor, Release{Key: "deploy", Reason: "the job moves"})
	}
	_, err := take(runa)
	o.wants("without asking", err, "consent-needed")
	_, err = o.AskConsent(ctx, tomas, "deploy", "me too")
	o.wants("asked by somebody else", err, "not-the-keeper")
	_, err = o.AskConsent(ctx, runa, "deploy", "")
	o.wants("asked without a reason", err, "no-reason")
	c, err := o.AskConsent(ctx, runa, "deploy", "the job moves")
	if err != nil {
		t.Fatal(err)
	}
	if again, err := o.AskConsent(ctx, runa, "deploy", "the job moves"); err != nil || again.ID != c.ID {
		t.Errorf("asked twice: %v %v", again.ID, err)
	}
	_, err = take(runa)
	o.wants("before anybody decided", err, "consent-awaited")
	_, err = o.DecideConsent(ctx, runa, c.ID, true, "")
	o.wants("decided by herself", err, "own-request")
	_, err = o.DecideConsent(ctx, tomas, c.ID, true, "")
	o.wants("decided by a bystander", err, "not-the-keeper")
	_, err = o.DecideConsent(ctx, o.ines, c.ID, false, "not today")
	o.wants("refused", err, "")
	_, err = take(runa)
	o.wants("after the refusal", err, "consent-refused")
	_, err = o.DecideConsent(ctx, o.marek, c.ID, true, "")
	o.wants("decided twice", err, "consent-decided")

	if c, err = o.AskConsent(ctx, runa, "deploy", "really"); err != nil {
		t.Fatal(err)
	}
	o.at = o.at.Add(consentHolds + time.Minute)
	_, err = o.DecideConsent(ctx, o.ines, c.ID, true, "")
	o.wants("decided too late", err, "consent-decided")
	if c, err = o.AskConsent(ctx, runa, "deploy", "really"); err != nil {
		t.Fatal(err)
	}
	if _, err = o.DecideConsent(ctx, o.ines, c.ID, true, ""); err != nil {
		t.Fatal(err)
	}
	o.at = o.at.Add(consentHolds + time.Minute)
	_, err = take(runa)
	o.wants("used too late", err, "consent-needed")

	// An admin asks, too, and does not consent to themselves.
	if c, err = o.AskConsent(ctx, o.ines, "deploy", "for runa"); err != nil {
		t.Fatal(err)
	}
	_, err = o.DecideConsent(ctx, o.ines, c.ID, true, "")
	o.wants("an admin's own", err, "own-request")
	_, err = o.DecideConsent(ctx, runa, c.ID, true, "")
	o.wants("decided by the keeper", err, "")
	_, err = take(runa)
	o.wants("somebody else's consent", err, "consent-needed")
	if half, err := take(o.ines); err != nil || !strings.Contains(string(half), "PRIVATE KEY") {
		t.Errorf("with consent: %v", err)
	}
	_, err = take(o.ines)
	o.wants("again", err, "private-half-released")
	l, err := o.Daybook(ctx, store.EntryFilter{About: []string{"key:deploy"}, Action: "key.release"}, store.Page{Limit: 9})
	if err != nil || len(l.Items) != 1 || !strings.Contains(l.Items[0].Sentence, "with the consent of runa") {
		t.Errorf("%+v %v", l.Items, err)
	}
	o.wants("the label's end", o.SetConsentLabel(ctx, o.ines, "team", "atlas", false), "")
	_, err = o.AskConsent(ctx, runa, "deploy", "x")
	o.wants("with no label", err, "no-consent-needed")
}

func TestAPrivateHalfComesSealedForWhoeverOffersAKey(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	o.keep("deploy", "ines", nil)
	own, err := ecdh.X25519().GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"x", "QUJD", base64.StdEncoding.EncodeToString(make([]byte, 33))} {
		_, err := o.PrivateHalf(t.Context(), o.ines, Release{Key: "deploy", Reason: "r", Recipient: bad})
		o.wants("the recipient "+bad, err, "bad-recipient")
	}
	text, err := o.PrivateHalf(
		t.Context(),
		o.ines,
		Release{Key: "deploy", Reason: "r", Recipient: base64.StdEncoding.EncodeToString(own.PublicKey().Bytes())},
	)
	if err != nil || strings.Contains(string(text), "PRIVATE") {
		t.Fatalf("%v", err)
	}
	sealed, err := base64.StdEncoding.DecodeString(string(text))
	if err != nil {
		t.Fatal(err)
	}
	k, err := hpke.NewDHKEMPrivateKey(own)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := hpke.Open(k, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+"another"), sealed); err == nil {
		t.Error("it opens for another key's name")
	}
	half, err := hpke.Open(k, hpke.HKDFSHA256(), hpke.AES256GCM(), []byte(releaseInfo+"deploy"), sealed)
	if err != nil || !strings.Contains(string(half), "PRIVATE KEY") {
		t.Errorf("%v", err)
	}
}

func TestTheSafeForgetsOnlyWhatSomebodyHasJustProvedToHold(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	ctx := t.Context()
	tomas := o.hire("tomas", Operator, nil)
	o.keep("deploy", "ines", nil)
	_, err := o.ForgetKey(ctx, o.ines, "deploy")
	o.wants("never released", err, "never-released")
	half, err := o.PrivateHalf(ctx, o.ines, Release{Key: "deploy", Reason: "r"})
	if err != nil {
		t.Fatal(err)
	}
	_, err = o.ForgetKey(ctx, o.ines, "deploy")
	o.wants("not proved", err, "not-proved")
	o.at = o.at.Add(time.Minute)
	if err := o.prove(o.ines, "deploy", half); err != nil {
		t.Fatal(err)
	}
	_, err = o.ForgetKey(ctx, tomas, "deploy")
	o.wants("by somebody else", err, "not-the-keeper")
	o.at = o.at.Add(proofForForgetting + time.Minute)
	_, err = o.ForgetKey(ctx, o.ines, "deploy")
	o.wants("proved too long ago", err, "not-proved")
	if err := o.prove(o.ines, "deploy", half); err != nil {
		t.Fatal(err)
	}
	k, err := o.ForgetKey(ctx, o.ines, "deploy")
	if err != nil || k.Custody != "holder" {
		t.Fatalf("%+v %v", k, err)
	}
	_, err = o.ForgetKey(ctx, o.ines, "deploy")
	o.wants("again", err, "not-kept")
}

func TestAKeyIsHandedOverOnceItsNewKeeperProvesToHoldIt(t *testing.T) {
	t.Parallel()
	o := newOffice(t)
	ctx := t.Context()
	runa, tomas := o.hire("runa", Operator, nil), o.hire("tomas", Operator, nil)
	keeper := func(key string) string {
		k, err := o.Key(ctx, key)
		if err != nil {
			t.Fatal(err)
		}
		return k.Keeper.Name
	}
	o.keep("still", "runa", nil)
	_, _, err := o.HandOver(ctx, tomas, "still", "tomas", "")
	o.wants("by somebody else", err, "not-the-keeper")
	_, waits, err := o.HandOver(ctx, runa, "still", "tomas", "")
	if err != nil || waits != nil || keeper("still") != "tomas" {
		t.Errorf("never released: %v %v, its keeper is %s", waits, err, keeper("still"))
	}
	o.keep("out", "runa", nil)
	half, err := o.PrivateHalf(ctx, runa, Release{Key: "out", Reason: "r"})
	if err != nil {
		t.Fatal(err)
	}
	o.wants("a team", o.AddTeam(ctx, o.ines, IdempotencyKey{}, "cameras", ""), "")
	if _, waits, err = o.HandOver(ctx, runa, "out", "cameras", ""); err != nil || waits == nil {
		t.Fatal(waits, err)
	}
	_, _, err = o.HandOver(ctx, runa, "out", "tomas", "")
	o.wants("a second one", err, "hand-over-waits")
	o.wants("runa's own proof", o.prove(runa, "out", half), "")
	o.wants("a bystander's proof", o.prove(tomas, "out", half), "")
	if keeper("out") != "runa" {
		t.Errorf("its keeper is %s", keeper("out"))
	}
	o.wants("tomas joins", o.SetTeamMember(ctx, o.ines, "cameras", "tomas", true), "")
	o.wants("a member's proof", o.prove(tomas, "out", half), "")
	if keeper("out") != "cameras" {
		t.Errorf("its keeper is %s", keeper("out"))
	}
	o.wants("a team with a key", o.DeleteTeam(ctx, o.ines, "cameras"), "team-holds-keys")
	_, _, err = o.HandOver(ctx, tomas, "out", "runa", "")
	o.wants("by a member", err, "")
	o.wants("called off", o.CallOffHandOver(ctx, tomas, "out"), "")
	o.wants("called off twice", o.CallOffHandOver(ctx, tomas, "out"), "no-hand-over")
	_, _, err = o.HandOver(ctx, tomas, "out", "nobody", "")
	o.wants("to nobody", err, "no-such-keeper")
}

func TestSomebodyLeavesAndNothingIsShut(t *testing.T) {
	t.Parallel()
	r := newRig(t)
	ctx := t.Context()
	for _, name := range []string{"runa", "tomas"} {
		if err := r.AddOperator(
			ctx,
			r.ines,
			IdempotencyKey{},
			NewOperator{Name: name, Password: officePassword, Role: Operator},
		); err != nil {
			t.Fatal(err)
		}
	}
	runa, err := r.store.OperatorNamed(ctx, "runa")
	if err != nil {
		t.Fatal(err)
	}
	theirs := actorOf(runa)
	for _, key := range []string{"runa-main", "runa-spare"} {
		if _, _, err := r.MakeKey(ctx, theirs, IdempotencyKey{}, MadeHere{NewKey: NewKey{Name: key}}); err != nil {
			t.Fatal(err)
		}
	}
	r.launch("cam-1", "runa-main")
	r.launch("cam-2", "runa-main")
	l, err := r.Leaving(ctx, "runa")
	if err != nil || len(l.Items) != 3 || len(l.Shut) != 2 {
		t.Fatalf("%+v %v", l, err)
	}
	if _, err := r.BeginLeaving(ctx, r.ines, "runa", "nobody", ""); codeOf(err) != "no-such-keeper" {
		t.Errorf("to nobody: %v", err)
	}
	if l, err = r.BeginLeaving(ctx, r.ines, "runa", "tomas", "the lighthouse"); err != nil || l.Begun == nil {
		t.Fatalf("%+v %v", l, err)
	}
	if _, err := r.BeginLeaving(ctx, r.ines, "runa", "tomas", ""); codeOf(err) != "leaving-already" {
		t.Errorf("again: %v", err)
	}
	// The service is stopped and started again on the way.
	r.stop()
	r.store.Close()
	if r.Service, err = connectService(ctx, r.database, r.cloudURL, r.safeFile, cloud.CallTimeout); err != nil {
		t.Fatal(err)
	}
	// Nobody is waited for while the rotation is at work, only while it is paused.
	var replaces uuid.UUID
	waits := func() string {
		t.Helper()
		err := r.carryLeavings(ctx)
		o, read := r.store.OperatorNamed(ctx, "runa")
		if err := errors.Join(err, read); err != nil || o.Leaving.Rotation == nil {
			t.Fatalf("%+v %v", o.Leaving, err)
		}
		replaces = *o.Leaving.Rotation
		return o.Leaving.Note
	}
	waits() // begins it
	if note := waits(); note != "" {
		t.Errorf("it waits: %s", note)
	}
	if _, err := r.ChangeRotation(ctx, r.ines, replaces, "pause", "", ""); err != nil {
		t.Fatal(err)
	}
	if note := waits(); !strings.Contains(note, "is paused; let it go on: plumlatch rotate resume ") {
		t.Errorf("of a rotation that is paused it says %q", note)
	}
	if _, err := r.ChangeRotation(ctx, r.ines, replaces, "resume", "", ""); err != nil {
		t.Fatal(err)
	}
	if note := waits(); note != "" {
		t.Errorf("it waits: %s", note)
	}
	r.start()
	r.until("runa has left", func() bool {
		l, err = r.Leaving(ctx, "runa")
		return err == nil && l.Closed
	})
	if len(l.Items) != 0 {
		t.Errorf("left to do: %+v", l.Items)
	}
	for _, instance := range []string{"cam-1", "cam-2"} {
		if r.stands(instance, "runa-main") {
			t.Errorf("runa's key stands on %s", instance)
		}
		login, err := r.Login(ctx, "debian@"+instance)
		if err != nil || login.Standing.State == "shut" {
			t.Errorf("%s is %s, %v", instance, login.Standing.State, err)
		}
	}
	kept, err := r.Keys(ctx, store.KeyFilter{Keeper: "tomas"}, store.Page{Limit: 10})
	if err != nil || len(kept.Items) != 1 || kept.Items[0].Custody != "kept" {
		t.Errorf("tomas keeps %d keys, %v", len(kept.Items), err)
	}
	if _, _, err := r.SignIn(ctx, SignIn{Name: "runa", Password: officePassword}); codeOf(
		err,
	) != "wrong-name-or-password" {
		t.Errorf("a sign-in afterwards: %v", err)
	}
	spare, err := r.Key(ctx, "runa-spare")
	if err != nil || spare.State != "retired" {
		t.Errorf("the spare key is %s, %v", spare.State, err)
	}
}
