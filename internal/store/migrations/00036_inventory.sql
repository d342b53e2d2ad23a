-- +goose Up
-- What was last read of all that runs in the clouds.
CREATE TABLE cloud_instances (
    id              uuid PRIMARY KEY,
    cloud           uuid NOT NULL REFERENCES clouds (id),
    cloud_id        text NOT NULL,
    name            text NOT NULL,
    state           text NOT NULL,
    image           text NOT NULL,
    size            text NOT NULL,
    zone            text NOT NULL,
    region          text NOT NULL,
    private_address text NOT NULL,
    public_address  text NOT NULL,
    ssh_port        integer NOT NULL,
    static_address  boolean NOT NULL,
    key_label       text NOT NULL,
    launched_at     timestamptz,
    first_seen      timestamptz NOT NULL,
    last_seen       timestamptz NOT NULL,
    gone_at         timestamptz
);
CREATE UNIQUE INDEX cloud_instances_in_cloud ON cloud_instances (cloud, cloud_id);
CREATE INDEX cloud_instances_by_name ON cloud_instances (name, id) WHERE gone_at IS NULL;
-- To somebody who is limited only what is recorded is shown of them.
CREATE VIEW limited.cloud_instances AS SELECT * FROM public.cloud_instances c
    WHERE EXISTS (SELECT 1 FROM limited.instances i WHERE i.in_cloud = c.cloud AND i.cloud_id = c.cloud_id);

-- When a cloud was asked to be read, when that was last tried, when all of it was read, and why it was not.
ALTER TABLE clouds ADD COLUMN read_wanted_at timestamptz;
ALTER TABLE clouds ADD COLUMN read_tried_at timestamptz;
ALTER TABLE clouds ADD COLUMN read_at timestamptz;
ALTER TABLE clouds ADD COLUMN read_failure text NOT NULL DEFAULT '';
ALTER TABLE clouds ADD COLUMN read_said jsonb;
-- Whether somebody has said that most of what is recorded may be gone.
ALTER TABLE clouds ADD COLUMN read_accepts boolean NOT NULL DEFAULT false;
CREATE OR REPLACE VIEW limited.clouds AS SELECT * FROM public.clouds;

-- Of an instance that was there before it was recorded.
ALTER TABLE instances ADD COLUMN brought_in boolean NOT NULL DEFAULT false;
CREATE OR REPLACE VIEW limited.instances AS SELECT * FROM public.instances
    WHERE labels @> current_setting('plumlatch.labels')::jsonb;

-- +goose Down
DROP VIEW limited.cloud_instances;
DROP TABLE cloud_instances;
