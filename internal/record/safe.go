package record

import "time"

// Secret is what the safe has sealed, and the mark of the master key that it is sealed under.
type Secret struct {
	Sealed []byte
	Mark   string
}

// SafeMarks are the marks of the master keys.
type SafeMarks struct {
	// Mark is of the one that all processes seal under, Wanted of the one that is to take its
	// place, "" for none.
	Mark, Wanted string
	// Unreadable is what could not be opened under any master key when the last one took its place.
	Unreadable []string
}

// Sealed is one thing that the safe has sealed: where it is, what it is bound to, and what people call it.
type Sealed struct {
	Table, Record, Called string
	ID, Name              string
	Sealed                []byte
}

// ServiceKey is a key pair of the service's own, the private key sealed by the safe.
type ServiceKey struct {
	Name   string
	Blob   []byte
	Sealed []byte
	MadeAt time.Time
}
