package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// recordOf finds the record of what runs in a cloud. Its limit has it looked up by the index one by one: where many
// were recorded at once, the planner knows nothing of them yet, and would compare each with each.
const recordOf = `LATERAL (SELECT * FROM instances i WHERE i.in_cloud = cloud_instances.cloud
	AND i.cloud_id = cloud_instances.cloud_id AND i.gone_at IS NULL AND i.cloud_id <> '' LIMIT 1) AS i ON true`

// recordedAs joins it where there is one.
const recordedAs = "LEFT JOIN " + recordOf

// notOurs leaves out what this service is launching, and does not know the id of yet, and helpers of restores.
const notOurs = `NOT EXISTS (SELECT 1 FROM (
		SELECT o.in_cloud, o.name FROM runs r JOIN instances o ON o.id = r.instance_id
			WHERE r.ended_at IS NULL AND o.cloud_id = ''
		UNION ALL SELECT o.in_cloud, 'helper-of-' || o.name FROM runs r JOIN instances o ON o.id = r.instance_id
			WHERE r.ended_at IS NULL) AS ours
	WHERE ours.in_cloud = cloud_instances.cloud AND ours.name = cloud_instances.name)`

// PutCloudInstances keeps what a cloud told of its instances at a time, and returns how many were never seen before.
// Raw, since GORM inserts nothing out of JSON.
func (s *Store) PutCloudInstances(
	ctx context.Context, cloud uuid.UUID, list []record.CloudInstance, at time.Time,
) (fresh int, err error) {
	const part = 2000
	for ; len(list) > 0; list = list[min(part, len(list)):] {
		type row struct {
			ID             uuid.UUID  `json:"id"`
			CloudID        string     `json:"cloud_id"`
			Name           string     `json:"name"`
			State          string     `json:"state"`
			Image          string     `json:"image"`
			Size           string     `json:"size"`
			Zone           string     `json:"zone"`
			Region         string     `json:"region"`
			PrivateAddress string     `json:"private_address"`
			PublicAddress  string     `json:"public_address"`
			SSHPort        int        `json:"ssh_port"`
			StaticAddress  bool       `json:"static_address"`
			KeyLabel       string     `json:"key_label"`
			LaunchedAt     *time.Time `json:"launched_at"`

			Labels         map[string]string `json:"labels"`
			OtherAddresses []string          `json:"other_addresses"`
			KeyGroups      []string          `json:"key_groups"`
			TakesGroupKeys bool              `json:"takes_group_keys"`
			RebuiltAt      *time.Time        `json:"rebuilt_at"`
		}
		rows := make([]row, 0, part)
		for _, i := range list[:min(part, len(list))] {
			rows = append(rows, row{
				NewID(), i.CloudID, i.Name, string(i.State), i.Image, i.Size, i.Zone, i.Region, i.PrivateAddress,
				i.PublicAddress, i.SSHPort, i.StaticAddress, i.KeyLabel, i.LaunchedAt, notNil(i.Labels),
				append([]string{}, i.OtherAddresses...), append([]string{}, i.KeyGroups...), i.TakesGroupKeys, i.RebuiltAt,
			})
		}
		text, err := json.Marshal(rows)
		if err != nil {
			return fresh, err
		}
		var n int
		err = s.db.WithContext(ctx).Raw(`WITH put AS (INSERT INTO public.cloud_instances (id, cloud, cloud_id, name, state,
				image, size, zone, region, private_address, public_address, ssh_port, static_address, key_label, launched_at,
				first_seen, last_seen, labels, other_addresses, key_groups, takes_group_keys, rebuilt_at)
			SELECT id, ?, cloud_id, name, state, image, size, zone, region, private_address, public_address, ssh_port,
				static_address, key_label, launched_at, ?, ?, labels, other_addresses, key_groups, takes_group_keys,
				rebuilt_at
			FROM jsonb_to_recordset(CAST(? AS jsonb)) AS n (id uuid, cloud_id text, name text, state text, image text,
				size text, zone text, region text, private_address text, public_address text, ssh_port int,
				static_address bool, key_label text, launched_at timestamptz, labels jsonb, other_addresses jsonb,
				key_groups jsonb, takes_group_keys bool, rebuilt_at timestamptz)
			ON CONFLICT (cloud, cloud_id) DO UPDATE SET name = excluded.name, state = excluded.state,
				image = excluded.image, size = excluded.size, zone = excluded.zone, region = excluded.region,
				private_address = excluded.private_address, public_address = excluded.public_address,
				ssh_port = excluded.ssh_port, static_address = excluded.static_address, key_label = excluded.key_label,
				launched_at = excluded.launched_at, labels = excluded.labels, other_addresses = excluded.other_addresses,
				key_groups = excluded.key_groups, takes_group_keys = excluded.takes_group_keys,
				rebuilt_at = excluded.rebuilt_at,
				last_seen = excluded.last_seen, gone_at = NULL
			RETURNING first_seen = last_seen AS fresh)
			SELECT count(*) FILTER (WHERE fresh) FROM put`, cloud, at, at, string(text)).Scan(&n).Error
		if err != nil {
			return fresh, plain(err)
		}
		fresh += n
	}
	return fresh, nil
}

