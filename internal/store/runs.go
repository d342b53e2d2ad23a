package store

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// AddRun keeps a new run with its steps. A *TakenError names runs_one_live
// where another run is at work on the instance.
func (s *Store) AddRun(ctx context.Context, r Run) error { return s.AddRuns(ctx, []Run{r}) }

// AddRuns is AddRun for several.
func (s *Store) AddRuns(ctx context.Context, runs []Run) error {
	if len(runs) == 0 {
		return nil
	}
	var steps []RunStep
	for _, r := range runs {
		steps = append(steps, r.Steps...)
	}
	db := s.db.WithContext(ctx)
	if err := db.Omit("Instance", "Steps").Create(&runs).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&steps).Error)
}

func (s *Store) runs(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&Run{}).Preload("Instance").
		Preload("Steps", func(db *gorm.DB) *gorm.DB { return db.Order("run_steps.seq") })
}

// RunByID returns a run with its steps and its instance.
func (s *Store) RunByID(ctx context.Context, id uuid.UUID) (Run, error) {
	var r Run
	err := s.runs(ctx).Where("runs.id = ?", id).Take(&r).Error
	return r, plain(err)
}

// RunsByID returns runs without their steps and instances, in no order.
func (s *Store) RunsByID(ctx context.Context, ids []uuid.UUID) ([]Run, error) {
	var runs []Run
	err := s.db.WithContext(ctx).Where("id IN ?", ids).Find(&runs).Error
	return runs, plain(err)
}

// RunVersion returns the version of a run.
func (s *Store) RunVersion(ctx context.Context, id uuid.UUID) (int64, error) {
	var v int64
	err := s.db.WithContext(ctx).Model(&Run{}).Select("version").Where("id = ?", id).Take(&v).Error
	return v, plain(err)
}

// LiveRuns returns the ids of the runs that have not ended.
func (s *Store) LiveRuns(ctx context.Context) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).Model(&Run{}).Where("ended_at IS NULL").Order("created_at").Pluck("id", &ids).Error
	return ids, plain(err)
}

// RunFilter narrows a list of runs; empty fields do not.
type RunFilter struct{ Kind, State, Instance string }

// Runs returns one page of runs, newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter, p Page) (List[Run], error) {
	q := s.runs(ctx)
	switch f.Kind {
	case "":
	case "restore":
		q = q.Where("runs.kind = 'restore'") // in these words, for its index
	default:
		q = q.Where("runs.kind = ?", f.Kind)
	}
	if f.State != "" {
		q = q.Where("runs.state = ?", f.State)
	}
	if f.Instance != "" {
		q = q.Where("runs.instance_id IN (SELECT id FROM instances WHERE name = ?)", f.Instance)
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"runs.created_at", "runs.id"}, down: true}, p)
	if err != nil {
		return List[Run]{}, err
	}
	var items []Run
	if err := page.Find(&items).Error; err != nil {
		return List[Run]{}, plain(err)
	}
	l := cut(items, p, func(r Run) []string { return []string{stamp(r.CreatedAt), r.ID.String()} })
	return l, count(q, p, &l.Total)
}

// ChangeRun sets columns of a run and raises its version.
func (s *Store) ChangeRun(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	columns["version"] = gorm.Expr("version + 1")
	return plain(s.db.WithContext(ctx).Model(&Run{}).Where("id = ?", id).Updates(columns).Error)
}

// SetFact leaves a fact of a run for its later steps.
func (s *Store) SetFact(ctx context.Context, id uuid.UUID, name, value string) error {
	return plain(s.db.WithContext(ctx).Exec("UPDATE runs SET facts = facts || jsonb_build_object(?::text, ?::text) WHERE id = ?", name, value, id).Error)
}

// StepChange is columns of one step of a run.
type StepChange struct {
	Seq     int
	Columns map[string]any
}

// ChangeSteps sets columns of steps and of their run, and raises its version, all in
// one statement.
func (s *Store) ChangeSteps(ctx context.Context, run uuid.UUID, columns map[string]any, changes ...StepChange) error {
	var text strings.Builder
	var args []any
	set := func(columns map[string]any) {
		for _, c := range slices.Sorted(maps.Keys(columns)) { // their names are this program's own
			text.WriteString(c + " = ?, ")
			args = append(args, columns[c])
		}
	}
	for n, c := range changes {
		text.WriteString(map[bool]string{true: "WITH ", false: ", "}[n == 0])
		fmt.Fprintf(&text, "s%d AS (UPDATE run_steps SET ", n)
		set(c.Columns)
		text.WriteString("run_id = run_id WHERE run_id = ? AND seq = ?)")
		args = append(args, run, c.Seq)
	}
	text.WriteString(" UPDATE runs SET ")
	set(columns)
	text.WriteString("version = version + 1 WHERE id = ?")
	return plain(s.db.WithContext(ctx).Exec(text.String(), append(args, run)...).Error)
}

// EndRun gives a run its last state.
func (s *Store) EndRun(ctx context.Context, id uuid.UUID, state string, at time.Time) error {
	return s.ChangeRun(ctx, id, map[string]any{"state": state, "ended_at": at})
}
