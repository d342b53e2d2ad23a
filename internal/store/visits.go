package store

import (
	"context"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"plumlatch/internal/core/visit"
	"plumlatch/internal/record"
)

// AddVisit keeps a visit. The key of its recording, if it has one, is encrypted under the current safe key.
func (s *Store) AddVisit(ctx context.Context, v record.Visit, recording *record.Secret) error {
	if recording != nil {
		if err := s.underMark(ctx, *recording); err != nil {
			return err
		}
		v.RecordingKey = recording.Encrypted
	}
	return plain(s.db.WithContext(ctx).Create(&v).Error)
}

// CountVisits returns how many visits are not over, of the person and of all, and has others who count wait until the
// transaction ends. Raw, since GORM has no advisory locks.
func (s *Store) CountVisits(ctx context.Context, operator uuid.UUID) (own, all int, err error) {
	if err := s.db.WithContext(ctx).Exec("SELECT pg_advisory_xact_lock(hashtextextended('visits', 0))").Error; err != nil {
		return 0, 0, plain(err)
	}
	var n struct{ Own, All int }
	err = s.db.WithContext(ctx).
		Table("public.visits").
		Select("count(*) FILTER (WHERE operator_id = ?) AS own, count(*) AS all", operator).
		Where("state <> ?", visit.Ended).
		Scan(&n).
		Error
	return n.Own, n.All, plain(err)
}

func visitRecords(db *gorm.DB) *gorm.DB {
	return db.Table("visits v").
		Joins("JOIN public.logins l ON l.id = v.login_id").
		Joins("JOIN public.instances i ON i.id = l.instance_id").
		Joins("LEFT JOIN public.keys k ON k.id = v.key_id")
}

const visitColumns = "v.*, l.os_user, i.name AS instance_name, coalesce(k.name, '') AS key_name, k.sha256 AS key_sha256"

// VisitByID returns a visit.
func (s *Store) VisitByID(ctx context.Context, id uuid.UUID) (record.VisitRecord, error) {
	var v record.VisitRecord
	r := visitRecords(s.db.WithContext(ctx)).Select(visitColumns).Where("v.id = ?", id).Limit(1).Scan(&v)
	if r.Error == nil && r.RowsAffected == 0 {
		return v, ErrNotFound
	}
	return v, plain(r.Error)
}

// Visits returns one page of visits, the newest first.
func (s *Store) Visits(
	ctx context.Context, f record.VisitFilter, p record.Page,
) (record.List[record.VisitRecord], error) {
	q := visitRecords(s.db.WithContext(ctx))
	if f.Live {
		q = q.Where("v.state <> ?", visit.Ended)
	}
	for column, value := range map[string]string{
		"i.name": f.Instance, "l.os_user": f.OSUser, "v.person": f.Person,
	} {
		if value != "" {
			q = q.Where(column+" = ?", value)
		}
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"v.created_at", "v.id"}, down: true}, p)
	if err != nil {
		return record.List[record.VisitRecord]{}, err
	}
	var items []record.VisitRecord
	if err := page.Select(visitColumns).Scan(&items).Error; err != nil {
		return record.List[record.VisitRecord]{}, plain(err)
	}
	l := cut(items, p, func(v record.VisitRecord) []string {
		return []string{v.CreatedAt.UTC().Format(time.RFC3339Nano), v.ID.String()}
	})
	return l, count(q, p, &l.Total)
}

// ChangeVisit changes a visit that is in one of the states; false where it is in none of them.
func (s *Store) ChangeVisit(
	ctx context.Context, id uuid.UUID, in []visit.State, change map[string]any,
) (changed bool, err error) {
	r := s.db.WithContext(ctx).Model(&record.Visit{}).Where("id = ? AND state IN ?", id, in).Updates(change)
	return r.RowsAffected == 1, plain(r.Error)
}

// WishVisitEnded notes that somebody wants a visit ended; false where it is over.
func (s *Store) WishVisitEnded(ctx context.Context, id uuid.UUID, by string) (bool, error) {
	return s.ChangeVisit(ctx, id, []visit.State{visit.Asked, visit.Opening, visit.Open}, map[string]any{"ended_by": by})
}

