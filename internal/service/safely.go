package service

import (
	"errors"
	"runtime/debug"
)

// errPanicked is told where a fault of this program came up while it dealt with a machine.
var errPanicked = errors.New("what was sent has brought up a fault in this service, which its log tells of")

// safely does what deals with a machine, a cloud or a receiver, any of which may have been made
// to break it: a panic is logged and becomes errPanicked.
func (s *Service) safely(what string, do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			s.log.Error("a panic was caught", "while", what, "panic", p, "trace", string(debug.Stack()))
			err = errPanicked
		}
	}()
	return do()
}
