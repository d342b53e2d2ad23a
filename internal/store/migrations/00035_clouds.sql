-- +goose Up
-- Clouds by their adapters. The one with the fixed id is that which the service is started with: where it is and its
-- token come from the command line at each start, and are not kept.
CREATE TABLE clouds (
    id           uuid PRIMARY KEY,
    name         text NOT NULL,
    adapter      text NOT NULL DEFAULT '',
    given        boolean NOT NULL DEFAULT false,
    encrypted    bytea,
    ca           text NOT NULL DEFAULT '',
    changed_at   timestamptz NOT NULL,
    added_at     timestamptz NOT NULL,
    added_by     text NOT NULL,
    paused_at    timestamptz,
    paused_by    text NOT NULL DEFAULT '',
    paused_why   text NOT NULL DEFAULT '',
    forgotten_at timestamptz,
    said         jsonb,
    asked_at     timestamptz,
    answered_at  timestamptz,
    latency_ms   integer NOT NULL DEFAULT 0,
    failure      text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX clouds_name ON clouds (name) WHERE forgotten_at IS NULL;
CREATE UNIQUE INDEX clouds_adapter ON clouds (adapter) WHERE forgotten_at IS NULL AND adapter <> '';
CREATE VIEW limited.clouds AS SELECT * FROM public.clouds;

INSERT INTO clouds (id, name, given, changed_at, added_at, added_by)
VALUES ('00000000-0000-4000-8000-000000000001', 'main', true, now(), now(), 'service');

-- In which cloud an instance runs; NULL for one that is in none.
ALTER TABLE instances ADD COLUMN in_cloud uuid REFERENCES clouds (id);
UPDATE instances SET in_cloud = '00000000-0000-4000-8000-000000000001' WHERE NOT adopted;
CREATE UNIQUE INDEX instances_in_cloud ON instances (in_cloud, cloud_id) WHERE gone_at IS NULL AND cloud_id <> '';
CREATE OR REPLACE VIEW limited.instances AS SELECT * FROM public.instances
    WHERE labels @> current_setting('plumlatch.labels')::jsonb;

-- +goose Down
DROP VIEW limited.instances CASCADE;
ALTER TABLE instances DROP COLUMN in_cloud;
DROP VIEW limited.clouds;
DROP TABLE clouds;
