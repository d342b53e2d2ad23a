package record

import (
	"time"

	"github.com/google/uuid"
)

// MailAddress is where a person gets mail. It counts once it is confirmed.
type MailAddress struct {
	OperatorID  uuid.UUID `gorm:"primaryKey"`
	Address     string
	AskedAt     time.Time
	CodeHash    []byte // of the code that confirms it; nil once it is
	ConfirmedAt *time.Time
	SentAt      *time.Time
	TriedAt     *time.Time
	Problem     string // why the last mail could not be sent
	// Of the person and their holder.
	Name     string    `gorm:"->;-:migration"`
	Title    string    `gorm:"->;-:migration"`
	HolderID uuid.UUID `gorm:"->;-:migration"`
}

// Task is one thing that a person has to do.
type Task struct {
	OperatorID uuid.UUID
	Kind       string
	Name       string // of the key
	At         time.Time
}
