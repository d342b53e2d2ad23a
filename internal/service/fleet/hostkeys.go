package fleet

import (
	"bytes"
	"cmp"
	"context"
	"slices"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

// HostKeysOf are the pinned host keys of an instance, and those that were pinned before, the last replaced first.
type HostKeysOf struct {
	Pinned []record.HostKey
	Former []record.FormerHostKey
	// Expected are those that are accepted once the machine shows them.
	Expected []record.ExpectedHostKey
}

const (
	// MostHostKeys is how many host keys an instance may have, mostFormer how many former ones are told of.
	MostHostKeys = 16
	mostFormer   = 50
)

// HostKeys returns the pinned host keys of an instance and those that were.
func (s *Service) HostKeys(ctx context.Context, instance string) (HostKeysOf, error) {
	i, err := s.Instance(ctx, instance)
	if err != nil {
		return HostKeysOf{}, err
	}
	out := HostKeysOf{Pinned: i.HostKeys}
	if out.Former, err = s.store.FormerHostKeys(ctx, i.ID, mostFormer); err != nil {
		return out, err
	}
	out.Expected, err = s.store.ExpectedHostKeys(ctx, i.ID)
	return out, err
}

// PinWanted says which host keys an instance has from now on: all of them, in the one-line OpenSSH form, how they were
// learnt, and why those that were pinned no longer are.
type PinWanted struct {
	HostKeys       []string
	Learnt, Reason string
}

// PinHostKeys pins host keys of an instance in the place of those that were, with its grants and its history as they
// are. Where a pinned one goes it takes a reason. It reports whether anything changed.
func (s *Service) PinHostKeys(
	ctx context.Context, actor people.Actor, instance string, w PinWanted,
) (out HostKeysOf, changed bool, err error) {
	if err := cmp.Or(problem.CheckText("reason", w.Reason), problem.CheckText("learnt", w.Learnt)); err != nil {
		return out, false, err
	}
	i, err := s.Instance(ctx, instance)
	if err != nil {
		return out, false, err
	}
	keys, err := s.hostKeysIn(w, i)
	if err != nil {
		return out, false, err
	}
	came, went := differing(keys, i.HostKeys), differing(i.HostKeys, keys)
	if changed = len(came)+len(went) > 0; changed {
		err = s.store.InTx(ctx, func(tx *store.Store) error {
			return s.ReplaceHostKeys(ctx, tx, actor, i, keys, w)
		})
		if err != nil {
			return out, false, err
		}
	}
	out, err = s.HostKeys(ctx, instance)
	return out, changed, err
}

// ReplaceHostKeys pins host keys in the place of those that are pinned, within a transaction. It takes a reason where a
// pinned one goes.
func (s *Service) ReplaceHostKeys(
	ctx context.Context, tx *store.Store, actor people.Actor, i record.Instance, keys []record.HostKey, w PinWanted,
) error {
	came, went := differing(keys, i.HostKeys), differing(i.HostKeys, keys)
	if len(went) > 0 && w.Reason == "" {
		return &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-reason",
			Field:  "reason",
			Detail: "pinned host keys are replaced with a reason, for the daybook",
			Remedy: "Find out why they changed, and say so: -reason TEXT",
		}
	}
	was := record.FormerHostKey{ReplacedAt: s.now(), ReplacedBy: actor.Name, Reason: w.Reason}
	if err := tx.ReplaceHostKeys(ctx, i.ID, keys, was); err != nil {
		return err
	}
	if _, err := tx.ForgetExpected(ctx, i.ID, nil); err != nil {
		return err
	}
	return tx.Note(ctx, s.journal.Entry(
		actor.By(), "hostkey.pin", "instance", i.Name, w.Reason,
		journal.Facts{"came": prints(came), "went": prints(went), "learnt": w.Learnt},
	))
}

// hostKeysIn reads the host keys that are to be pinned, one of each algorithm.
func (s *Service) hostKeysIn(w PinWanted, i record.Instance) ([]record.HostKey, error) {
	bad := func(detail string) error {
		return &problem.Problem{
			Kind: problem.Invalid, Code: "bad-host-keys", Field: "host_keys", Detail: detail,
			Remedy: "The client reads them from the machine: plumlatch host-key pin " + i.Name,
		}
	}
	if len(w.HostKeys) == 0 || len(w.HostKeys) > MostHostKeys {
		return nil, bad("1 to 16 host keys are needed")
	}
	var keys []record.HostKey
	for _, line := range w.HostKeys {
		k, err := keypair.ReadLine(line)
		if err != nil {
			return nil, problem.FromRefusal("host_keys", err)
		}
		if slices.ContainsFunc(keys, func(h record.HostKey) bool { return h.Algorithm == k.Algorithm }) {
			return nil, bad("two of them are " + k.Algorithm + " keys; a server has one of each kind")
		}
		keys = append(keys, record.HostKey{
			ID: store.NewID(), InstanceID: i.ID, Algorithm: k.Algorithm, Blob: k.Blob, SHA256: k.SHA256(),
			Learnt: w.Learnt, PinnedAt: s.now(),
		})
	}
	return keys, nil
}

// differing returns the keys that are not among the others.
func differing(keys, others []record.HostKey) (out []record.HostKey) {
	for _, k := range keys {
		if !slices.ContainsFunc(others, func(o record.HostKey) bool { return bytes.Equal(o.SHA256, k.SHA256) }) {
			out = append(out, k)
		}
	}
	return out
}

func prints(keys []record.HostKey) []string {
	out := make([]string, len(keys))
	for n, k := range keys {
		out[n] = keypair.FormatSHA256(k.SHA256)
	}
	return out
}
