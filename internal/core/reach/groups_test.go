package reach

import (
	"math/rand/v2"
	"slices"
	"testing"
)

func TestGroupsTakeTogetherWhatIsAlikeAndFormBlocks(t *testing.T) {
	in := InPlace
	got := Group([][]Mark{
		{{0, in}, {1, in}},        // 0
		{{2, in}},                 // 1
		{{1, in}, {0, in}},        // 2, as 0
		nil,                       // 3
		{{2, in}, {3, Ungranted}}, // 4
		{{2, Missing}},            // 5, not as 1
		{{0, in}, {1, in}},        // 6, as 0
		{{2, in}},                 // 7, as 1
	})
	wantColumns := []Column{{[]int{2}, 4}, {[]int{0, 1}, 3}, {[]int{3}, 1}}
	if !slices.EqualFunc(got.Columns, wantColumns, func(a, b Column) bool {
		return slices.Equal(a.Keys, b.Keys) && a.Logins == b.Logins
	}) {
		t.Errorf("columns %v, want %v", got.Columns, wantColumns)
	}
	wantRows := []Row{
		{[]int{1, 7}, []Mark{{0, in}}},
		{[]int{5}, []Mark{{0, Missing}}},
		{[]int{4}, []Mark{{0, in}, {2, Ungranted}}},
		{[]int{0, 2, 6}, []Mark{{1, in}}},
		{[]int{3}, nil},
	}
	if !slices.EqualFunc(got.Rows, wantRows, func(a, b Row) bool {
		return slices.Equal(a.Logins, b.Logins) && slices.Equal(a.Marks, b.Marks)
	}) {
		t.Errorf("rows %v, want %v", got.Rows, wantRows)
	}
	if got := Group(nil); len(got.Rows)+len(got.Columns) != 0 {
		t.Errorf("of nothing: %v", got)
	}
}

// TestGroupsLeaveNothingOut takes groups apart again, after random histories.
func TestGroupsLeaveNothingOut(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	statuses := []Status{InPlace, Missing, Ungranted, StatusUnswept}
	for range 200 {
		marks := make([][]Mark, r.IntN(40))
		for n := range marks {
			for k := range r.IntN(6) {
				if r.IntN(2) == 0 {
					marks[n] = append(marks[n], Mark{k, statuses[r.IntN(len(statuses))]})
				}
			}
		}
		g := Group(marks)
		seen := make([]bool, len(marks))
		for _, row := range g.Rows {
			for _, login := range row.Logins {
				if seen[login] {
					t.Fatalf("login %d is in two rows", login)
				}
				seen[login] = true
				var again []Mark
				for _, m := range row.Marks {
					for _, k := range g.Columns[m.Key].Keys {
						again = append(again, Mark{k, m.Status})
					}
				}
				slices.SortFunc(again, func(a, b Mark) int { return a.Key - b.Key })
				if !slices.Equal(again, marks[login]) {
					t.Fatalf("login %d has %v, drawn are %v", login, marks[login], again)
				}
			}
		}
		if slices.Contains(seen, false) {
			t.Fatalf("a login of %v is in no row", marks)
		}
	}
}

func BenchmarkGroup(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	marks := make([][]Mark, 20_000)
	for n := range marks {
		for k := n % 50; k < n%50+1+r.IntN(4); k++ {
			marks[n] = append(marks[n], Mark{k, InPlace})
		}
	}
	for b.Loop() {
		Group(marks)
	}
}
