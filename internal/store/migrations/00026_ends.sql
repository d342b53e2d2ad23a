-- +goose Up
-- By what a grant ends, why it could not be ended at its time, and when somebody was told of it last. A
-- line that ends by itself is known to.
ALTER TABLE grants
    ADD COLUMN end_by text NOT NULL DEFAULT 'service' CHECK (end_by IN ('both', 'service', 'line')),
    ADD COLUMN end_problem text NOT NULL DEFAULT '',
    ADD COLUMN end_told_at timestamptz;
UPDATE grants SET end_problem = 'see the daybook', end_told_at = until WHERE end_refused AND withdrawn_at IS NULL;
ALTER TABLE sightings ADD COLUMN expires_at timestamptz;
CREATE OR REPLACE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
CREATE OR REPLACE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);
-- A leaving is over when nothing is left to do; the account is closed at its beginning.
UPDATE operators SET leaving = jsonb_set(leaving, '{ended_at}', to_jsonb(closed_at))
    WHERE closed_at IS NOT NULL AND leaving IS NOT NULL AND leaving <> 'null';

-- +goose Down
DROP VIEW limited.sightings;
DROP VIEW limited.grants;
ALTER TABLE sightings DROP COLUMN expires_at;
ALTER TABLE grants DROP COLUMN end_told_at, DROP COLUMN end_problem, DROP COLUMN end_by;
CREATE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);
