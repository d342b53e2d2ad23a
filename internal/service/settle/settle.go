package settle

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/runs"
	"plumlatch/internal/service/access"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/keys"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// settleKind is the kind of the runs that settle the differences of one login.
const settleKind = "settle"

// Choice is what will be done about one difference, as it was shown.
type Choice struct {
	Login, SHA256 string
	Status        reach.Status
	Choice        reach.Choice
	// Name is that of the record that an accepted stranger gets; "" for one made
	// from its comment. Holder is who holds it; "" for nobody.
	Name, Holder string
}

// The states of a difference that was chosen to be settled.
const (
	settledRecorded = "recorded"
	settledInRun    = "in a run"
	settledLeftOut  = "left out"
)

// Settled is what is being done about one difference.
type Settled struct {
	Choice
	State string
	// Detail is why it was left out.
	Detail string
	Run    uuid.UUID // the zero one where there is none
}

const maxChoices = 500

// chosen is a choice with the difference that it is about.
type chosen struct {
	place int // in the list that was asked for
	Choice
	record.Difference
}

// Settle does what was chosen about differences. What is accepted, and a grant
// that is withdrawn because its line is not there, is recorded at once; for each
// login whose lines are to change there is one run. One that is not as it was shown,
// or that the service cannot do, is left out and says why.
func (s *Service) Settle(
	ctx context.Context, actor people.Actor, choices []Choice, reason string,
) ([]Settled, []record.Run, error) {
	if err := problem.CheckText("reason", reason); err != nil {
		return nil, nil, err
	}
	if len(choices) == 0 || len(choices) > maxChoices {
		return nil, nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "bad-choices",
			Field:  "choices",
			Detail: fmt.Sprintf("%d choices were given; 1 to %d are taken at once", len(choices), maxChoices),
		}
	}
	digests, err := readChoices(choices)
	if err != nil {
		return nil, nil, err
	}
	names := make([]string, len(choices))
	for n, c := range choices {
		names[n] = c.Login
	}
	logins, err := s.fleet.LoginsNamed(ctx, names)
	if err != nil {
		return nil, nil, err
	}
	now, err := s.differencesOf(ctx, slices.Collect(maps.Values(logins)), digests)
	if err != nil {
		return nil, nil, err
	}
	out := make([]Settled, len(choices))
	byLogin := map[uuid.UUID][]chosen{}
	var order, keys []uuid.UUID
	for n, c := range choices {
		out[n].Choice = c
		d, there := now[differing{logins[c.Login], c.SHA256}]
		switch {
		case !there:
			out[n].State, out[n].Detail = settledLeftOut, "it is no difference now"
			continue
		case d.Status != c.Status:
			out[n].State, out[n].Detail = settledLeftOut, fmt.Sprintf("it is %s now, not %s", d.Status, c.Status)
			continue
		}
		out[n].Name = cmp.Or(c.Name, d.Name)
		if byLogin[d.LoginID] == nil {
			order = append(order, d.LoginID)
		}
		if d.KeyID != nil {
			keys = append(keys, *d.KeyID)
		}
		byLogin[d.LoginID] = append(byLogin[d.LoginID], chosen{n, c, d})
	}
	of, err := s.subjects(ctx, order, keys)
	if err != nil {
		return nil, nil, err
	}
	var started []record.Run
	for _, id := range order {
		run, err := s.settleLogin(ctx, actor, of, id, byLogin[id], reason, out)
		if err != nil {
			return nil, nil, err
		}
		if run != nil {
			started = append(started, *run)
		}
	}
	return out, started, nil
}

// readChoices returns the digests of the keys that the choices are about.
func readChoices(choices []Choice) ([][]byte, error) {
	digests := make([][]byte, len(choices))
	for n, c := range choices {
		if !slices.Contains(reach.Choices(c.Status), c.Choice) {
			return nil, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-choice",
				Field:  fmt.Sprintf("choices[%d].choice", n),
				Detail: fmt.Sprintf("%q cannot be done about what is %s", c.Choice, c.Status),
				Remedy: "Choose " + choiceWords(c.Status),
			}
		}
		d, ok := keypair.ReadFingerprint(c.SHA256)
		if !ok || d.Kind != "sha256" {
			return nil, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "bad-digest",
				Field:  fmt.Sprintf("choices[%d].sha256", n),
				Detail: fmt.Sprintf("%q is no SHA-256 fingerprint", c.SHA256),
			}
		}
		digests[n] = d.Sum
	}
	return digests, nil
}

// differing is a login and the SHA-256 fingerprint of a key in it.
type differing struct {
	login  uuid.UUID
	sha256 string
}

