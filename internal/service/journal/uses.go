package journal

import (
	"context"
	"slices"
	"sync"
	"time"

	"plumlatch/internal/record"
)

// uses gathers which kept private keys were used, so that a sweep of a thousand logins
// is a few entries of the daybook and not a thousand.
type uses struct {
	mu sync.Mutex
	of map[string][]string // the keys' names, by what they were used for
}

const (
	noteUses   = 4 * time.Second
	usedAtOnce = 200 // names in one entry
)

// Use remembers the use of a kept private key; it is in the daybook within seconds.
func (s *Service) Use(what, name string) {
	s.uses.mu.Lock()
	defer s.uses.mu.Unlock()
	if s.uses.of == nil {
		s.uses.of = map[string][]string{}
	}
	s.uses.of[what] = append(s.uses.of[what], name)
}

// writeUses writes what was used into the daybook.
func (s *Service) writeUses(ctx context.Context) error {
	s.uses.mu.Lock()
	of := s.uses.of
	s.uses.of = nil
	s.uses.mu.Unlock()
	var entries []record.Entry
	for what, names := range of {
		slices.Sort(names)
		for part := range slices.Chunk(slices.Compact(names), usedAtOnce) {
			entries = append(entries, s.used(what, part))
		}
	}
	if len(entries) == 0 {
		return nil
	}
	return s.store.Note(ctx, entries...)
}

func (s *Service) used(what string, names []string) record.Entry {
	shown := names[:min(3, len(names))]
	facts := Facts{"keys": shown, "what": what}
	if more := len(names) - len(shown); more > 0 {
		facts["more"] = more
	}
	return OnKeys(s.Entry(ByService, "key.use", "key", names[0], "", facts), names...)
}
