package rotation

// State is how far a rotation is.
type State string

// The states of a rotation.
const (
	Running State = "running"
	Paused  State = "paused"
	Undoing State = "undoing"
	Ended   State = "done"
	Undone  State = "undone"
)

// ItemState is how far one login of a rotation is.
type ItemState string

// The states of one login of a rotation.
const (
	ItemAsked    ItemState = "asked"
	ItemWaiting  ItemState = "waiting"
	ItemPlacing  ItemState = "placing"
	ItemPlaced   ItemState = "placed"
	ItemProved   ItemState = "proved"
	ItemRemoving ItemState = "removing"
	ItemDone     ItemState = "done"
	ItemFailed   ItemState = "failed"
	ItemUndoing  ItemState = "undoing"
	ItemUndone   ItemState = "undone"
)

// Left returns how many logins are still to be worked on, by how many are in which state.
func Left(counts map[ItemState]int) int {
	return counts[ItemAsked] + counts[ItemWaiting] + counts[ItemPlaced] + counts[ItemProved]
}
