-- +goose Up
-- Host keys that were pinned until somebody accepted others, and why.
CREATE TABLE former_host_keys (
    id          uuid PRIMARY KEY,
    instance_id uuid NOT NULL REFERENCES instances (id) ON DELETE CASCADE,
    algorithm   text NOT NULL,
    blob        bytea NOT NULL,
    sha256      bytea NOT NULL,
    learnt      text NOT NULL,
    pinned_at   timestamptz NOT NULL,
    replaced_at timestamptz NOT NULL,
    replaced_by text NOT NULL,
    reason      text NOT NULL
);
CREATE INDEX former_host_keys_by_instance ON former_host_keys (instance_id);
CREATE INDEX former_host_keys_by_sha256 ON former_host_keys (sha256);
CREATE INDEX former_host_keys_by_md5 ON former_host_keys (md5(blob));
CREATE VIEW limited.former_host_keys AS SELECT * FROM public.former_host_keys
    WHERE instance_id IN (SELECT id FROM limited.instances);

-- +goose Down
DROP VIEW limited.former_host_keys;
DROP TABLE former_host_keys;
