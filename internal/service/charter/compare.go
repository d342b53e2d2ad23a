package charter

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"slices"
	"strings"

	"github.com/google/uuid"

	"plumlatch/internal/core/charter"
	"plumlatch/internal/core/custody"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reach"
	"plumlatch/internal/record"
	"plumlatch/internal/service/fleet"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
)

// Wanted are the files of a charter, and how they are taken.
type Wanted struct {
	Files []charter.File
	// Strict is whether a pattern that fits nothing is a flaw.
	Strict bool
}

// Compared is what differs from a charter.
type Compared struct {
	charter.Comparison
	Charter charter.Charter
	// Digest is the SHA-256 of the files, and ID names just this comparison: the files, and all that was found.
	Digest []byte
	ID     string
}

// Compare says what differs from a charter. Nothing is kept.
func (s *Service) Compare(ctx context.Context, w Wanted) (Compared, error) {
	if err := people.FleetWide(ctx, "a charter"); err != nil {
		return Compared{}, err
	}
	select {
	case s.reading <- struct{}{}:
	case <-ctx.Done():
		return Compared{}, ctx.Err()
	}
	defer func() { <-s.reading }()
	out := Compared{Digest: charter.Digest(w.Files)}
	var flaws []charter.Flaw
	if out.Charter, flaws = charter.Read(w.Files); len(flaws) > 0 {
		out.Flaws = flaws
		return out, nil
	}
	world, err := s.world(ctx, out.Charter)
	if err != nil {
		return out, err
	}
	out.Comparison = charter.Compare(out.Charter, world.World)
	changed, err := s.means(ctx, world, out.Changes)
	if err != nil {
		return out, err
	}
	if changed {
		out.Comparison = charter.Compare(out.Charter, world.World)
	}
	if w.Strict {
		for _, n := range out.Notes {
			if n.Code == "nothing-fits" {
				out.Flaws = append(out.Flaws, charter.Flaw{Place: n.At, Code: n.Code, What: n.What, Remedy: n.Remedy})
			}
		}
	}
	out.ID, err = idOf(out)
	return out, err
}

func idOf(c Compared) (string, error) {
	found, err := json.Marshal([]any{hex.EncodeToString(c.Digest), c.Changes, c.Reach})
	sum := sha256.Sum256(found)
	return hex.EncodeToString(sum[:16]), err
}

// world is what there is, with the records that it was made from, at the same places.
type world struct {
	charter.World
	keys   []uuid.UUID
	logins []uuid.UUID
}

// world reads what there is.
func (s *Service) world(ctx context.Context, c charter.Charter) (*world, error) {
	now, err := s.access.World(ctx, record.ReachFilter{EveryKey: true})
	if err != nil {
		return nil, err
	}
	w := &world{World: charter.World{
		Reach: now.Input, Instances: map[string]charter.WorldInstance{}, People: map[string]bool{},
		Teams: map[string][]string{}, Rules: map[string]charter.WorldRule{}, Clouds: map[string]charter.WorldCloud{},
		Lines: map[[2]int32]string{},
	}}
	if err := s.keysOf(ctx, w, now.Keys); err != nil {
		return nil, err
	}
	loginAt := make(map[uuid.UUID]int32, len(now.Logins))
	for n, l := range now.Logins {
		w.logins = append(w.logins, l.ID)
		w.Logins = append(
			w.Logins,
			charter.WorldLogin{Name: fleet.LoginName(l.OSUser, l.Instance), Instance: l.Instance, Region: l.Region},
		)
		loginAt[l.ID] = int32(n)
	}
	if err := s.grantsOf(ctx, w, loginAt); err != nil {
		return nil, err
	}
	instances, err := s.store.InstanceLabels(ctx)
	if err != nil {
		return nil, err
	}
	for _, i := range instances {
		w.Instances[i.Name] = charter.WorldInstance{Labels: i.Labels}
	}
	if err := s.peopleOf(ctx, w); err != nil {
		return nil, err
	}
	return w, s.cloudsOf(ctx, w, c)
}

func (s *Service) keysOf(ctx context.Context, w *world, list []record.ReachKey) error {
	described, err := s.store.CharterKeys(ctx)
	if err != nil {
		return err
	}
	for _, k := range list {
		out := charter.WorldKey{
			Name: k.Name, SHA256: keypair.FormatSHA256(k.SHA256), State: custody.State(k.State), Steward: k.Steward,
			Purpose: described[k.ID].Purpose, Labels: described[k.ID].Labels,
			Type: described[k.ID].Type, Bits: described[k.ID].Bits,
		}
		of := described[k.ID]
		out.Line = keypair.Public{Algorithm: of.Algorithm, Blob: of.Blob, Comment: of.Comment}.Line()
		if k.Holder != nil && k.HolderName != nil {
			out.Holder = *k.HolderName
		}
		w.keys = append(w.keys, k.ID)
		w.Keys = append(w.Keys, out)
	}
	return nil
}

