-- +goose Up
-- When a cloud set up the root disk of an instance anew; NULL for never, or where it does not tell.
ALTER TABLE cloud_instances ADD COLUMN rebuilt_at timestamptz;
CREATE OR REPLACE VIEW limited.cloud_instances AS SELECT * FROM public.cloud_instances c
    WHERE EXISTS (SELECT 1 FROM limited.instances i WHERE i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id);
ALTER TABLE instances ADD COLUMN rebuilt_at timestamptz;
CREATE OR REPLACE VIEW limited.instances AS SELECT * FROM public.instances
    WHERE labels @> current_setting('plumlatch.labels')::jsonb;

-- Host keys that somebody expects an instance to have from some time on.
CREATE TABLE expected_host_keys (
    instance_id uuid NOT NULL REFERENCES instances (id),
    sha256      bytea NOT NULL,
    at          timestamptz NOT NULL,
    by          text NOT NULL,
    reason      text NOT NULL,
    PRIMARY KEY (instance_id, sha256)
);
CREATE VIEW limited.expected_host_keys AS SELECT * FROM public.expected_host_keys e
    WHERE EXISTS (SELECT 1 FROM limited.instances i WHERE i.id = e.instance_id);

-- Certificate authorities whose host certificates vouch for the host keys of machines.
CREATE TABLE host_authorities (
    id         uuid PRIMARY KEY,
    name       text NOT NULL,
    algorithm  text NOT NULL,
    blob       bytea NOT NULL,
    sha256     bytea NOT NULL,
    hosts      text NOT NULL,
    added_at   timestamptz NOT NULL,
    added_by   text NOT NULL
);
CREATE UNIQUE INDEX host_authorities_name ON host_authorities (name);
CREATE UNIQUE INDEX host_authorities_key ON host_authorities (sha256);
CREATE VIEW limited.host_authorities AS SELECT * FROM public.host_authorities;

-- +goose Down
DROP VIEW limited.host_authorities;
DROP TABLE host_authorities;
DROP VIEW limited.expected_host_keys;
DROP TABLE expected_host_keys;
ALTER TABLE instances DROP COLUMN rebuilt_at CASCADE;
ALTER TABLE cloud_instances DROP COLUMN rebuilt_at CASCADE;
