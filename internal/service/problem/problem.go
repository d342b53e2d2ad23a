package problem

import (
	"errors"
	"log/slog"
	"runtime/debug"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
	"plumlatch/internal/store"
)

// FromStore is the problem that an error of the store is; nil where it is none for people.
func FromStore(err error) *Problem {
	switch {
	case errors.Is(err, store.ErrText):
		return &Problem{Kind: Invalid, Code: "bad-text", Detail: store.ErrText.Error()}
	case store.Unavailable(err):
		return DatabaseAway
	}
	return nil
}

// DatabaseAway is told while the database does not answer.
var DatabaseAway = &Problem{
	Kind:   Unavailable,
	Code:   "database-unavailable",
	Detail: "the database does not answer",
	Remedy: "The service continues by itself once the database is back; try again then",
}

// FromCloud turns the errors of a cloud that is away or refuses into problems.
func FromCloud(err error) error {
	var refused *cloud.RefusedError
	switch {
	case errors.Is(err, cloud.ErrPaused):
		return &Problem{
			Kind:   Conflict,
			Code:   "cloud-paused",
			Detail: "the cloud is paused, so it was not asked: " + err.Error(),
			Remedy: "Have it asked again: plumlatch cloud resume NAME",
		}
	case errors.Is(err, cloud.ErrUnreachable):
		return &Problem{
			Kind:   Unavailable,
			Code:   "cloud-unreachable",
			Detail: "the cloud does not answer, so nothing was begun",
			Remedy: "Try again in a moment; if it still does not answer, check the cloud's adapter",
		}
	case errors.As(err, &refused):
		return &Problem{Kind: Forbidden, Code: "cloud-refused", Detail: refused.Error()}
	}
	return err
}

// First returns the first of joined errors that is a problem for people.
func First(err error) error {
	var p *Problem
	if errors.As(err, &p) {
		return p
	}
	return err
}

// errPanicked is told where a fault of this program came up while it dealt with a machine.
var errPanicked = errors.New("what was sent has brought up a fault in this service, which its log tells of")

// Guard does what deals with a machine, a cloud or a subscriber, any of which may have been made
// to break it: a panic is logged and becomes errPanicked.
func Guard(log *slog.Logger, what string, do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			log.Error("a panic was caught", "while", what, "panic", p, "trace", string(debug.Stack()))
			err = errPanicked
		}
	}()
	return do()
}

// Kind is the sort of a Problem.
type Kind int

// The kinds.
const (
	Invalid Kind = iota + 1
	TooLarge
	Unauthenticated
	Forbidden
	NotFound
	Conflict
	Changed // since it was read
	Gone
	Unavailable
	TooMany
)

// Problem is an error for people and programs.
type Problem struct {
	Kind Kind
	// Code is stable, for programs.
	Code string
	// Detail says what is wrong, Remedy what to do about it.
	Detail, Remedy string
	// Field names the field at fault; Line and Column are 1-based places in it.
	Field        string
	Line, Column int
	// Suggestion is a value that would do.
	Suggestion string
	// Where names the things that are in the way.
	Where []string
	// After is in how many seconds to try again; 0 where that is not known.
	After int
}

func (p *Problem) Error() string {
	if p.Remedy == "" {
		return p.Detail
	}
	return p.Detail + ". " + p.Remedy
}

// FromPage turns the store's errors about a page into problems.
func FromPage(err error) error {
	switch {
	case errors.Is(err, store.ErrCursor):
		return &Problem{
			Kind:   Invalid,
			Code:   "bad-cursor",
			Field:  "after",
			Detail: err.Error(),
			Remedy: "Ask for the first page, without after",
		}
	case errors.Is(err, store.ErrSort):
		return &Problem{Kind: Invalid, Code: "bad-sort", Field: "sort", Detail: err.Error()}
	}
	return err
}

func CheckName(field, value string) error {
	var e *name.Error
	if errors.As(name.Check(value), &e) {
		return &Problem{
			Kind:       Invalid,
			Code:       "bad-name",
			Field:      field,
			Line:       min(e.Column, 1),
			Column:     e.Column,
			Detail:     e.Problem,
			Remedy:     suggest(e.Suggestion),
			Suggestion: e.Suggestion,
		}
	}
	return nil
}

func suggest(s string) string {
	if s == "" {
		return ""
	}
	return "Try " + s
}

func FromRefusal(field string, err error) error {
	var r *keypair.Refusal
	if !errors.As(err, &r) {
		return err
	}
	kind := Invalid
	if r.Code == keypair.CodeTooLarge {
		kind = TooLarge
	}
	return &Problem{
		Kind:   kind,
		Code:   r.Code,
		Field:  field,
		Line:   r.Line,
		Column: r.Column,
		Detail: r.Problem,
		Remedy: r.Remedy,
	}
}

const (
	maxLabels     = 32
	maxLabelBytes = 128
	maxTextBytes  = 1024
)

func CheckLabels(labels map[string]string) error {
	if len(labels) > maxLabels {
		return &Problem{Kind: Invalid, Code: "too-many-labels", Field: "labels", Detail: "more than 32 labels were given"}
	}
	for k, v := range labels {
		if name.Check(k) != nil {
			return &Problem{
				Kind:       Invalid,
				Code:       "bad-label",
				Field:      "labels",
				Detail:     "the label name is not made of a-z 0-9 . _ -",
				Suggestion: name.Suggest(k),
				Remedy:     suggest(name.Suggest(k)),
			}
		}
		if len(v) > maxLabelBytes || keypair.CheckComment(v) != nil {
			return &Problem{
				Kind:   Invalid,
				Code:   "bad-label",
				Field:  "labels",
				Detail: "the value of the label " + k + " is over 128 bytes or has a control character in it",
			}
		}
	}
	return nil
}

func CheckText(field, text string) error {
	if len(text) > maxTextBytes || keypair.CheckComment(text) != nil {
		return &Problem{
			Kind:   Invalid,
			Code:   "bad-text",
			Field:  field,
			Detail: "the " + field + " is over 1024 bytes or has a control character in it",
			Remedy: "Give one line of plain text",
		}
	}
	return nil
}

func NoSafe() *Problem {
	return &Problem{
		Kind:   Conflict,
		Code:   "no-safe",
		Detail: "the safe is switched off, so no private key can be kept",
		Remedy: "Start the service with -safe-key-file FILE",
	}
}