func (s *Service) grantsOf(ctx context.Context, w *world, loginAt map[uuid.UUID]int32) error {
	keyAt := make(map[uuid.UUID]int32, len(w.keys))
	for n, id := range w.keys {
		keyAt[id] = int32(n)
	}
	list, err := s.store.CharterGrants(ctx)
	if err != nil {
		return err
	}
	for _, g := range list {
		key, known := keyAt[g.KeyID]
		login, here := loginAt[g.LoginID]
		if !known || !here {
			continue // of an instance that is gone
		}
		out := charter.WorldGrant{Key: key, Login: login, Charter: g.Charter, Why: g.Reason, Limits: g.Limits}
		if g.Until != nil {
			out.Until = g.Until.UTC()
		}
		w.Grants = append(w.Grants, out)
	}
	lines, err := s.store.LinesNotAsGranted(ctx)
	for _, l := range lines {
		key, known := keyAt[l.KeyID]
		login, here := loginAt[l.LoginID]
		if known && here {
			w.Lines[[2]int32{key, login}] = *l.Options
		}
	}
	return err
}

func (s *Service) peopleOf(ctx context.Context, w *world) error {
	holders, err := s.store.Holders(ctx)
	if err != nil {
		return err
	}
	for _, h := range holders {
		if h.Kind == "team" {
			w.Teams[h.Name] = nil
			if h.Members != "" {
				w.Teams[h.Name] = strings.Split(h.Members, ", ")
			}
			continue
		}
		w.People[h.Name] = h.LeftAt == nil
	}
	list, err := s.rules.RotationRules(ctx)
	for _, r := range list {
		w.Rules[r.Name] = charter.WorldRule{
			Selection: r.Wanted.Selection, Instances: r.Wanted.Instances, LabelName: r.Wanted.LabelName,
			LabelText: r.Wanted.LabelText, Region: r.Wanted.Region,
		}
	}
	return err
}

// cloudsOf asks those clouds that the charter needs what they offer.
func (s *Service) cloudsOf(ctx context.Context, w *world, c charter.Charter) error {
	list, err := s.store.Clouds(ctx)
	if err != nil {
		return err
	}
	needed := map[string]bool{}
	for _, i := range c.Instances {
		if _, there := w.Instances[i.Name]; there {
			continue
		}
		if i.Launch != nil {
			needed[i.Launch.Cloud] = true
		}
		if i.BringIn != nil {
			needed[i.BringIn.Cloud] = true
		}
	}
	for _, known := range list {
		out := charter.WorldCloud{Users: map[string]string{}, Sizes: map[string]bool{}, Zones: map[string]bool{}}
		if needed[known.Name] || needed[""] && len(list) == 1 {
			offers, err := s.fleet.Catalogue(ctx, known.Name, "")
			var p *problem.Problem
			if errors.As(err, &p) {
				out.Away = p.Detail
			} else if err != nil {
				return err
			}
			for _, i := range offers.Images {
				out.Users[i.Name] = i.LoginUser
			}
			for _, z := range offers.Sizes {
				out.Sizes[z.Name] = true
			}
			for _, z := range offers.Zones {
				out.Zones[z.Name] = true
			}
		}
		w.Clouds[known.Name] = out
	}
	return nil
}

// atOnce is how many logins are asked for in one question.
const atOnce = 5000

// means finds whether the service can change the lines of the logins that a comparison changes. It reports whether
// there is one that it cannot.
func (s *Service) means(ctx context.Context, w *world, changes []charter.Change) (some bool, err error) {
	at := make(map[string]int, len(w.Logins))
	for n, l := range w.Logins {
		at[l.Name] = n
	}
	place := map[uuid.UUID]int{}
	var ids []uuid.UUID
	for _, c := range changes {
		n, there := at[c.Login]
		if !there || !edits(c.Kind) {
			continue
		}
		if _, twice := place[w.logins[n]]; !twice {
			place[w.logins[n]] = n
			ids = append(ids, w.logins[n])
		}
	}
	for part := range slices.Chunk(ids, atOnce) {
		found, err := s.store.LoginsToSweep(ctx, part)
		if err != nil {
			return some, err
		}
		for _, l := range found {
			if p := s.access.NoMeans(l); p != nil {
				w.Logins[place[l.ID]].NoMeans, some = p.Detail, true
			}
		}
	}
	return some, nil
}

// edits reports whether a change of the kind changes lines.
func edits(k charter.Kind) bool {
	return slices.Contains(
		[]charter.Kind{charter.PlaceLine, charter.Loosen, charter.ChangeEnd, charter.Limit, charter.Withdraw}, k,
	)
}

// Charters returns all charters that were settled, by name.
func (s *Service) Charters(ctx context.Context) ([]record.Charter, error) {
	return s.store.Charters(ctx)
}

// worse reports whether a login is less safe after than before.
func worse(r charter.Reached) bool { return reach.Rank(r.After) < reach.Rank(r.Before) }
