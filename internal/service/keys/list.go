package keys

import (
	"context"
	"errors"
	"fmt"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/record"
	"plumlatch/internal/service/journal"
	"plumlatch/internal/service/people"
	"plumlatch/internal/service/problem"
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
func (s *Service) ImportKeys(
	ctx context.Context, actor people.Actor, in NewKey, list []ListedKey,
) ([]ListResult, error) {
	if len(list) > maxListed {
		return nil, &problem.Problem{
			Kind:   problem.TooLarge,
			Code:   "too-large",
			Field:  "keys",
			Detail: fmt.Sprintf("the list has %d keys; %d is the limit of one call", len(list), maxListed),
			Remedy: "Send it in parts",
		}
	}
	if err := errors.Join(problem.CheckText("purpose", in.Purpose), problem.CheckLabels(in.Labels)); err != nil {
		return nil, err
	}
	results := make([]ListResult, len(list))
	rows := make([]record.Key, 0, len(list))
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
	record := func(tx *store.Store) error {
		there, err := tx.AddKeysOrSkip(ctx, rows)
		if err != nil {
			return err
		}
		var names []string
		for n, row := range rows {
			r := &results[places[n]]
			switch found, ok := there[string(row.SHA256)]; {
			case ok && found.ID == row.ID:
				r.State = "recorded"
				names = append(names, r.Name)
			case ok:
				r.State, r.KnownAs = "known", found.Name
			default:
				r.State = "name taken"
			}
		}
		if len(names) == 0 {
			return nil
		}
		if err := tx.ClaimStrangers(ctx); err != nil {
			return err
		}
		e := s.journal.Entry(
			actor.By(), "key.import-list", "key", names[0], "",
			journal.Facts{"imported": len(names), "listed": len(list), "names": names},
		)
		return tx.Note(ctx, e)
	}
	err := s.store.InTx(ctx, record)
	for range 3 {
		var taken *store.TakenError // by somebody else's list, at the same time
		if !errors.Is(err, store.ErrDeadlock) && !errors.As(err, &taken) {
			break
		}
		err = s.store.InTx(ctx, record)
	}
	return results, err
}

// recordFor is record with the holder looked up once for the whole list.
func (s *Service) recordFor(
	ctx context.Context, actor people.Actor, in NewKey, public keypair.Public, before []record.Key,
) (record.Key, error) {
	if len(before) == 0 {
		return s.record(ctx, actor, in, public, "import")
	}
	k := s.NewRecord(actor, in, public, "import")
	k.Holder, k.HolderID = before[0].Holder, before[0].HolderID
	return k, nil
}

// ListLine is one line of a list of keys that was read.
type ListLine struct {
	keypair.Listed
	// Name is the one proposed; "" for a line that is refused.
	Name    string
	KnownAs string
}

// ReadKeyList says what the lines of a text are and under which names, that
// begin with the prefix, their keys would be recorded. Nothing is kept.
func (s *Service) ReadKeyList(ctx context.Context, text, prefix string) ([]ListLine, []keypair.Note, error) {
	if err := problem.CheckName("prefix", prefix); err != nil {
		return nil, nil, err
	}
	listed, notes, err := keypair.ReadList(text)
	if err != nil {
		return nil, nil, problem.FromRefusal("text", err)
	}
	if len(listed) > maxListed {
		return nil, nil, &problem.Problem{
			Kind:   problem.TooLarge,
			Code:   "too-large",
			Field:  "text",
			Detail: fmt.Sprintf("the text has %d lines; %d is the limit here", len(listed), maxListed),
			Remedy: "Import it with the client: plumlatch key import NAME -list FILE",
		}
	}
	keypair.RefuseTwice(listed)
	var comments []string
	var digests [][]byte
	var places []int
	lines := make([]ListLine, len(listed))
	for n, l := range listed {
		lines[n].Listed = l
		if l.Refused == nil {
			comments, digests, places = append(comments, l.Comment), append(digests, l.SHA256()), append(places, n)
		}
	}
	known, err := s.store.KeysIn(ctx, digests)
	if err != nil {
		return nil, nil, err
	}
	for i, given := range name.ForList(prefix, comments) {
		lines[places[i]].Name, lines[places[i]].KnownAs = given, known[string(digests[i])].Name
	}
	return lines, notes, nil
}
