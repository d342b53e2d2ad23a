package fleet

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"plumlatch/internal/cloud"
	"plumlatch/internal/record"
)

// AgentMissing says what keeps the guest agent of an instance from being asked, ""
// if nothing does.
func (s *Service) AgentMissing(ctx context.Context, i record.Instance) (string, error) {
	if i.Adopted {
		return "it was adopted, so no cloud's guest agent can be asked", nil
	}
	can, _, err := s.Outline(ctx)
	if err != nil {
		return "", err
	}
	if !slices.Contains(can.Capabilities, cloud.CanGuestAgent) {
		return "the cloud has no guest agent to ask", nil
	}
	state, err := s.cloud.Agent(ctx, i.CloudID)
	switch {
	case err != nil:
		return "", err
	case state == cloud.AgentReady:
		return "", nil
	case state == cloud.AgentAbsent:
		return "its image has no guest agent", nil
	case state == cloud.AgentNotPermitted:
		return "its guest agent is not permitted", nil
	}
	return "its guest agent has not registered yet", nil
}

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
func (s *Service) Outline(ctx context.Context) (cloud.Capabilities, []cloud.Image, error) {
	o := &s.offers
	if can, images, fresh := o.kept(); fresh {
		return can, images, nil
	}
	asked := o.asking.DoChan("", func() (any, error) { return nil, s.askOutline(context.WithoutCancel(ctx)) })
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
func (s *Service) askOutline(ctx context.Context) error {
	if _, _, fresh := s.offers.kept(); fresh {
		return nil
	}
	can, err := s.cloud.Capabilities(ctx)
	var images []cloud.Image
	if err == nil {
		images, err = s.cloud.Images(ctx)
	}
	o := &s.offers
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
func (s *Service) OutlineSoon(ctx context.Context) (cloud.Capabilities, []cloud.Image, error) {
	s.offers.mu.Lock()
	failed := time.Since(s.offers.failed) < 10*time.Second
	s.offers.mu.Unlock()
	if failed {
		return cloud.Capabilities{}, nil, cloud.ErrUnreachable
	}
	ctx, cancel := context.WithTimeout(ctx, outlineWithin)
	defer cancel()
	return s.Outline(ctx)
}
