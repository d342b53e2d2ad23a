package record

import (
	"time"

	"plumlatch/internal/core/daybook"
)

// Entry is one line of the daybook.
type Entry struct {
	Seq         int64 `gorm:"primaryKey;autoIncrement:false"`
	At          time.Time
	Person      string
	Via         string
	Action      string
	SubjectKind string
	Subject     string
	Why         string
	Outcome     string
	// Told names what the entry tells of, see daybook.Entry; Sentence is an earlier entry's.
	Told, Sentence string
	Details        map[string]any `gorm:"serializer:json"`
	RequestID      string
	// About is what it concerns, such as key:gannet or instance:atlas-db.
	About []string `gorm:"serializer:json"`
	// PrevHash and Hash are its place in the chain.
	PrevHash, Hash []byte
}

// Chained is what the entry's hash covers.
func (e Entry) Chained() daybook.Entry {
	return daybook.Entry{
		Seq:         e.Seq,
		At:          e.At,
		Person:      e.Person,
		Via:         e.Via,
		Action:      e.Action,
		SubjectKind: e.SubjectKind,
		Subject:     e.Subject,
		About:       e.About,
		Why:         e.Why,
		Outcome:     e.Outcome,
		Told:        e.Told,
		Sentence:    e.Sentence,
		Details:     e.Details,
		RequestID:   e.RequestID,
	}
}

// Text returns the entry's sentence in today's words.
func (e Entry) Text() string { return e.Chained().Text() }

// Linked is the entry as the chain is checked.
func (e Entry) Linked() daybook.Linked {
	return daybook.Linked{Entry: e.Chained(), Before: e.PrevHash, Hash: e.Hash}
}

// EntryFilter narrows a list of entries; empty fields do not.
type EntryFilter struct {
	Person, Subject, Action string
	// About are references such as key:gannet, each of which the entry must have.
	About []string
	// From is the earliest time, Until the first that is too late.
	From, Until time.Time
}

// TableName is the daybook's.
func (Entry) TableName() string { return "daybook" }
