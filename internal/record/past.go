package record

import (
	"time"

	"github.com/google/uuid"
)

// PastFilter says what a question about the past is about; empty fields do not narrow it.
type PastFilter struct {
	From, Until          time.Time
	Instance, OSUser     string
	LabelName, LabelText string
	// Keys are those that it is about; nil for all.
	Keys []uuid.UUID
}

// PastLogin is a login, maybe of an instance that is gone.
type PastLogin struct {
	ID           uuid.UUID
	OSUser       string `gorm:"column:os_user"`
	InstanceName string
	GoneAt       *time.Time
}