// SeeVisits says that the visits are there, and returns those of them that are to end: somebody wants it, or their
// session is over, or their person's account is closed, or has another role or other limits than in the session. Raw,
// since both is one statement.
func (s *Store) SeeVisits(
	ctx context.Context, ids []uuid.UUID, now time.Time,
) (ending map[uuid.UUID]visit.How, by map[uuid.UUID]string, err error) {
	if len(ids) == 0 {
		return nil, nil, nil
	}
	var rows []struct {
		ID      uuid.UUID
		EndedBy string
		Holds   bool
	}
	err = s.db.WithContext(ctx).Raw(`UPDATE public.visits v SET seen_at = ? FROM public.operators o
		WHERE v.id IN ? AND o.id = v.operator_id
		RETURNING v.id, v.ended_by, (o.closed_at IS NULL AND o.role <> 'viewer' AND EXISTS (SELECT 1 FROM public.sessions n
			WHERE n.id = v.session_id AND n.expires_at > ?)
			AND EXISTS (SELECT 1 FROM public.logins l JOIN public.instances i ON i.id = l.instance_id
				WHERE l.id = v.login_id AND i.gone_at IS NULL AND i.labels @> o.limits)) AS holds`, now, ids, now).
		Scan(&rows).Error
	ending, by = map[uuid.UUID]visit.How{}, map[uuid.UUID]string{}
	for _, r := range rows {
		switch {
		case r.EndedBy != "":
			ending[r.ID], by[r.ID] = visit.EndedBy, r.EndedBy
		case !r.Holds:
			ending[r.ID] = visit.SignedOut
		}
	}
	return ending, by, plain(err)
}

// UnseenVisits returns the visits whose process has not said for long that they are there.
func (s *Store) UnseenVisits(ctx context.Context, before time.Time) ([]record.VisitRecord, error) {
	var out []record.VisitRecord
	err := visitRecords(s.db.WithContext(ctx)).
		Select(visitColumns).
		Where("v.state <> ? AND v.seen_at < ?", visit.Ended, before).
		Order("v.id").
		Limit(500).
		Scan(&out).
		Error
	return out, plain(err)
}

// PlacedVisits returns the visits that are over and whose own key may still be in place.
func (s *Store) PlacedVisits(ctx context.Context) ([]record.VisitRecord, error) {
	var out []record.VisitRecord
	err := visitRecords(s.db.WithContext(ctx)).
		Select(visitColumns).
		Where("v.placed AND v.state = ?", visit.Ended).
		Order("v.id").
		Limit(100).
		Scan(&out).
		Error
	return out, plain(err)
}

// VisitTakenBack notes that the line of a visit's own key is gone.
func (s *Store) VisitTakenBack(ctx context.Context, id uuid.UUID) error {
	return plain(s.db.WithContext(ctx).Model(&record.Visit{}).Where("id = ?", id).Update("placed", false).Error)
}

// AddRecording keeps a part of a recording.
func (s *Store) AddRecording(ctx context.Context, id uuid.UUID, part int, encrypted []byte) error {
	row := map[string]any{"visit_id": id, "part": part, "encrypted": encrypted}
	return plain(s.db.WithContext(ctx).Table("visit_recordings").Create(row).Error)
}

// Recording returns the parts of a recording, in their order.
func (s *Store) Recording(ctx context.Context, id uuid.UUID) ([][]byte, error) {
	var out [][]byte
	err := s.db.WithContext(ctx).
		Table("visit_recordings").
		Where("visit_id = ?", id).
		Order("part").
		Pluck("encrypted", &out).
		Error
	return out, plain(err)
}

// RecordedLabels returns the labels of instances whose visits are recorded, by name.
func (s *Store) RecordedLabels(ctx context.Context) ([]record.RecordedLabel, error) {
	var out []record.RecordedLabel
	err := s.db.WithContext(ctx).Order("name, value").Find(&out).Error
	return out, plain(err)
}

// SetRecordedLabel adds a label, or takes it away; false where that is so already.
func (s *Store) SetRecordedLabel(ctx context.Context, l record.RecordedLabel, on bool) (bool, error) {
	db := s.db.WithContext(ctx)
	r := db.Clauses(clause.OnConflict{DoNothing: true})
	if on {
		r = r.Create(&l)
	} else {
		r = db.Where("name = ? AND value = ?", l.Name, l.Value).Delete(&record.RecordedLabel{})
	}
	return r.RowsAffected == 1, plain(r.Error)
}

// Recorded reports whether the visits of an instance are recorded, by one of its labels.
func (s *Store) Recorded(ctx context.Context, instance uuid.UUID) (bool, error) {
	var n int64
	err := s.db.WithContext(ctx).
		Table("public.recorded_labels r").
		Joins("JOIN public.instances i ON i.labels @> jsonb_build_object(r.name, r.value)").
		Where("i.id = ?", instance).
		Limit(1).
		Count(&n).
		Error
	return n > 0, plain(err)
}
