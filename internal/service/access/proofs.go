package access

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/signature"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
	"plumlatch/internal/store"
)

const (
	challengeHolds = 5 * time.Minute
	challengesEach = 200 // live ones of one person
)

// EntryFor says of which login a challenge is, whose signature reports that it was completed.
type EntryFor struct {
	Login, HostKey string
}

// Challenge issues a text to be signed with the private key of the key: that somebody holds it,
// or that they have just completed a login with it.
func (s *Service) Challenge(
	ctx context.Context, actor people.Actor, key string, entry *EntryFor,
) (record.Challenge, error) {
	k, err := s.keys.Key(ctx, key)
	if err != nil {
		return record.Challenge{}, err
	}
	if k.StewardOf != nil {
		return record.Challenge{}, &problem.Problem{
			Kind:   problem.Forbidden,
			Code:   "steward-key",
			Where:  []string{key},
			Detail: key + " is a steward key, whose private key is in the safe and nowhere else",
			Remedy: "Prove a key of your own",
		}
	}
	nonce := make([]byte, 32)
	rand.Read(nonce)
	c := record.Challenge{
		ID:         store.NewID(),
		KeyID:      k.ID,
		OperatorID: actor.ID,
		ExpiresAt:  s.now().Add(challengeHolds).Truncate(time.Second),
	}
	c.Text = signature.Challenge{
		Service: journal.ServiceName,
		Person:  actor.Name,
		Key:     k.Name,
		SHA256:  keypair.FormatSHA256(k.SHA256),
		Nonce:   nonce,
		Expires: c.ExpiresAt,
	}.Text()
	if entry != nil {
		if err := s.challengeEntry(ctx, actor, k, *entry, nonce, &c); err != nil {
			return record.Challenge{}, err
		}
	}
	live, err := s.store.AddChallenge(ctx, c, s.now())
	if err == nil && live > challengesEach {
		err = &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "too-many-challenges",
			Detail: fmt.Sprintf("%d challenges are open", live),
			Remedy: "Sign those, or wait five minutes",
		}
	}
	return c, err
}

// challengeEntry makes the challenge one of a completed login.
func (s *Service) challengeEntry(
	ctx context.Context, actor people.Actor, k record.Key, f EntryFor, nonce []byte, c *record.Challenge,
) error {
	l, i, err := s.fleet.LoginNamed(ctx, f.Login)
	if err != nil {
		return err
	}
	if err := fleet.CheckHostKey(i, f.HostKey); err != nil {
		return err
	}
	e := signature.Entry{
		Service: journal.ServiceName,
		Person:  actor.Name,
		Login:   fleet.LoginName(l.OSUser, i.Name),
		HostKey: strings.TrimSpace(f.HostKey),
		Key:     k.Name,
		SHA256:  keypair.FormatSHA256(k.SHA256),
		Nonce:   nonce, Issued: s.now().UTC().Truncate(time.Microsecond), Expires: c.ExpiresAt.UTC(),
	}
	run, err := s.store.LiveRunOf(ctx, i.ID)
	if err == nil {
		e.Run = run.String()
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	c.Text = e.Text()
	c.Entry, err = json.Marshal(e)
	return err
}

// Prove takes the signature of a challenge as proof that the actor holds the
// private key. Each challenge is taken once.
func (s *Service) Prove(
	ctx context.Context, actor people.Actor, key string, challenge uuid.UUID, armoured string,
) (record.Key, error) {
	k, err := s.keys.Key(ctx, key)
	if err != nil {
		return record.Key{}, err
	}
	refuse := func(code, detail string) error {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   code,
			Field:  "signature",
			Detail: detail,
			Remedy: "Ask for a new challenge: plumlatch prove " + key,
		}
	}
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		c, err := tx.TakeChallenge(ctx, challenge, s.now())
		if errors.Is(err, store.ErrNotFound) ||
			err == nil && (c.KeyID != k.ID || c.OperatorID != actor.ID || len(c.Entry) > 0) {
			return refuse("no-such-challenge", "there is no such challenge for you and this key, or it was signed already")
		}
		if err != nil {
			return err
		}
		if s.now().After(c.ExpiresAt) {
			return refuse("challenge-expired", "the challenge has expired")
		}
		if err := signature.Verify(armoured, signature.Namespace, []byte(c.Text), k.Blob); err != nil {
			return refuse("bad-signature", err.Error())
		}
		if err := tx.AddProof(
			ctx, record.Proof{ID: store.NewID(), Kind: "possession", KeyID: k.ID, At: s.now(), Person: actor.Name},
		); err != nil {
			return err
		}
		if err := tx.Note(ctx, s.journal.Entry(
			actor.By(), "key.prove", "key", k.Name, "", nil,
		)); err != nil {
			return err
		}
		return s.keys.TakeOver(ctx, tx, actor, k)
	})
	if err != nil {
		return record.Key{}, err
	}
	return s.keys.Key(ctx, key)
}

// ReportedEntry is a report that somebody completed a login from their own machine.
type ReportedEntry struct {
	Key, HostKey string
	// Challenge is the one that was issued once the login was completed, Signature is of its text
	// and made with the key (SSHSIG).
	Challenge uuid.UUID
	Signature string
}

