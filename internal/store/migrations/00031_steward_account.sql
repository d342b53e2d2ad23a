-- +goose Up
-- The OS user of its own that a steward key logs in as; '' where it is the instance's login user.
ALTER TABLE keys ADD COLUMN steward_user text NOT NULL DEFAULT '';
CREATE INDEX keys_steward_user ON keys (steward_of) WHERE steward_user <> '';
CREATE OR REPLACE VIEW limited.keys AS SELECT * FROM public.keys
    WHERE steward_of IS NULL OR steward_of IN (SELECT id FROM limited.instances);
-- Of which users the steward key may change files, as it last read the machine.
ALTER TABLE machine_readings ADD COLUMN steward_changes jsonb;
CREATE OR REPLACE VIEW limited.machine_readings AS SELECT * FROM public.machine_readings
    WHERE instance_id IN (SELECT id FROM limited.instances);

-- +goose Down
DROP VIEW limited.machine_readings;
ALTER TABLE machine_readings DROP COLUMN steward_changes;
CREATE VIEW limited.machine_readings AS SELECT * FROM public.machine_readings
    WHERE instance_id IN (SELECT id FROM limited.instances);
DROP VIEW limited.keys;
ALTER TABLE keys DROP COLUMN steward_user;
CREATE VIEW limited.keys AS SELECT * FROM public.keys
    WHERE steward_of IS NULL OR steward_of IN (SELECT id FROM limited.instances);
