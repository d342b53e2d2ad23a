package store

import (
	"context"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// AddInstance keeps a new instance. A *TakenError names instances_name.
func (s *Store) AddInstance(ctx context.Context, i *Instance) error {
	return plain(s.db.WithContext(ctx).Omit("HostKeys").Create(i).Error)
}

// ChangeInstance sets columns of an instance.
func (s *Store) ChangeInstance(ctx context.Context, id uuid.UUID, columns map[string]any) error {
	return plain(s.db.WithContext(ctx).Model(&Instance{}).Where("id = ?", id).Updates(columns).Error)
}

// AddLogin keeps a login.
func (s *Store) AddLogin(ctx context.Context, l Login) error {
	return plain(s.db.WithContext(ctx).Create(&l).Error)
}

// LoginOf returns the login of a user on an instance.
func (s *Store) LoginOf(ctx context.Context, instance uuid.UUID, user string) (Login, error) {
	var l Login
	err := s.db.WithContext(ctx).Where("instance_id = ? AND os_user = ?", instance, user).Take(&l).Error
	return l, plain(err)
}

// GrantedKeys returns the keys that are granted in a login, by name.
func (s *Store) GrantedKeys(ctx context.Context, login uuid.UUID) ([]Key, error) {
	var keys []Key
	err := s.db.WithContext(ctx).
		Select("keys.*").
		Joins("JOIN grants g ON g.key_id = keys.id AND g.withdrawn_at IS NULL AND g.login_id = ?", login).
		Order("keys.name").
		Find(&keys).
		Error
	return keys, plain(err)
}

// PinHostKeys keeps the host keys of an instance that are not pinned yet.
func (s *Store) PinHostKeys(ctx context.Context, keys []HostKey) error {
	for _, k := range keys {
		err := s.db.WithContext(ctx).Exec(`INSERT INTO host_keys (id, instance_id, algorithm, blob, sha256, learnt, pinned_at)
			VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT (instance_id, algorithm) DO NOTHING`,
			k.ID, k.InstanceID, k.Algorithm, k.Blob, k.SHA256, k.Learnt, k.PinnedAt).Error
		if err != nil {
			return plain(err)
		}
	}
	return nil
}

// HostKeys returns the pinned host keys of an instance.
func (s *Store) HostKeys(ctx context.Context, instance uuid.UUID) ([]HostKey, error) {
	var keys []HostKey
	err := s.db.WithContext(ctx).Where("instance_id = ?", instance).Order("algorithm DESC").Find(&keys).Error
	return keys, plain(err)
}

// InstanceFilter narrows a list of instances; empty fields do not.
type InstanceFilter struct {
	Text, Region, State, Image string
	LabelName, LabelText       string
	Sort                       string
}

const keysGranted = `(SELECT count(*) FROM grants g JOIN logins l ON l.id = g.login_id
	WHERE l.instance_id = instances.id AND g.withdrawn_at IS NULL) AS keys`

// Instances returns one page of the instances that are there.
func (s *Store) Instances(ctx context.Context, f InstanceFilter, p Page) (List[Instance], error) {
	q := s.db.WithContext(ctx).Model(&Instance{}).Where("instances.gone_at IS NULL")
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
	q = withLabel(q, "instances", f.LabelName, f.LabelText).Session(&gorm.Session{})
	o, ok := ordersOf("instances")[f.Sort]
	if !ok {
		return List[Instance]{}, ErrSort
	}
	page, err := seek(q, o, p)
	if err != nil {
		return List[Instance]{}, err
	}
	var items []Instance
	if err := page.Preload("HostKeys", byAlgorithm).Select("instances.*, " + keysGranted).Find(&items).Error; err != nil {
		return List[Instance]{}, plain(err)
	}
	l := cut(items, p, func(i Instance) []string {
		if len(o.columns) == 2 {
			return []string{stamp(i.CreatedAt), i.ID.String()}
		}
		return []string{i.Name}
	})
	return l, count(q, p, &l.Total)
}

func byAlgorithm(db *gorm.DB) *gorm.DB { return db.Order("host_keys.algorithm DESC") }

// InstanceNamed returns the instance of that name that is there.
func (s *Store) InstanceNamed(ctx context.Context, name string) (Instance, error) {
	var i Instance
	err := s.db.WithContext(ctx).Preload("HostKeys", byAlgorithm).Select("instances.*, "+keysGranted).
		Where("instances.name = ? AND instances.gone_at IS NULL", name).Take(&i).Error
	return i, plain(err)
}

// InstanceByID returns the instance, there or gone.
func (s *Store) InstanceByID(ctx context.Context, id uuid.UUID) (Instance, error) {
	var i Instance
	err := s.db.WithContext(ctx).Preload("HostKeys", byAlgorithm).Select("instances.*, "+keysGranted).
		Where("instances.id = ?", id).Take(&i).Error
	return i, plain(err)
}

// InstancesKnown returns the instances that are there with one of the names or
// public addresses.
func (s *Store) InstancesKnown(ctx context.Context, names, addresses []string) ([]Instance, error) {
	var found []Instance
	err := s.db.WithContext(ctx).
		Where("gone_at IS NULL AND (name IN ? OR public_address IN ?)", names, addresses).
		Order("name").
		Find(&found).
		Error
	return found, plain(err)
}
