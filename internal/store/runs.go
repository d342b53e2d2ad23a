package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// AddRun keeps a new run with its steps. A *TakenError names runs_one_live
// where another run is at work on the instance.
func (s *Store) AddRun(ctx context.Context, r record.Run) error {
	return s.AddRuns(ctx, []record.Run{r})
}

// AddRuns is AddRun for several.
func (s *Store) AddRuns(ctx context.Context, runs []record.Run) error {
	if len(runs) == 0 {
		return nil
	}
	var steps []record.RunStep
	for _, r := range runs {
		steps = append(steps, r.Steps...)
	}
	db := s.db.WithContext(ctx)
	for n := range runs { // none of them is NULL
		if runs[n].Payload == nil {
			runs[n].Payload = json.RawMessage("{}")
		}
		if runs[n].Facts == nil {
			runs[n].Facts = map[string]string{}
		}
		if runs[n].Reports == nil {
			runs[n].Reports = map[string]record.Report{}
		}
	}
	if err := db.Omit("Instance", "Steps").Create(&runs).Error; err != nil {
		return plain(err)
	}
	return plain(db.Create(&steps).Error)
}

func (s *Store) runs(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&record.Run{}).Preload("Instance").
		Preload("Steps", func(db *gorm.DB) *gorm.DB { return db.Order("run_steps.seq") })
}

// RunByID returns a run with its steps and its instance.
func (s *Store) RunByID(ctx context.Context, id uuid.UUID) (record.Run, error) {
	var r record.Run
	err := s.runs(ctx).Where("runs.id = ?", id).Take(&r).Error
	return r, plain(err)
}

// LastRun returns the last run of the kind that has changed the line of the key in the login since then, without
// its steps; ErrNotFound where there is none.
func (s *Store) LastRun(
	ctx context.Context,
	kind string,
	login, key uuid.UUID,
	since time.Time,
) (r record.Run, err error) {
	err = s.db.WithContext(ctx).
		Where("kind = ? AND created_at >= ?", kind, since).
		Where("instance_id = (SELECT instance_id FROM logins WHERE id = ?)", login).
		Where("payload->>'login' = ? AND payload->>'key' = ?", login.String(), key.String()).
		Order("created_at DESC").
		Take(&r).
		Error
	return r, plain(err)
}

// RunsByID returns runs without their steps and instances, in no order.
func (s *Store) RunsByID(ctx context.Context, ids []uuid.UUID) ([]record.Run, error) {
	var runs []record.Run
	err := s.db.WithContext(ctx).Where("id IN ?", ids).Find(&runs).Error
	return runs, plain(err)
}

// RunVersion returns the version of a run.
func (s *Store) RunVersion(ctx context.Context, id uuid.UUID) (int64, error) {
	var v int64
	err := s.db.WithContext(ctx).Model(&record.Run{}).Select("version").Where("id = ?", id).Take(&v).Error
	return v, plain(err)
}

// LiveRuns returns the ids of the runs that have not ended. Those that wait for somebody are among
// them where nobody has taken them up since rested.
func (s *Store) LiveRuns(ctx context.Context, rested time.Time) ([]uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&record.Run{}).
		Where("ended_at IS NULL AND (waits IS NULL OR taken_at IS NULL OR taken_at < ?)", rested).
		Order("created_at").
		Pluck("id", &ids).
		Error
	return ids, plain(err)
}

// ErrFenced is returned where a write names an epoch that is over: another worker has taken the
// run since, or it has ended. Nothing was written.
var ErrFenced = errors.New("another worker has the run, or it has ended")

// TakeRun raises the epoch of a run that has not ended, so that nobody who took it before can
// write another step, and returns it.
func (s *Store) TakeRun(ctx context.Context, id uuid.UUID, at time.Time) (record.Run, error) {
	r := s.db.WithContext(ctx).
		Model(&record.Run{}).
		Where("id = ? AND ended_at IS NULL", id).
		Updates(map[string]any{"epoch": gorm.Expr("epoch + 1"), "taken_at": at})
	if r.Error != nil {
		return record.Run{}, plain(r.Error)
	}
	if r.RowsAffected == 0 {
		return record.Run{}, ErrFenced
	}
	return s.RunByID(ctx, id)
}

