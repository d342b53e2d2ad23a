-- +goose Up
-- What was read of all users of a machine; and since when a login is known that nobody asked for.
CREATE TABLE machine_readings (
    instance_id uuid PRIMARY KEY REFERENCES instances (id) ON DELETE CASCADE,
    machine     jsonb NOT NULL,
    method      text NOT NULL,
    read_at     timestamptz NOT NULL
);
CREATE VIEW limited.machine_readings AS SELECT * FROM public.machine_readings
    WHERE instance_id IN (SELECT id FROM limited.instances);
ALTER TABLE logins ADD COLUMN found_at timestamptz;
CREATE OR REPLACE VIEW limited.logins AS SELECT * FROM public.logins WHERE instance_id IN (SELECT id FROM limited.instances);

-- +goose Down
DROP VIEW limited.machine_readings;
DROP TABLE machine_readings;
