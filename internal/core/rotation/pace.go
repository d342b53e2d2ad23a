package rotation

// PauseWhy is why a rotation waits for somebody's decision.
type PauseWhy string

// The reasons. NoPause is that it continues.
const (
	NoPause     PauseWhy = ""
	ManyFailed  PauseWhy = "many-failed"      // as many logins failed as were allowed
	GroupFailed PauseWhy = "group-failed"     // logins of the first group failed
	GroupUndone PauseWhy = "group-taken-back" // logins of the first group were taken back
	GroupDone   PauseWhy = "group-done"       // all of the first group are done, and the rest waits for a word
)

// Tally is how far a rotation is.
type Tally struct {
	// Failed are the logins that failed, Left those that are neither failed nor over.
	Failed, Left int
	// Of the first group, where there is one:
	GroupFailed, GroupUndone int
	// Group is its size where the rest waits for somebody's word, and 0 where it does not; GroupDone is how many
	// of it are done.
	Group, GroupDone int
}

// Pause returns why a rotation pauses, and how many logins that is about. stopAfter is how many
// logins may fail before it does; 0 for any number. A rotation of which nothing is left continues to
// its end. A first group that was taken back was a trial that did not please, so the rest waits too.
func Pause(t Tally, stopAfter int) (PauseWhy, int) {
	switch {
	case t.Left == 0:
		return NoPause, 0
	case stopAfter > 0 && t.Failed >= stopAfter:
		return ManyFailed, t.Failed
	case t.GroupFailed > 0:
		return GroupFailed, t.GroupFailed
	case t.GroupUndone > 0:
		return GroupUndone, t.GroupUndone
	case t.Group > 0 && t.GroupDone >= t.Group:
		return GroupDone, t.GroupDone
	}
	return NoPause, 0
}