// AskUndo asks for the undo of a run that has not ended and is not past its point of no return.
// It wins or loses against the step that commits the run: one statement decides.
func (s *Store) AskUndo(ctx context.Context, id uuid.UUID, why string, at time.Time) (won bool, err error) {
	r := s.db.WithContext(ctx).
		Model(&record.Run{}).
		Where("id = ? AND ended_at IS NULL AND committed_at IS NULL AND undo_asked_at IS NULL", id).
		Where("state IN ('queued', 'running')").
		Updates(map[string]any{"undo_asked_at": at, "undo_why": why, "version": gorm.Expr("version + 1")})
	return r.RowsAffected == 1, plain(r.Error)
}

// UndoAsked returns whether the undo of a run was asked for, and why.
func (s *Store) UndoAsked(ctx context.Context, id uuid.UUID) (asked bool, why string, err error) {
	var r record.Run
	err = s.db.WithContext(ctx).Select("undo_asked_at", "undo_why").Where("id = ?", id).Take(&r).Error
	return r.UndoAskedAt != nil, r.UndoWhy, plain(err)
}

// SavePayload keeps what the steps of a run have left.
func (s *Store) SavePayload(ctx context.Context, id uuid.UUID, epoch int64, payload []byte) error {
	return fenced(
		s.db.WithContext(withoutFence(ctx)).
			Table("runs").
			Where("id = ? AND epoch = ? AND ended_at IS NULL", id, epoch).
			Updates(map[string]any{"payload": string(payload), "payload_version": gorm.Expr("greatest(payload_version, 1)")}),
	)
}

// AddReport keeps what was reported of a step of a run that has not ended. It is for whoever
// holds no epoch.
func (s *Store) AddReport(ctx context.Context, id uuid.UUID, step string, r record.Report) error {
	text, err := json.Marshal(map[string]record.Report{step: r})
	if err != nil {
		return err
	}
	return fenced(
		s.db.WithContext(ctx).
			Table("runs").
			Where("id = ? AND ended_at IS NULL", id).
			Updates(map[string]any{
				"reports": gorm.Expr("reports || ?::jsonb", string(text)), "version": gorm.Expr("version + 1"),
			}),
	)
}

// fenced turns a write that changed nothing into ErrFenced.
func fenced(r *gorm.DB) error {
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrFenced
	}
	return plain(r.Error)
}

// Runs returns one page of runs, newest first.
func (s *Store) Runs(ctx context.Context, f record.RunFilter, p record.Page) (record.List[record.Run], error) {
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
	if f.Meant != "" {
		first, last, _ := idsFrom(f.Meant)
		q = q.Where(
			"runs.id BETWEEN ? AND ? OR runs.instance_id IN (SELECT id FROM instances WHERE name = ?)", first, last,
			instanceMeant(f.Meant),
		)
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"runs.created_at", "runs.id"}, down: true}, p)
	if err != nil {
		return record.List[record.Run]{}, err
	}
	var items []record.Run
	if err := page.Find(&items).Error; err != nil {
		return record.List[record.Run]{}, plain(err)
	}
	l := cut(items, p, func(r record.Run) []string { return []string{stamp(r.CreatedAt), r.ID.String()} })
	return l, count(q, p, &l.Total)
}

// ChangeRun makes a change and raises the run's version, all in one statement, if the epoch is
// still the run's: ErrFenced if not, and where the run was to be committed and its undo was
// asked for.
// Raw, since GORM has no statement that changes two tables.
func (s *Store) ChangeRun(ctx context.Context, run uuid.UUID, epoch int64, c record.RunChange) error {
	var text strings.Builder
	var args []any
	set := func(column string, value any) {
		text.WriteString(column + " = ?, ")
		args = append(args, value)
	}
	text.WriteString("WITH r AS (UPDATE runs SET ")
	if err := setRun(c, set); err != nil {
		return err
	}
	text.WriteString("version = version + 1 WHERE id = ? AND epoch = ? AND ended_at IS NULL")
	args = append(args, run, epoch)
	if c.Commits {
		text.WriteString(" AND undo_asked_at IS NULL")
	}
	text.WriteString(" RETURNING id)")
	for n, step := range c.Steps { // which depend on the run's row being changed
		fmt.Fprintf(&text, ", s%d AS (UPDATE run_steps SET ", n)
		setStep(step, set)
		text.WriteString("run_id = run_id FROM r WHERE run_steps.run_id = r.id AND seq = ?)")
		args = append(args, step.Seq)
	}
	text.WriteString(" SELECT count(*) FROM r")
	sql := strings.ReplaceAll(text.String(), "run_id = run_id FROM", "run_id = r.id FROM")
	var changed int
	if err := s.db.WithContext(withoutFence(ctx)).Raw(sql, args...).Scan(&changed).Error; err != nil {
		return plain(err)
	}
	if changed == 0 {
		return ErrFenced
	}
	return nil
}

