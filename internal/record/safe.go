package record

import "time"

// Secret is what the safe has encrypted, and the mark of the safe key that it is encrypted under.
type Secret struct {
	Encrypted []byte
	Mark      string
}

// SafeMarks are the marks of the safe keys.
type SafeMarks struct {
	// Mark is of the one that all processes seal under, Wanted of the one that is to take its
	// place, "" for none.
	Mark, Wanted string
	// Unreadable is what could not be opened under any safe key when the last one took its place.
	Unreadable []string
}

// Encrypted is one thing that the safe has encrypted: where it is, what it is bound to, and what people call it.
type Encrypted struct {
	Table, Record, Called string
	ID, Name              string
	Encrypted             []byte
}

// ServiceKey is a key pair of the service's own, the private key encrypted by the safe.
type ServiceKey struct {
	Name      string
	Blob      []byte
	Encrypted []byte
	MadeAt    time.Time
}
