package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"net/http"
	"slices"
)

// paging is the flags of every list.
type paging struct {
	limit int
	all   bool
}

func (p *paging) flags(f *flag.FlagSet) {
	f.IntVar(&p.limit, "limit", 50, "the greatest `number` of rows")
	f.BoolVar(&p.all, "all", false, "all rows")
}

const pageSize = 500

type page[T any] struct {
	Items []T     `json:"items"`
	Next  *string `json:"next"`
	Total *int    `json:"total"`
}

// fetch gets rows page by page until there are enough.
func fetch[T any](
	ctx context.Context,
	p paging,
	get func(ctx context.Context, after *string, limit int, total *bool) (*http.Response, error),
) (rows []T, total int, err error) {
	if p.limit < 1 {
		return nil, 0, &usageError{"-limit is at least 1"}
	}
	rows = []T{}
	var after *string
	for {
		want := min(p.limit-len(rows), pageSize)
		if p.all {
			want = pageSize
		}
		var first *bool
		if after == nil {
			first = new(true)
		}
		l, err := answer[page[T]](get(ctx, after, want, first))
		if err != nil {
			return nil, 0, err
		}
		if l.Total != nil {
			total = *l.Total
		}
		rows = append(rows, l.Items...)
		after = l.Next
		if after == nil || !p.all && len(rows) >= p.limit {
			return rows, total, nil
		}
	}
}

// rest says how many rows were left out.
func (s *session) rest(shown, total int) {
	if shown < total {
		fmt.Fprintf(s.env.Err, "%d of %d shown; -all shows all\n", shown, total)
	}
}

func sortedKeys(m map[string]string) []string { return slices.Sorted(maps.Keys(m)) }
