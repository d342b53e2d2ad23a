package inventory

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/text"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// What is read of groups at most; more is an error, since each key is a way in.
const (
	mostGroups    = 1000
	mostGroupKeys = 1000
)

// keyGroups reads the keys that a cloud hands to groups of instances.
func (s *Service) keyGroups(ctx context.Context, c record.Cloud, can bool) ([]record.KeyGroup, error) {
	if !can {
		return nil, nil
	}
	told, err := s.clouds.Of(&c.ID).KeyGroups(ctx)
	if err != nil {
		return nil, fmt.Errorf("the keys of its groups: %w", err)
	}
	if len(told) > mostGroups {
		return nil, fmt.Errorf("it has %d groups with keys; %d are read", len(told), mostGroups)
	}
	out := make([]record.KeyGroup, len(told))
	for n, g := range told {
		out[n] = record.KeyGroup{
			GroupID: text.Line(g.Id, text.MaxLine), Name: text.Line(g.Name, text.MaxLine), Kind: string(g.Kind),
		}
		if !slices.Contains([]string{"project", "zone", "group"}, out[n].Kind) || out[n].GroupID != g.Id || g.Id == "" ||
			slices.ContainsFunc(out[:n], func(o record.KeyGroup) bool { return o.GroupID == g.Id }) {
			return nil, fmt.Errorf("it tells of a group that cannot be one: %q", out[n].GroupID)
		}
		if len(g.Keys) > mostGroupKeys {
			return nil, fmt.Errorf("%s has %d keys; %d are read", out[n].Name, len(g.Keys), mostGroupKeys)
		}
		for _, k := range g.Keys {
			public, comment, _, _, err := ssh.ParseAuthorizedKey([]byte(k.Line))
			if err != nil || len(k.Line) > keypair.MaxTextBytes {
				return nil, fmt.Errorf("%s has a key that cannot be read: %q", out[n].Name, text.Line(k.Line, text.MaxLine))
			}
			out[n].Keys = append(out[n].Keys, record.GroupKey{
				OSUser: text.Line(k.User, text.MaxLine), SHA256: keypair.Public{Blob: public.Marshal()}.SHA256(),
				Line: text.Line(k.Line, keypair.MaxTextBytes), Comment: text.Line(comment, text.MaxLine),
			})
		}
		slices.SortFunc(out[n].Keys, byUserAndKey)
		out[n].Keys = slices.CompactFunc(out[n].Keys, func(a, b record.GroupKey) bool { return byUserAndKey(a, b) == 0 })
	}
	return out, nil
}

func byUserAndKey(a, b record.GroupKey) int {
	return bytes.Compare(append([]byte(a.OSUser+"\x00"), a.SHA256...), append([]byte(b.OSUser+"\x00"), b.SHA256...))
}

// ReadGroups takes over the keys of a cloud's groups as they are now.
func (s *Service) ReadGroups(ctx context.Context, c record.Cloud) error {
	groups, err := s.keyGroups(ctx, c, true)
	if err != nil {
		return problem.FromCloud(err)
	}
	return s.store.InTx(ctx, func(tx *store.Store) error { return tx.PutKeyGroups(ctx, c.ID, groups) })
}

// putGroups keeps the groups of a cloud, and notes what has changed behind this service's back.
func (s *Service) putGroups(ctx context.Context, tx *store.Store, c record.Cloud, groups []record.KeyGroup) error {
	before, err := tx.KeyGroups(ctx, c.ID)
	if err != nil {
		return err
	}
	was := map[string][]record.GroupKey{}
	for _, g := range before {
		slices.SortFunc(g.Keys, byUserAndKey)
		was[g.GroupID] = g.Keys
	}
	changed := len(before) != len(groups)
	for _, g := range groups {
		keys, there := was[g.GroupID]
		changed = changed || !there
		came, went := beside(g.Keys, keys), beside(keys, g.Keys)
		if len(came)+len(went) == 0 {
			continue
		}
		changed = true
		facts := journal.Facts{"group": g.Name}
		if len(came) > 0 {
			facts["came"] = came
		}
		if len(went) > 0 {
			facts["went"] = went
		}
		entry := s.journal.Entry(journal.ByService, "group-key.changed", "cloud", c.Name, "", facts)
		if err := tx.Note(ctx, entry); err != nil {
			return err
		}
	}
	if !changed {
		return nil
	}
	return tx.PutKeyGroups(ctx, c.ID, groups)
}

// beside names the keys that are not among the others.
func beside(keys, others []record.GroupKey) (out []string) {
	for _, k := range keys {
		if !slices.ContainsFunc(others, func(o record.GroupKey) bool { return byUserAndKey(k, o) == 0 }) {
			out = append(out, fmt.Sprintf("%s for %s", keypair.FormatSHA256(k.SHA256), k.OSUser))
		}
	}
	return out
}
