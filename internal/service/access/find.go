package access

import (
	"context"
	"strings"

	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
)

// Names returns at most limit of what has a name that has the text in it, the nearest first.
func (s *Service) Names(ctx context.Context, text string, limit int) ([]record.Named, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return nil, &problem.Problem{
			Kind:   problem.Invalid,
			Code:   "no-text",
			Field:  "q",
			Detail: "there is no text to find",
			Remedy: "Give a part of a name, an address or a purpose",
		}
	}
	return s.store.Names(ctx, text, limit)
}
