package store

import (
	"context"
	"time"

	"plumlatch/internal/record"
)

// Figures counts how the service does.
// Raw, since it is one question over many tables.
func (s *Store) Figures(ctx context.Context, now time.Time) (record.Figures, error) {
	f := record.Figures{
		LiveRuns:   map[string]int{},
		EndedRuns:  map[[2]string]int{},
		Jobs:       map[string]int{},
		Deliveries: map[string]int{},
	}
	rows, err := s.pools.plainOf(ctx).Query(ctx, `
		SELECT 'live', kind, '', count(*) FROM public.runs WHERE ended_at IS NULL GROUP BY kind
		UNION ALL SELECT 'ended', kind, state, count(*) FROM public.runs WHERE ended_at > $1 AND created_at > $2
			GROUP BY kind, state
		UNION ALL SELECT 'job', state::text, '', count(*) FROM public.river_job
			WHERE state IN ('available', 'running', 'retryable', 'scheduled') GROUP BY state
		UNION ALL SELECT 'sweeps', '', '', count(*) FROM public.sweep_items WHERE state = 'waiting'
		UNION ALL SELECT 'open', '', '', count(*) FROM public.closings WHERE closed_at IS NULL
		UNION ALL SELECT 'overdue', '', '', count(*) FROM public.closings WHERE closed_at IS NULL AND deadline < $3
		UNION ALL SELECT 'delivery', state, '', count(*) FROM public.deliveries WHERE state <> 'done' GROUP BY state
		UNION ALL SELECT 'entry', '', '', coalesce(max(seq), 0)
			FROM public.daybook`, now.AddDate(0, 0, -1), now.AddDate(0, 0, -8), now)
	if err != nil {
		return f, plain(err)
	}
	defer rows.Close()
	for rows.Next() {
		var what, a, b string
		var n int64
		if err := rows.Scan(&what, &a, &b, &n); err != nil {
			return f, plain(err)
		}
		switch what {
		case "live":
			f.LiveRuns[a] = int(n)
		case "ended":
			f.EndedRuns[[2]string{a, b}] = int(n)
		case "job":
			f.Jobs[a] = int(n)
		case "sweeps":
			f.SweepsWaiting = int(n)
		case "open":
			f.OpenClosings = int(n)
		case "overdue":
			f.Overdue = int(n)
		case "delivery":
			f.Deliveries[a] = int(n)
		case "entry":
			f.LastEntry = n
		}
	}
	return f, plain(rows.Err())
}