func notNil(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

// CloudInstancesThere returns those of a cloud that were there when it was last read: first those that are recorded
// here.
func (s *Store) CloudInstancesThere(ctx context.Context, cloud uuid.UUID) (out []record.CloudInstance, err error) {
	err = s.db.WithContext(ctx).
		Model(&record.CloudInstance{}).
		Select("cloud_instances.*, coalesce(i.name, '') AS recorded_as").
		Joins(recordedAs).
		Where("cloud = ? AND cloud_instances.gone_at IS NULL", cloud).
		Order("i.name NULLS LAST, cloud_instances.cloud_id").
		Find(&out).
		Error
	return out, plain(err)
}

// RecordedUnknown returns the recorded instances of a cloud of which its readings know nothing, and on which no run is
// at work.
func (s *Store) RecordedUnknown(ctx context.Context, cloud uuid.UUID) (out []record.Instance, err error) {
	err = s.db.WithContext(ctx).
		Where("in_cloud = ? AND gone_at IS NULL AND cloud_id <> ''", cloud).
		Where(`NOT EXISTS (SELECT 1 FROM public.cloud_instances c WHERE c.cloud = instances.in_cloud
			AND c.cloud_id = instances.cloud_id)`).
		Where("NOT EXISTS (SELECT 1 FROM runs r WHERE r.instance_id = instances.id AND r.ended_at IS NULL)").
		Order("name").
		Find(&out).
		Error
	return out, plain(err)
}

// EndCloudInstances marks instances of a cloud as gone.
func (s *Store) EndCloudInstances(ctx context.Context, ids []uuid.UUID, at time.Time) error {
	if len(ids) == 0 {
		return nil
	}
	return plain(
		s.db.WithContext(ctx).Model(&record.CloudInstance{}).Where("id IN ?", ids).Update("gone_at", at).Error,
	)
}

// CloudChanges returns the recorded instances of a cloud that it told otherwise of in a reading that began at a time,
// where no run has been at work since: of all, or of those with the ids.
func (s *Store) CloudChanges(
	ctx context.Context, cloud uuid.UUID, since time.Time, among []string,
) ([]record.CloudChanged, error) {
	db := s.db.WithContext(ctx)
	var now []record.CloudInstance
	q := db
	if among != nil {
		q = q.Where("cloud_instances.cloud_id IN ?", among)
	}
	err := q.Model(&record.CloudInstance{}).
		Select("cloud_instances.*, i.name AS recorded_as").
		Joins("JOIN "+recordOf).
		Where("cloud = ? AND cloud_instances.gone_at IS NULL", cloud).
		Where(`(i.state, i.size, i.private_address, i.public_address, i.ssh_port, i.static_address, i.key_label)
			IS DISTINCT FROM (cloud_instances.state, coalesce(nullif(cloud_instances.size, ''), i.size),
			cloud_instances.private_address, cloud_instances.public_address, cloud_instances.ssh_port,
			cloud_instances.static_address, cloud_instances.key_label)`).
		Where(`NOT EXISTS (SELECT 1 FROM runs r WHERE r.instance_id = i.id
			AND (r.ended_at IS NULL OR r.ended_at >= ?))`, since).
		Order("i.name").
		Find(&now).
		Error
	if err != nil || len(now) == 0 {
		return nil, plain(err)
	}
	ids := make([]string, len(now))
	for n, c := range now {
		ids[n] = c.CloudID
	}
	var was []record.Instance
	if err := db.Where("in_cloud = ? AND gone_at IS NULL AND cloud_id IN ?", cloud, ids).Find(&was).Error; err != nil {
		return nil, plain(err)
	}
	of := map[string]record.Instance{}
	for _, i := range was {
		of[i.CloudID] = i
	}
	out := make([]record.CloudChanged, 0, len(now))
	for _, c := range now {
		if i, there := of[c.CloudID]; there {
			out = append(out, record.CloudChanged{Instance: i, Now: c})
		}
	}
	return out, nil
}

// Rebuilt returns the recorded instances of a cloud that it set up anew since that was last taken account of.
func (s *Store) Rebuilt(ctx context.Context, cloud uuid.UUID) (out []record.CloudChanged, err error) {
	db := s.db.WithContext(ctx)
	var now []record.CloudInstance
	err = db.Model(&record.CloudInstance{}).
		Select("cloud_instances.*, i.name AS recorded_as").
		Joins("JOIN "+recordOf).
		Where("cloud = ? AND cloud_instances.gone_at IS NULL AND cloud_instances.state = 'running'", cloud).
		Where("cloud_instances.rebuilt_at IS NOT NULL AND cloud_instances.rebuilt_at IS DISTINCT FROM i.rebuilt_at").
		Order("i.name").
		Find(&now).
		Error
	for _, n := range now {
		i, failed := s.InstanceNamed(ctx, n.RecordedAs)
		if failed != nil {
			return out, failed
		}
		out = append(out, record.CloudChanged{Instance: i, Now: n})
	}
	return out, plain(err)
}

// NoteCloudRead keeps what came of a reading of all that runs in a cloud.
func (s *Store) NoteCloudRead(ctx context.Context, id uuid.UUID, c record.CloudChange, failure string) error {
	db := s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id)
	if err := db.Updates(&c).Error; err != nil {
		return plain(err)
	}
	return plain(s.db.WithContext(ctx).Model(&record.Cloud{}).Where("id = ?", id).Update("read_failure", failure).Error)
}

