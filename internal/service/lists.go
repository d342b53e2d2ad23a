package service

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/store"
)

// maxListed is the greatest number of keys in one call.
const maxListed = 5000

// ListedKey is one key of a list to import.
type ListedKey struct{ Name, PublicKey string }

// ListResult is what became of one key of a list.
type ListResult struct {
	Name string
	// State is recorded, known, name taken or refused.
	State   string
	KnownAs string
	Detail  string
}

// ImportKeys records those of the keys that can be recorded, in one
// transaction, and says what became of each. in.Name is not used.
func (s *Service) ImportKeys(ctx context.Context, actor Actor, in NewKey, list []ListedKey) ([]ListResult, error) {
	if len(list) > maxListed {
		return nil, &Problem{Kind: TooLarge, Code: "too-large", Field: "keys", Detail: fmt.Sprintf("the list has %d keys; %d is the limit of one call", len(list), maxListed), Remedy: "Send it in parts"}
	}
	if err := errors.Join(checkText("purpose", in.Purpose), checkLabels(in.Labels)); err != nil {
		return nil, err
	}
	results := make([]ListResult, len(list))
	rows := make([]store.Key, 0, len(list))
	places := make([]int, 0, len(list)) // of the rows in the list
	for i, l := range list {
		results[i] = ListResult{Name: l.Name, State: "refused"}
		if err := name.Check(l.Name); err != nil {
			results[i].Detail = err.Error()
			continue
		}
		file, err := keypair.ReadPublic(l.PublicKey)
		if err != nil {
			results[i].Detail = err.Error()
			continue
		}
		in.Name = l.Name
		row, err := s.recordFor(ctx, actor, in, file.Public, rows)
		if err != nil {
			return nil, err
		}
		rows, places = append(rows, row), append(places, i)
	}
	recorded := 0
	err := s.store.InTx(ctx, func(tx *store.Store) error {
		there, err := tx.AddKeysOrSkip(ctx, rows)
		if err != nil {
			return err
		}
		for n, row := range rows {
			r := &results[places[n]]
			switch found, ok := there[string(row.SHA256)]; {
			case ok && found.ID == row.ID:
				r.State = "recorded"
				recorded++
			case ok:
				r.State, r.KnownAs = "known", found.Name
			default:
				r.State = "name taken"
			}
		}
		if recorded == 0 {
			return nil
		}
		e := s.entry(actor, "key.import-list", "key", fmt.Sprintf("%s and others", rows[0].Name), "", "%s imported %s from a list of %d.", actor.Name, counted(recorded, "key"), len(list))
		names := make([]string, 0, recorded)
		for _, r := range results {
			if r.State == "recorded" {
				names = append(names, r.Name)
			}
		}
		e.Details = map[string]any{"names": names}
		return tx.Note(ctx, e)
	})
	return results, err
}

// recordFor is record with the keeper looked up once for the whole list.
func (s *Service) recordFor(ctx context.Context, actor Actor, in NewKey, public keypair.Public, before []store.Key) (store.Key, error) {
	if len(before) == 0 {
		return s.record(ctx, actor, in, public, "import")
	}
	k := s.newRecord(actor, in, public, "import")
	k.Keeper, k.KeeperID = before[0].Keeper, before[0].KeeperID
	return k, nil
}