// differencesOf returns how keys of the digests differ in the logins now.
func (s *Service) differencesOf(
	ctx context.Context, logins []uuid.UUID, digests [][]byte,
) (map[differing]record.Difference, error) {
	f := record.DifferenceFilter{Logins: logins, Digests: digests}
	out := map[differing]record.Difference{}
	for p := (record.Page{Limit: maxChoices}); ; {
		page, err := s.store.Differences(ctx, f, p)
		if err != nil {
			return nil, err
		}
		for _, d := range page.Items {
			out[differing{d.LoginID, keypair.FormatSHA256(d.SHA256)}] = d
		}
		if p.After = page.Next; p.After == "" {
			return out, nil
		}
	}
}

// subjects are the logins and keys that choices are about.
type subjects struct {
	logins map[uuid.UUID]record.LoginToSweep
	keys   map[uuid.UUID]record.Key
}

func (s *Service) subjects(ctx context.Context, logins, keys []uuid.UUID) (subjects, error) {
	of := subjects{map[uuid.UUID]record.LoginToSweep{}, map[uuid.UUID]record.Key{}}
	found, err := s.store.LoginsToSweep(ctx, logins)
	if err != nil {
		return of, err
	}
	for _, l := range found {
		of.logins[l.ID] = l
	}
	known, err := s.store.KeysByID(ctx, keys)
	for _, k := range known {
		of.keys[k.ID] = k
	}
	return of, err
}

// settleLogin does what was chosen for one login and starts the run that changes its
// lines; nil if none are to change.
func (s *Service) settleLogin(
	ctx context.Context, actor people.Actor, of subjects, login uuid.UUID, list []chosen, reason string, out []Settled,
) (*record.Run, error) {
	l, there := of.logins[login]
	if !there {
		for _, c := range list {
			out[c.place].State, out[c.place].Detail = settledLeftOut, "the login is gone"
		}
		return nil, nil
	}
	called := fleet.LoginName(l.OSUser, l.Instance.Name)
	var place []uuid.UUID
	var remove []string
	for _, c := range list {
		item := &out[c.place]
		switch c.Choice.Choice {
		case reach.Accept, reach.Withdraw:
			err := s.settleAtOnce(ctx, actor, l, c, reason, item)
			var p *problem.Problem
			if errors.As(err, &p) {
				item.State, item.Detail = settledLeftOut, p.Detail
			} else if err != nil {
				return nil, err
			}
			continue
		}
		if p := s.access.NoMeans(l); p != nil {
			item.State, item.Detail = settledLeftOut, p.Detail
			continue
		}
		if l.Steward != nil && bytes.Equal(l.Steward.SHA256, c.Difference.SHA256) {
			item.State, item.Detail = settledLeftOut, "the steward key does not change its own line"
			continue
		}
		if c.Choice.Choice == reach.Remove {
			item.State = settledInRun
			remove = append(remove, keypair.FormatSHA256(c.Difference.SHA256))
			continue
		}
		var p *problem.Problem
		if errors.As(s.keys.Grantable(of.keys[*c.KeyID]), &p) { // a key that was lost since is not let in again
			item.State, item.Detail = settledLeftOut, p.Detail
			continue
		}
		item.State = settledInRun
		place = append(place, *c.KeyID)
	}
	if len(place)+len(remove) == 0 {
		return nil, nil
	}
	run := s.engine.NewRun(runs.Request{
		Kind:     settleKind,
		Instance: l.Instance,
		By:       actor.Name,
		Reason:   reason,
		Payload:  settleWork{Login: login, Place: place, Remove: remove},
		At:       s.now(),
	})
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if err := tx.AddRun(ctx, run); err != nil {
			return err
		}
		return tx.Note(ctx, s.journal.Entry(
			actor.By(), "login.settle", "login", called, reason,
			journal.Facts{"place": len(place), "remove": len(remove)},
		))
	})
	if err != nil {
		var taken *store.TakenError
		if !errors.As(err, &taken) {
			return nil, err
		}
		for _, c := range list {
			if out[c.place].State == settledInRun {
				out[c.place].State, out[c.place].Detail = settledLeftOut, "another run is at work on "+l.Instance.Name
			}
		}
		return nil, nil
	}
	for _, c := range list {
		if out[c.place].State == settledInRun {
			out[c.place].Run = run.ID
		}
	}
	s.engine.Wake(ctx, run.ID)
	run, err = s.store.RunByID(ctx, run.ID)
	return &run, err
}

