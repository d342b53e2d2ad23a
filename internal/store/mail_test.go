package store_test

import (
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/record"
)

// TestOfSeveralProcessesOneTriesAMail has eight that found the same mail due try it.
func TestOfSeveralProcessesOneTriesAMail(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	p := record.Operator{ID: uuid.Must(uuid.NewV7()), Name: "ines", Role: "operator", CreatedAt: begin}
	must(t, s.AddOperator(ctx, p))
	must(t, s.AddHolder(ctx, record.Holder{
		ID: uuid.Must(uuid.NewV7()), Name: "ines", Kind: "person", Title: "Ines", OperatorID: &p.ID,
	}))
	must(t, s.PutMailAddress(ctx, record.MailAddress{
		OperatorID: p.ID, Address: "ines@wrackline.example", AskedAt: begin, ConfirmedAt: &begin,
	}))
	for day := range 3 {
		at := begin.AddDate(0, 0, day).Add(time.Hour)
		due, err := s.MailDue(ctx, at.Add(-time.Minute), 10)
		if err != nil || len(due) != 1 {
			t.Fatalf("day %d: %d are due: %v", day, len(due), err)
		}
		var tries atomic.Int32
		var all sync.WaitGroup
		for range 8 {
			all.Go(func() {
				mine, err := s.NoteMail(ctx, due[0], at)
				if err != nil {
					t.Error(err)
				}
				if mine {
					tries.Add(1)
				}
			})
		}
		all.Wait()
		if tries.Load() != 1 {
			t.Errorf("day %d: %d try it", day, tries.Load())
		}
	}
}
