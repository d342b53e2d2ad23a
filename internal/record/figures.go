package record

// Figures are counts of how the service does.
type Figures struct {
	// LiveRuns are the runs that have not ended, by kind; EndedRuns those of the last
	// day, by kind and state.
	LiveRuns  map[string]int
	EndedRuns map[[2]string]int
	// Jobs are those of the queue that are not done, by state.
	Jobs map[string]int
	// SweepsWaiting are logins that a sweep waits for.
	SweepsWaiting int
	// OpenClosings is what runs have opened and not closed; Overdue of these is open
	// beyond its deadline.
	OpenClosings, Overdue int
	// GrantsOverdue are in force though their time is over.
	GrantsOverdue int
	// CharterChanges would be made for all charters to be so, as they were last compared.
	CharterChanges int
	// Deliveries are those to subscribers that are not done, by state.
	Deliveries map[string]int
	// LastEntry is the number of the daybook's last entry.
	LastEntry int64
}

// Some are the first names of many things, and how many these are.
type Some struct {
	Names []string
	Total int
}

// Named is something that has a name.
type Named struct {
	Kind  string // instance, login, key, person or team
	Name  string
	About string // what tells it from others
	// SHA256 is the fingerprint of a key; nil for the others.
	SHA256 []byte `gorm:"column:sha256"`
}
