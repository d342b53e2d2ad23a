package clouds

import (
	"context"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/singleflight"

	"plumlatch/internal/cloud"
)

const (
	// outlineHolds is for how long what the cloud offers is taken to stay.
	outlineHolds = time.Minute
	// outlineWithin is for how long a page waits for that.
	outlineWithin = 2 * time.Second
)

// outlined is what the cloud offers, as it was last asked, and when it last did not answer.
type outlined struct {
	mu         sync.Mutex
	at, failed time.Time
	can        cloud.Capabilities
	images     []cloud.Image
	asking     singleflight.Group
}

func (o *outlined) kept() (can cloud.Capabilities, images []cloud.Image, fresh bool) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.can, o.images, time.Since(o.at) < outlineHolds
}

// Outline returns what the cloud can do and its images. Many who ask at once share one answer.
func (s *Service) Outline(ctx context.Context, id *uuid.UUID) (cloud.Capabilities, []cloud.Image, error) {
	o := s.offersOf(id)
	if can, images, fresh := o.kept(); fresh {
		return can, images, nil
	}
	asked := o.asking.DoChan("", func() (any, error) { return nil, s.askOutline(context.WithoutCancel(ctx), id, o) })
	select {
	case <-ctx.Done():
		return cloud.Capabilities{}, nil, ctx.Err()
	case answer := <-asked:
		o.mu.Lock()
		defer o.mu.Unlock()
		if answer.Err != nil {
			return cloud.Capabilities{}, nil, answer.Err
		}
		return o.can, o.images, nil
	}
}

// askOutline asks the cloud what it offers, and keeps that; not again where another has just been answered.
func (s *Service) askOutline(ctx context.Context, id *uuid.UUID, o *outlined) error {
	if _, _, fresh := o.kept(); fresh {
		return nil
	}
	c := s.Of(id)
	can, err := c.Capabilities(ctx)
	var images []cloud.Image
	if err == nil {
		images, err = c.Images(ctx)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if err != nil {
		o.failed = time.Now()
		return err
	}
	o.at, o.can, o.images = time.Now(), can, images
	return nil
}

// OutlineSoon is outline for a page, which shows without it where the cloud does not
// answer soon, or has not a moment ago.
func (s *Service) OutlineSoon(ctx context.Context, id *uuid.UUID) (cloud.Capabilities, []cloud.Image, error) {
	o := s.offersOf(id)
	o.mu.Lock()
	failed := time.Since(o.failed) < 10*time.Second
	o.mu.Unlock()
	if failed {
		return cloud.Capabilities{}, nil, cloud.ErrUnreachable
	}
	ctx, cancel := context.WithTimeout(ctx, outlineWithin)
	defer cancel()
	return s.Outline(ctx, id)
}

// offersOf is what is kept of the offers of a cloud.
func (s *Service) offersOf(id *uuid.UUID) *outlined {
	var key uuid.UUID
	if id != nil {
		key = *id
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.offers[key] == nil {
		s.offers[key] = &outlined{}
	}
	return s.offers[key]
}