// ReportEntry records that the actor completed a login with the key from their
// own machine, where the host key that they saw is a pinned one. The report is signed with the key.
func (s *Service) ReportEntry(ctx context.Context, actor people.Actor, login string, r ReportedEntry) (Login, error) {
	l, i, err := s.fleet.LoginNamed(ctx, login)
	if err != nil {
		return Login{}, err
	}
	k, err := s.keys.Key(ctx, r.Key)
	if err != nil {
		return Login{}, err
	}
	if err := fleet.CheckHostKey(i, r.HostKey); err != nil {
		return Login{}, err
	}
	name := fleet.LoginName(l.OSUser, i.Name)
	err = s.store.InTx(ctx, func(tx *store.Store) error {
		c, err := tx.TakeChallenge(ctx, r.Challenge, s.now())
		if errors.Is(err, store.ErrNotFound) ||
			err == nil && (c.KeyID != k.ID || c.OperatorID != actor.ID || len(c.Entry) == 0) {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "no-such-challenge",
				Field:  "challenge",
				Detail: "there is no such challenge for you, this key and a login, or it was signed already",
				Remedy: "Ask for one once the login was completed; the client does so: plumlatch prove " + name,
			}
		}
		if err != nil {
			return err
		}
		proof := record.Proof{
			ID:        store.NewID(),
			Kind:      "entry",
			KeyID:     k.ID,
			LoginID:   &l.ID,
			At:        s.now(),
			Person:    actor.Name,
			HostKey:   strings.TrimSpace(r.HostKey),
			Entry:     c.Entry,
			Signature: r.Signature,
		}
		if _, err := EntryIn(proof, k, i, l.OSUser); err != nil {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-signature",
				Field:  "signature",
				Detail: text.Line(err.Error(), text.MaxMessage),
				Remedy: "Sign the unchanged challenge with the key of the login",
			}
		}
		if s.now().After(c.ExpiresAt) {
			return &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "challenge-expired",
				Field:  "challenge",
				Detail: "the challenge has expired",
				Remedy: "Log in again",
			}
		}
		if err := tx.AddProof(ctx, proof); err != nil {
			return err
		}
		if err := tx.SeeEntry(ctx, l.ID, k.ID, s.now(), "logged in by "+actor.Name); err != nil {
			return err
		}
		if err := tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "login.enter", "login", name, "",
				journal.Facts{"key": k.Name},
			),
			k.Name,
		)); err != nil {
			return err
		}
		return s.keys.TakeOver(ctx, tx, actor, k)
	})
	if err != nil {
		return Login{}, err
	}
	s.Reported(ctx, i.ID)
	return s.Login(ctx, login)
}

// EntryIn is the completed login that a signed proof is of: with the key, at the login, and with a
// host key that is pinned.
func EntryIn(p record.Proof, k record.Key, i record.Instance, user string) (sshio.Entry, error) {
	var e signature.Entry
	if err := json.Unmarshal(p.Entry, &e); err != nil {
		return sshio.Entry{}, fmt.Errorf("the report of a login with %s cannot be read: %w", k.Name, err)
	}
	if e.Login != fleet.LoginName(user, i.Name) {
		return sshio.Entry{}, fmt.Errorf("the report is of a login to %s", text.Line(e.Login, text.MaxLine))
	}
	if err := fleet.CheckHostKey(i, e.HostKey); err != nil {
		return sshio.Entry{}, err
	}
	return sshio.SignedEntry(e, p.Signature, k.Blob)
}

// ProofDue is a key that its holder is to prove.
type ProofDue struct {
	record.ProofDue
	// State is never proved, stale or soon stale.
	State string
	// StaleAt is when the proof goes or went stale; nil where there is none.
	StaleAt *time.Time
}

// maxDueDays is how far ahead proofs that go stale are told, in days.
const maxDueDays = 3650

// ProofsDue returns one page of what holders have to prove now or within the days.
// holder "" means all, "me" the actor.
func (s *Service) ProofsDue(
	ctx context.Context, actor people.Actor, holder string, days int, p record.Page,
) (record.List[ProofDue], error) {
	if days < 0 || days > maxDueDays {
		return record.List[ProofDue]{}, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-within",
			Field:  "within",
			Detail: fmt.Sprintf("%d days are not possible; 0 to %d are", days, maxDueDays),
		}
	}
	if holder == "me" {
		own, err := s.store.HolderOf(ctx, actor.ID)
		if errors.Is(err, store.ErrNotFound) {
			return record.List[ProofDue]{}, nil // no holder, so nothing to prove
		}
		if err != nil {
			return record.List[ProofDue]{}, err
		}
		holder = own.Name
	} else if holder != "" {
		if _, err := s.store.HolderNamed(ctx, holder); errors.Is(err, store.ErrNotFound) {
			return record.List[ProofDue]{}, &problem.Problem{
				Kind:   problem.NotFound,
				Code:   "no-such-holder",
				Field:  "holder",
				Where:  []string{holder},
				Detail: fmt.Sprintf("there is no holder named %q", holder),
				Remedy: "See who there is: plumlatch prove -due",
			}
		} else if err != nil {
			return record.List[ProofDue]{}, err
		}
	}
	now := s.now()
	l, err := s.store.ProofsDue(ctx, holder, now.Add(-s.Fresh).AddDate(0, 0, days), p)
	if err != nil {
		return record.List[ProofDue]{}, problem.FromPage(err)
	}
	out := record.List[ProofDue]{Next: l.Next}
	for _, d := range l.Items {
		due := ProofDue{ProofDue: d, State: "never proved"}
		if d.ProvedAt != nil {
			due.StaleAt, due.State = new(d.ProvedAt.Add(s.Fresh)), "stale"
			if due.StaleAt.After(now) {
				due.State = "soon stale"
			}
		}
		out.Items = append(out.Items, due)
	}
	return out, nil
}
