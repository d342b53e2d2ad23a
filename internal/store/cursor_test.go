package store

import (
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
)

// FuzzCursor gives made-up cursors to lists of every order. What is taken is of the kind that the database takes.
func FuzzCursor(f *testing.F) {
	f.Add(encodeCursor("a"))
	f.Add(encodeCursor(stamp(time.Now()), uuid.NewString()))
	f.Add(encodeCursor("12"))
	f.Add("W10")
	f.Fuzz(func(t *testing.T, text string) {
		for _, columns := range [][]string{{"seq"}, {"k.name"}, {"runs.created_at", "runs.id"}} {
			parts, err := decodeCursor(text, len(columns))
			if err != nil {
				if !errors.Is(err, ErrCursor) {
					t.Errorf("%q: %v", text, err)
				}
				continue
			}
			if again, err := decodeCursor(encodeCursor(parts...), len(columns)); err != nil || !slices.Equal(parts, again) {
				t.Errorf("%q is %q, and then %q: %v", text, parts, again, err)
			}
			for n, c := range columns {
				if fits(c, parts[n]) && slices.Contains([]byte(parts[n]), 0) {
					t.Errorf("%q fits %s", parts[n], c)
				}
			}
		}
	})
}
