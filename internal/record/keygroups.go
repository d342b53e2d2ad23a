package record

import (
	"fmt"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/reading"
)

// KeyGroup is a project, a zone or a group of a cloud, to every instance of which the cloud hands keys.
type KeyGroup struct {
	ID      uuid.UUID
	Cloud   uuid.UUID
	GroupID string
	Name    string
	Kind    string     // project, zone or group
	Keys    []GroupKey `gorm:"-"`
	// Taking is how many recorded instances take its keys, Refusing how many do not.
	Taking   int `gorm:"->;-:migration"`
	Refusing int `gorm:"->;-:migration"`
}

// GroupKey is a key of a group.
type GroupKey struct {
	GroupKey uuid.UUID // the group
	OSUser   string    `gorm:"column:os_user"`
	SHA256   []byte    `gorm:"column:sha256"`
	Line     string
	Comment  string
	KeyName  string `gorm:"->;-:migration"` // of its record; "" for none
}

// GroupWay is that a login is opened by a key of a group.
type GroupWay struct {
	LoginID                       uuid.UUID
	Login                         string // user@instance
	SHA256                        []byte `gorm:"column:sha256"`
	Comment, KeyName              string
	CloudName, GroupID, GroupName string
	Kind                          string
}

// Way is the way in, as core has it.
func (g GroupWay) Way() reading.Way {
	return reading.GroupWay(keypair.FormatSHA256(g.SHA256), g.KeyName, g.Comment, g.Kind, g.GroupName, g.CloudName)
}

// RecordRule is which instances that run in clouds are recorded by themselves, or left alone.
type RecordRule struct {
	ID                   uuid.UUID
	Cloud                *uuid.UUID // nil for all
	LabelName, LabelText string
	LeaveAlone           bool
	AddedAt              time.Time
	AddedBy              string
	CloudName            string `gorm:"->;-:migration"`
}

// For is what the rule is for, in words.
func (r *RecordRule) For() string {
	where := "all clouds"
	if r.CloudName != "" {
		where = r.CloudName
	}
	return fmt.Sprintf("instances of %s with the label %s=%s", where, r.LabelName, r.LabelText)
}
