package rotate

import (
	"context"
	"slices"

	"github.com/google/uuid"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/service/replace"
	"plumlatch/internal/store"
)

// undoItems has what waits left as it is, and what is beside the old key taken out again. What is
// being worked on is undone when that has ended. A new key that was shown to open the login
// stays, unless the service can log in with the old one or somebody has just shown that it opens
// the login; and always where the old one is lost.
func (s *Service) undoItems(
	ctx context.Context, tx *store.Store, id, login uuid.UUID,
) (undone undoneItems, err error) {
	undone.affected, err = tx.ChangeItems(
		ctx, id, login, []rotation.ItemState{rotation.ItemAsked, rotation.ItemWaiting},
		record.ItemChange{State: rotation.ItemUndone, Detail: new("it was not begun"), EndedAt: new(s.now())},
	)
	if err != nil {
		return undone, err
	}
	items, lost, err := tx.ItemsBeside(ctx, id, login)
	if err != nil {
		return undone, err
	}
	var logins, olds []uuid.UUID
	for _, i := range items {
		logins = append(logins, i.LoginID)
		if i.OldKeyID != nil {
			olds = append(olds, *i.OldKeyID)
		}
	}
	kept, err := tx.KeptAmong(ctx, olds)
	if err != nil {
		return undone, err
	}
	signed, err := tx.SignedSince(ctx, logins, s.now().Add(-replace.OldProvedWithin))
	if err != nil {
		return undone, err
	}
	var back, stay []uuid.UUID
	why := ""
	for _, i := range items {
		switch {
		case i.OldKeyID == nil || lost[i.ID]:
			why = i.OldName + " is lost, so the line of " + i.NewName + " stays"
			stay = append(stay, i.ID)
		case (i.State == rotation.ItemProved || i.ProvedAt != nil) && !replace.IsHere(i.Means) &&
			!(kept[*i.OldKeyID] && s.Safe != nil) && !signed[[2]uuid.UUID{i.LoginID, *i.OldKeyID}]:
			why = i.NewName + " was shown to open the login, and " + i.OldName + " was not; so both lines stay"
			stay = append(stay, i.ID)
		default:
			back = append(back, i.ID)
		}
	}
	if err := tx.ChangeItemsByID(
		ctx, stay, record.ItemChange{State: rotation.ItemFailed, Detail: &why, EndedAt: new(s.now())},
	); err != nil {
		return undone, err
	}
	undone.affected += len(back) + len(stay)
	undone.stay, undone.why = len(stay), why
	for _, i := range items {
		if slices.Contains(stay, i.ID) && (i.State == rotation.ItemProved || i.ProvedAt != nil) {
			undone.proved++
		}
	}
	return undone, tx.ChangeItemsByID(ctx, back, record.ItemChange{State: rotation.ItemUndoing})
}

// undoneItems are how many items an undo concerned, how many of them stay as they are, why, and how
// many of those have a new key that was shown to open the login.
type undoneItems struct {
	affected, stay, proved int
	why                    string
}

// refused is why an undo that somebody asks for is not begun: it would not change the login that was
// named, or leave in place what the rotation can bring to its end by itself.
func (u undoneItems) refused(oneLogin bool) error {
	if u.stay == 0 || !oneLogin && (u.stay < u.affected || u.proved == 0) {
		return nil
	}
	return &problem.Problem{
		Kind:   problem.Forbidden,
		Code:   "new-key-proved",
		Field:  "login",
		Detail: u.why,
		Remedy: "If the old key is not lost, show within 15 minutes before that it opens the login: plumlatch prove LOGIN " +
			"-with FILE",
	}
}
