package kit

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"slices"
)

// Paging is the flags of every list.
type Paging struct {
	Limit int
	All   bool
}

func (p *Paging) Flags(f *flag.FlagSet) {
	f.IntVar(&p.Limit, "limit", 50, "at most this `many` rows")
	f.BoolVar(&p.All, "all", false, "all rows")
}

const PageSize = 500

type Page[T any] struct {
	Items []T     `json:"items"`
	Next  *string `json:"next"`
	Total *int    `json:"total"`
}

// Fetch gets rows page by page until there are enough.
func Fetch[T any](
	ctx context.Context, p Paging,
	get func(ctx context.Context, after *string, limit int, total *bool) (*http.Response, error),
) (rows []T, total int, err error) {
	if p.Limit < 1 {
		return nil, 0, &UsageError{"-limit is at least 1"}
	}
	rows = []T{}
	var after *string
	for {
		want := min(p.Limit-len(rows), PageSize)
		if p.All {
			want = PageSize
		}
		var first *bool
		if after == nil {
			first = new(true)
		}
		l, err := Answer[Page[T]](get(ctx, after, want, first))
		if err != nil {
			return nil, 0, err
		}
		if l.Total != nil {
			total = *l.Total
		}
		rows = append(rows, l.Items...)
		after = l.Next
		if after == nil || !p.All && len(rows) >= p.Limit {
			return rows, total, nil
		}
	}
}

// Rest says how many rows were left out.
func (s *Session) Rest(shown, total int) {
	if shown >= total {
		return
	}
	to := s.Env.Err
	if held, ok := s.Env.Out.(*Pager); ok { // after the rows, which are not written yet
		to = held
	}
	fmt.Fprintf(to, "%d of %d shown; -all shows all\n", shown, total)
}

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }
