-- +goose Up
-- What clouds tell beside: labels, other addresses, and the groups whose keys they hand to an instance.
ALTER TABLE cloud_instances ADD COLUMN labels jsonb NOT NULL DEFAULT '{}';
ALTER TABLE cloud_instances ADD COLUMN other_addresses jsonb NOT NULL DEFAULT '[]';
ALTER TABLE cloud_instances ADD COLUMN key_groups jsonb NOT NULL DEFAULT '[]';
ALTER TABLE cloud_instances ADD COLUMN takes_group_keys boolean NOT NULL DEFAULT true;
CREATE OR REPLACE VIEW limited.cloud_instances AS SELECT * FROM public.cloud_instances c
    WHERE EXISTS (SELECT 1 FROM limited.instances i WHERE i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id);

-- The place in time up to which changes were read, and when the whole list was read last.
ALTER TABLE clouds ADD COLUMN changes_after text NOT NULL DEFAULT '';
ALTER TABLE clouds ADD COLUMN whole_at timestamptz;
CREATE OR REPLACE VIEW limited.clouds AS SELECT * FROM public.clouds;

-- Keys that clouds hand to every instance of a project, a zone or a group, as they were last read.
CREATE TABLE key_groups (
    id       uuid PRIMARY KEY,
    cloud    uuid NOT NULL REFERENCES clouds (id),
    group_id text NOT NULL,
    name     text NOT NULL,
    kind     text NOT NULL
);
CREATE UNIQUE INDEX key_groups_in_cloud ON key_groups (cloud, group_id);
CREATE TABLE group_keys (
    group_key uuid NOT NULL REFERENCES key_groups (id) ON DELETE CASCADE,
    os_user   text NOT NULL,
    sha256    bytea NOT NULL,
    line      text NOT NULL,
    comment   text NOT NULL,
    PRIMARY KEY (group_key, os_user, sha256)
);
CREATE INDEX group_keys_by_key ON group_keys (sha256);
CREATE VIEW limited.key_groups AS SELECT * FROM public.key_groups g
    WHERE EXISTS (SELECT 1 FROM limited.cloud_instances c WHERE c.cloud = g.cloud
        AND c.key_groups @> jsonb_build_array(g.group_id));
CREATE VIEW limited.group_keys AS SELECT * FROM public.group_keys k
    WHERE EXISTS (SELECT 1 FROM limited.key_groups g WHERE g.id = k.group_key);

-- Which instances that run in clouds are recorded by themselves, and which are left alone, by a label in their cloud.
CREATE TABLE record_rules (
    id          uuid PRIMARY KEY,
    cloud       uuid REFERENCES clouds (id),
    label_name  text NOT NULL,
    label_text  text NOT NULL,
    leave_alone boolean NOT NULL,
    added_at    timestamptz NOT NULL,
    added_by    text NOT NULL
);
CREATE UNIQUE INDEX record_rules_label ON record_rules (label_name, label_text, coalesce(cloud, '00000000-0000-0000-0000-000000000000'));
CREATE VIEW limited.record_rules AS SELECT * FROM public.record_rules;

-- +goose Down
DROP VIEW limited.record_rules;
DROP TABLE record_rules;
DROP VIEW limited.group_keys;
DROP VIEW limited.key_groups;
DROP TABLE group_keys;
DROP TABLE key_groups;
ALTER TABLE clouds DROP COLUMN changes_after CASCADE;
ALTER TABLE clouds DROP COLUMN whole_at;
DROP VIEW limited.cloud_instances CASCADE;
ALTER TABLE cloud_instances DROP COLUMN labels;
ALTER TABLE cloud_instances DROP COLUMN other_addresses;
ALTER TABLE cloud_instances DROP COLUMN key_groups;
ALTER TABLE cloud_instances DROP COLUMN takes_group_keys;
