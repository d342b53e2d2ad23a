package subscribers

// Kind is what a subscriber can be told of.
type Kind string

// The kinds. All is every entry of the daybook.
const (
	LoginShut   Kind = "login-shut"
	Stranger    Kind = "stranger"
	RunFailed   Kind = "run-failed"
	LeftOpen    Kind = "left-open"
	KeyReleased Kind = "key-released"
	Overdue     Kind = "grant-overdue"
	Asked       Kind = "holder-asked"
	Differs     Kind = "charter-differs"
	All         Kind = "all"
)

// Kinds are all that there are.
var Kinds = []Kind{LoginShut, Stranger, RunFailed, LeftOpen, KeyReleased, Overdue, Asked, Differs, All}

// KindOf returns of which kind an entry of the daybook is; "" for one that only those are told of who
// are told of all.
func KindOf(action, outcome string) Kind {
	switch {
	case action == "login.shut":
		return LoginShut
	case action == "login.stranger":
		return Stranger
	case action == "restore.left-open":
		return LeftOpen
	case action == "charter.differs":
		return Differs
	case action == "holder.asked":
		return Asked
	case action == "key.release":
		return KeyReleased
	case action == "grant.end" && outcome == "refused":
		return Overdue
	case outcome == "failed":
		return RunFailed
	}
	return ""
}
