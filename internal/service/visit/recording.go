package visit

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/core/visit"
	"plumlatch/internal/record"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/store"
)

const (
	recordingKeyBytes = 32
	// partBytes is after how many bytes a part of a recording is kept at once.
	partBytes = 64 << 10
)

// recordingBound is what the key of a recording is bound to in the safe.
func recordingBound(id uuid.UUID) string { return "visit " + id.String() }

// newRecording makes the key of a recording.
func (s *Service) newRecording(ctx context.Context, tx *store.Store, id uuid.UUID) (*record.Secret, error) {
	if s.Safes.Safe == nil {
		return nil, problem.NoSafe()
	}
	key := make([]byte, recordingKeyBytes)
	rand.Read(key)
	defer clear(key)
	secret, err := s.Safes.Seal(ctx, tx, key, recordingBound(id))
	return &secret, err
}

// recordingCipher opens the key of a recording.
func (s *Service) recordingCipher(v record.VisitRecord) (cipher.AEAD, error) {
	if s.Safes.Safe == nil {
		return nil, problem.NoSafe()
	}
	key, err := s.Safes.Safe.Open(v.RecordingKey, recordingBound(v.ID))
	if err != nil {
		return nil, err
	}
	defer clear(key)
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// about binds a part of a recording to its place.
func about(id uuid.UUID, part int) []byte { return binary.BigEndian.AppendUint32(id[:], uint32(part)) }

func (s *Service) openRecording(ctx context.Context, v record.VisitRecord) ([]byte, error) {
	by, err := s.recordingCipher(v)
	if err != nil {
		return nil, err
	}
	parts, err := s.Store.Recording(ctx, v.ID)
	if err != nil {
		return nil, err
	}
	var out []byte
	for n, p := range parts {
		if out, err = by.Open(out, nil, p, about(v.ID, n)); err != nil {
			return nil, fmt.Errorf("part %d does not open: it was changed, or another is missing: %w", n, err)
		}
	}
	return out, nil
}

// recorder records what is typed and shown. A nil one records nothing.
type recorder struct {
	id    uuid.UUID
	by    cipher.AEAD
	store *store.Store
	begun time.Time
	now   func() time.Time

	mu           sync.Mutex
	typed, shown visit.Text
	waiting      []byte // not kept yet
	total        int    // bytes, with those
	parts        int    // kept
}

// event needs the lock.
func (r *recorder) event(kind, data string) {
	line := visit.Event(r.now().Sub(r.begun), kind, data)
	r.waiting = append(r.waiting, line...)
	r.total += len(line)
}

func (r *recorder) add(kind string, data []byte) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	text := &r.shown
	if kind == visit.Typed {
		text = &r.typed
	}
	if s := text.Take(data); s != "" {
		r.event(kind, s)
	}
}

func (r *recorder) resized(cols, rows int) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.event(visit.Resized, visit.Size(cols, rows))
}

func (r *recorder) size() int {
	if r == nil {
		return 0
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.total
}

// full reports whether there is enough for a part.
func (r *recorder) full() bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.waiting) >= partBytes
}

// keep keeps what was recorded since it last did.
func (r *recorder) keep(ctx context.Context, onlyFull bool) error {
	if r == nil || onlyFull && !r.full() {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.waiting) == 0 {
		return nil
	}
	part := r.by.Seal(nil, nil, r.waiting, about(r.id, r.parts))
	if err := r.store.AddRecording(ctx, r.id, r.parts, part); err != nil {
		return err
	}
	r.parts++
	r.waiting = nil
	return nil
}

// head begins a recording.
func (r *recorder) head(cols, rows int, at time.Time, title string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.begun = at
	r.waiting = append(r.waiting, visit.Header(cols, rows, at, title)...)
	r.total += len(r.waiting)
}