// settleAtOnce records what needs no change of lines.
func (s *Service) settleAtOnce(
	ctx context.Context, actor people.Actor, l record.LoginToSweep, c chosen, reason string, item *Settled,
) error {
	called := fleet.LoginName(l.OSUser, l.Instance.Name)
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		if c.Choice.Choice == reach.Withdraw {
			if err := tx.WithdrawGrant(ctx, l.ID, *c.KeyID, s.now(), actor.Name); err != nil {
				return err
			}
			return tx.Note(ctx, journal.OnKeys(
				s.journal.Entry(
					actor.By(), "grant.withdraw:absent", "login", called, reason,
					journal.Facts{"key": c.Difference.Name},
				),
				c.Difference.Name,
			))
		}
		k, err := s.acceptable(ctx, tx, actor, l, c)
		if err != nil {
			return err
		}
		item.Name = k.Name
		if _, err := tx.AddOrKeepGrant(ctx, record.Grant{
			ID:        store.NewID(),
			KeyID:     k.ID,
			LoginID:   l.ID,
			GrantedAt: s.now(),
			GrantedBy: actor.Name,
			Reason:    cmp.Or(reason, "accepted"),
		}); err != nil {
			return err
		}
		if err := tx.LimitAsSeen(ctx, l.ID, k.ID); err != nil {
			return err
		}
		return tx.Note(ctx, journal.OnKeys(
			s.journal.Entry(
				actor.By(), "grant.accept", "login", called, reason,
				journal.Facts{"key": k.Name},
			),
			k.Name,
		))
	})
	var taken *keyTaken
	if errors.As(err, &taken) {
		return s.keys.TakenKey(ctx, taken.error, taken.wanted, taken.public)
	}
	if err == nil {
		item.State = settledRecorded
	}
	return err
}

// keyTaken ends the transaction in which a key would have been recorded whose name or public key is there
// already; what it clashes with is looked up after it.
type keyTaken struct {
	error
	wanted string
	public keypair.Public
}

// acceptable returns the key that will be granted as it is; a stranger's gets a
// record.
func (s *Service) acceptable(
	ctx context.Context, tx *store.Store, actor people.Actor, l record.LoginToSweep, c chosen,
) (record.Key, error) {
	if c.KeyID != nil {
		k, err := tx.KeyByID(ctx, *c.KeyID)
		if err != nil {
			return k, err
		}
		return k, s.keys.Grantable(k)
	}
	strangers, err := tx.StrangersOf(ctx, l.InstanceID, access.MaxOpeners)
	if err != nil {
		return record.Key{}, err
	}
	at := slices.IndexFunc(strangers, func(g record.Stranger) bool {
		return g.LoginID == l.ID && bytes.Equal(g.SHA256, c.Difference.SHA256)
	})
	if at < 0 {
		return record.Key{}, &problem.Problem{
			Kind:   problem.Conflict,
			Code:   "not-there",
			Detail: "it no longer is in place there",
		}
	}
	public, err := keypair.ReadLine(
		keypair.Public{Algorithm: strangers[at].Algorithm, Blob: strangers[at].Blob, Comment: strangers[at].Comment}.Line(),
	)
	if err != nil {
		return record.Key{}, problem.FromRefusal("sha256", err)
	}
	wanted := c.Choice.Name
	if wanted == "" {
		wanted = name.Suggest(cmp.Or(strangers[at].Comment, "found-on-"+l.Instance.Name))
		if _, err := tx.KeyNamed(ctx, wanted); err == nil {
			wanted = name.Suggest(
				wanted[:min(len(wanted), name.MaxLength-7)] + "-" + hex.EncodeToString(c.Difference.SHA256[:3]),
			)
		}
	}
	in := keys.NewKey{Name: wanted, Purpose: "found on " + l.Instance.Name}
	if err := keys.CheckNewKey(in); err != nil {
		return record.Key{}, err
	}
	k := s.keys.NewRecord(actor, in, public, "import")
	if c.Choice.Holder != "" {
		holder, err := tx.HolderNamed(ctx, c.Choice.Holder)
		if errors.Is(err, store.ErrNotFound) {
			return k, &problem.Problem{
				Kind:   problem.Invalid,
				Code:   "no-such-holder",
				Field:  "holder",
				Detail: fmt.Sprintf("there is no holder %q", c.Choice.Holder),
				Remedy: "See who there is: plumlatch holder list",
			}
		}
		if err != nil {
			return k, err
		}
		k.HolderID = &holder.ID
	}
	if err := s.keys.Grantable(k); err != nil {
		return k, err
	}
	if err := tx.AddKey(ctx, &k); err != nil {
		return k, &keyTaken{err, wanted, public}
	}
	if err := tx.ClaimStrangers(ctx); err != nil {
		return k, err
	}
	return k, tx.Note(ctx, s.journal.Entry(
		actor.By(), "key.import:found", "key", k.Name, "",
		journal.Facts{"key": keys.Describe(public), "instance": l.Instance.Name},
	))
}

func choiceWords(f reach.Status) string {
	var words []string
	for _, c := range reach.Choices(f) {
		words = append(words, string(c))
	}
	return strings.Join(words, " or ")
}
