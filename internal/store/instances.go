package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// AddInstance keeps a new instance. A *TakenError names instances_name.
func (s *Store) AddInstance(ctx context.Context, i *record.Instance) error {
	return plain(s.db.WithContext(ctx).Omit("HostKeys").Create(i).Error)
}

// ChangeInstance changes an instance.
func (s *Store) ChangeInstance(ctx context.Context, id uuid.UUID, c record.InstanceChange) error {
	return plain(s.db.WithContext(ctx).Model(&record.Instance{}).Where("id = ?", id).Updates(&c).Error)
}

const keysGranted = `(SELECT count(*) FROM grants g JOIN logins l ON l.id = g.login_id
	WHERE l.instance_id = instances.id AND g.withdrawn_at IS NULL) AS keys,
	coalesce((SELECT c.name FROM clouds c WHERE c.id = instances.in_cloud), '') AS cloud_name,
	(EXISTS (SELECT 1 FROM public.instances o WHERE o.via = instances.id AND o.gone_at IS NULL)
		OR EXISTS (SELECT 1 FROM public.jump_rules r WHERE r.via = instances.id)) AS jump_host`

// Instances returns one page of the instances that are there.
func (s *Store) Instances(
	ctx context.Context, f record.InstanceFilter, p record.Page,
) (record.List[record.Instance], error) {
	q := s.db.WithContext(ctx).Model(&record.Instance{}).Where("instances.gone_at IS NULL")
	if f.Text != "" {
		q = q.Where(
			"(instances.name || ' ' || instances.public_address || ' ' || instances.private_address) ILIKE ?",
			like(f.Text),
		)
	}
	for column, value := range map[string]string{"region": f.Region, "state": f.State, "image": f.Image} {
		if value != "" {
			q = q.Where("instances."+column+" = ?", value)
		}
	}
	if f.Cloud != "" {
		q = q.Where("instances.in_cloud = (SELECT id FROM clouds WHERE name = ? AND forgotten_at IS NULL)", f.Cloud)
	}
	if f.Via != "" {
		q = q.Where(behind+" AND public.via_of(instances.id) = (SELECT j.id FROM instances j WHERE j.name = ?"+
			" AND j.gone_at IS NULL)", f.Via)
	}
	q = withLabel(q, "instances", f.LabelName, f.LabelText).Session(&gorm.Session{})
	o, ok := ordersOf("instances")[f.Sort]
	if !ok {
		return record.List[record.Instance]{}, ErrSort
	}
	page, err := seek(q, o, p)
	if err != nil {
		return record.List[record.Instance]{}, err
	}
	var items []record.Instance
	if err := page.Preload("HostKeys", byAlgorithm).Select("instances.*, " + keysGranted).Find(&items).Error; err != nil {
		return record.List[record.Instance]{}, plain(err)
	}
	l := cut(items, p, func(i record.Instance) []string {
		if len(o.columns) == 2 {
			return []string{stamp(i.CreatedAt), i.ID.String()}
		}
		return []string{i.Name}
	})
	if err := s.withHops(ctx, pointers(l.Items)...); err != nil {
		return l, err
	}
	return l, count(q, p, &l.Total)
}

func pointers(list []record.Instance) []*record.Instance {
	out := make([]*record.Instance, len(list))
	for n := range list {
		out[n] = &list[n]
	}
	return out
}

func byAlgorithm(db *gorm.DB) *gorm.DB { return db.Order("host_keys.algorithm DESC") }

// InstanceNamed returns the instance of that name that is there.
func (s *Store) InstanceNamed(ctx context.Context, name string) (record.Instance, error) {
	var i record.Instance
	err := s.db.WithContext(ctx).Preload("HostKeys", byAlgorithm).Select("instances.*, "+keysGranted).
		Where("instances.name = ? AND instances.gone_at IS NULL", name).Take(&i).Error
	if err != nil {
		return i, plain(err)
	}
	return i, s.withHops(ctx, &i)
}

// InstanceByID returns the instance, there or gone.
func (s *Store) InstanceByID(ctx context.Context, id uuid.UUID) (record.Instance, error) {
	var i record.Instance
	err := s.db.WithContext(ctx).Preload("HostKeys", byAlgorithm).Select("instances.*, "+keysGranted).
		Where("instances.id = ?", id).Take(&i).Error
	if err != nil {
		return i, plain(err)
	}
	return i, s.withHops(ctx, &i)
}

// InstancesKnown returns the instances that are there with one of the names or
// public addresses.
func (s *Store) InstancesKnown(ctx context.Context, names, addresses []string) ([]record.Instance, error) {
	var found []record.Instance
	err := s.db.WithContext(ctx).
		Where("gone_at IS NULL AND (name IN ? OR public_address IN ?)", names, addresses).
		Order("name").
		Find(&found).
		Error
	return found, plain(err)
}

// InstancesOfKeys returns on how many instances each of the keys is in place.
func (s *Store) InstancesOfKeys(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]int, error) {
	var rows []struct {
		KeyID uuid.UUID
		Count int
	}
	err := s.db.WithContext(ctx).
		Table("sightings s").
		Select("s.key_id, count(DISTINCT l.instance_id) AS count").
		Joins("JOIN logins l ON l.id = s.login_id").
		Joins("JOIN instances i ON i.id = l.instance_id AND i.gone_at IS NULL").
		Where("s.present AND s.key_id IN ?", ids).
		Group("s.key_id").
		Scan(&rows).
		Error
	counts := map[uuid.UUID]int{}
	for _, r := range rows {
		counts[r.KeyID] = r.Count
	}
	return counts, plain(err)
}
