package runs

import (
	"sync"

	"github.com/google/uuid"
)

// Follow returns a channel that gets a value whenever this process has changed
// the run since the last one was taken. Call stop when done.
func (e *Engine) Follow(run uuid.UUID) (changed <-chan struct{}, stop func()) {
	ch := e.hub.join(run)
	return ch, func() { e.hub.leave(run, ch) }
}

// hub wakes those who watch a run.
type hub struct {
	mu      sync.Mutex
	waiting map[uuid.UUID]map[chan struct{}]bool
}

func (h *hub) join(run uuid.UUID) chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	ch := make(chan struct{}, 1)
	if h.waiting[run] == nil {
		h.waiting[run] = map[chan struct{}]bool{}
	}
	h.waiting[run][ch] = true
	return ch
}

func (h *hub) leave(run uuid.UUID, ch chan struct{}) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.waiting[run], ch)
	if len(h.waiting[run]) == 0 {
		delete(h.waiting, run)
	}
}

func (h *hub) tell(run uuid.UUID) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for ch := range h.waiting[run] {
		select {
		case ch <- struct{}{}:
		default:
		}
	}
}