// setRun gives what will be set in the run's row to set.
func setRun(c record.RunChange, set func(column string, value any)) error {
	if c.State != "" {
		set("state", c.State)
	}
	if c.Error != nil {
		set("error", *c.Error)
	}
	if c.CommittedAt != nil {
		set("committed_at", *c.CommittedAt)
	}
	if c.EndedAt != nil {
		set("ended_at", *c.EndedAt)
	}
	if c.Waits == nil {
		if c.Goes {
			set("waits", nil)
		}
		return nil
	}
	told, err := json.Marshal(c.Waits)
	set("waits", string(told))
	return err
}

// setStep gives what will be set in a step's row to set.
func setStep(c record.StepChange, set func(column string, value any)) {
	if c.State != "" {
		set("state", c.State)
	}
	if c.Outcome != nil {
		set("outcome", *c.Outcome)
	}
	if c.Percent != nil {
		set("percent", *c.Percent)
	}
	if c.StartedAt != nil {
		set("started_at", *c.StartedAt)
	}
	if c.EndedAt != nil {
		set("ended_at", *c.EndedAt)
	}
}

// ReplaceSteps gives a run the steps of a later version of its kind.
func (s *Store) ReplaceSteps(ctx context.Context, run uuid.UUID, epoch int64, steps []record.RunStep) error {
	return s.InTx(ctx, func(tx *Store) error {
		if err := tx.ChangeRun(ctx, run, epoch, record.RunChange{}); err != nil {
			return err
		}
		db := tx.db.WithContext(ctx)
		if err := db.Where("run_id = ?", run).Delete(&record.RunStep{}).Error; err != nil {
			return plain(err)
		}
		return plain(db.Create(&steps).Error)
	})
}

// EndRun gives a run its last state, and the reason where it did not succeed.
func (s *Store) EndRun(
	ctx context.Context, id uuid.UUID, epoch int64, state record.RunState, reason string, at time.Time,
) error {
	return s.ChangeRun(ctx, id, epoch, record.RunChange{State: state, EndedAt: &at, Error: &reason, Goes: true})
}

// LiveRunOf returns the run that is at work on an instance.
func (s *Store) LiveRunOf(ctx context.Context, instance uuid.UUID) (uuid.UUID, error) {
	var r record.Run
	err := s.db.WithContext(ctx).Select("id").Where("instance_id = ? AND ended_at IS NULL", instance).Take(&r).Error
	return r.ID, plain(err)
}

// LiveRestoreOf returns the id of the restore that is at work on an instance, or on the
// one that replaces it; ErrNotFound if there is none.
func (s *Store) LiveRestoreOf(ctx context.Context, instance uuid.UUID) (uuid.UUID, error) {
	var ids []uuid.UUID
	err := s.db.WithContext(ctx).
		Model(&record.Run{}).
		Where(
			"kind = 'restore' AND ended_at IS NULL AND (instance_id = ? OR coalesce(payload->>'replacement', "+
				"facts->>'replacement') = ?)",
			instance,
			instance.String(),
		).
		Limit(1).
		Pluck("id", &ids).
		Error
	if err == nil && len(ids) == 0 {
		return uuid.Nil, ErrNotFound
	}
	if err != nil {
		return uuid.Nil, plain(err)
	}
	return ids[0], nil
}

// StepTimes returns what the steps of the last runs that start, stop, launch and restore
// instances took.
// Raw, since GORM has no lateral join.
func (s *Store) StepTimes(ctx context.Context) ([]record.StepTime, error) {
	var out []record.StepTime
	err := s.db.WithContext(ctx).Raw(`WITH last AS (
			SELECT r.id, r.kind, coalesce(r.payload->>'gib', r.facts->>'gib')::float AS gib
				FROM (VALUES ('launch'), ('start'), ('stop'), ('restore')) AS kinds (kind)
			CROSS JOIN LATERAL (SELECT id, kind, facts, payload FROM runs WHERE runs.kind = kinds.kind
				AND state = 'done' ORDER BY ended_at DESC LIMIT 20) AS r)
		SELECT last.kind, st.name, percentile_cont(0.5) WITHIN GROUP (ORDER BY extract(epoch
			FROM st.ended_at - st.started_at)) AS seconds,
			coalesce(percentile_cont(0.5) WITHIN GROUP (ORDER BY gib), 0) AS size
		FROM last JOIN run_steps AS st ON st.run_id = last.id WHERE st.state = 'done' AND st.ended_at IS NOT NULL
			GROUP BY last.kind, st.name`).Scan(&out).Error
	return out, plain(err)
}