// CloudInstances returns one page of what runs in clouds, by name.
func (s *Store) CloudInstances(
	ctx context.Context, f record.CloudInstanceFilter, p record.Page,
) (record.List[record.CloudInstance], error) {
	q := s.db.WithContext(ctx).
		Model(&record.CloudInstance{}).
		Joins(recordedAs).
		Where("cloud_instances.gone_at IS NULL AND cloud_instances.state <> 'deleted'")
	if f.Cloud != nil {
		q = q.Where("cloud_instances.cloud = ?", *f.Cloud)
	}
	if f.Text != "" {
		q = q.Where(
			"((cloud_instances.name || ' ' || cloud_instances.public_address || ' ' || cloud_instances.cloud_id) ILIKE ?"+
				" OR cloud_instances.other_addresses::text ILIKE ?)",
			like(f.Text), like(f.Text),
		)
	}
	if f.Recorded != nil {
		if *f.Recorded {
			q = q.Where("i.id IS NOT NULL")
		} else {
			q = q.Where("i.id IS NULL AND " + notOurs + " AND NOT coalesce(" + ruleFor + ", false)")
		}
	}
	q = q.Session(&gorm.Session{})
	page, err := seek(q, order{columns: []string{"cloud_instances.name", "cloud_instances.id"}}, p)
	if err != nil {
		return record.List[record.CloudInstance]{}, err
	}
	var items []record.CloudInstance
	err = page.Select("cloud_instances.*, coalesce(i.name, '') AS recorded_as").Find(&items).Error
	if err != nil {
		return record.List[record.CloudInstance]{}, plain(err)
	}
	l := cut(items, p, func(i record.CloudInstance) []string { return []string{i.Name, i.ID.String()} })
	return l, count(q, p, &l.Total)
}

// CloudInstancesOf returns those of a cloud that have one of the ids or names, as far as the caller may see them.
func (s *Store) CloudInstancesOf(
	ctx context.Context, cloud uuid.UUID, named []string,
) (out []record.CloudInstance, err error) {
	err = s.db.WithContext(ctx).
		Model(&record.CloudInstance{}).
		Select("cloud_instances.*, coalesce(i.name, '') AS recorded_as").
		Joins(recordedAs).
		Where("cloud = ? AND cloud_instances.gone_at IS NULL AND cloud_instances.state <> 'deleted'", cloud).
		Where("cloud_instances.cloud_id IN ? OR cloud_instances.name IN ?", named, named).
		Order("cloud_instances.name, cloud_instances.cloud_id").
		Find(&out).
		Error
	return out, plain(err)
}

// AdoptedWith returns the machines of no cloud that have one of the host keys, or one of the addresses.
func (s *Store) AdoptedWith(
	ctx context.Context, sha256 [][]byte, addresses []string, port int,
) (byKey, byAddress []record.Instance, err error) {
	db := s.db.WithContext(ctx).
		Preload("HostKeys", byAlgorithm).
		Where("instances.in_cloud IS NULL AND instances.gone_at IS NULL")
	db = db.Session(&gorm.Session{})
	if len(sha256) > 0 {
		err = db.Where("EXISTS (SELECT 1 FROM host_keys h WHERE h.instance_id = instances.id AND h.sha256 IN ?)", sha256).
			Order("name").
			Find(&byKey).
			Error
	}
	if err == nil && len(addresses) > 0 {
		err = db.Where("public_address IN ? AND ssh_port = ?", addresses, port).Order("name").Find(&byAddress).Error
	}
	return byKey, byAddress, plain(err)
}
