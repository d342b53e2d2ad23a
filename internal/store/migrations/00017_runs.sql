-- +goose Up
-- payload is what a run works on and what its steps have left, in a form of its kind with a version;
-- the facts of earlier runs have the version 0. epoch is raised by whoever takes the run, and every
-- write of a step names it. committed_at is its point of no return.
ALTER TABLE runs ADD COLUMN payload jsonb NOT NULL DEFAULT '{}';
ALTER TABLE runs ADD COLUMN payload_version integer NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN epoch bigint NOT NULL DEFAULT 0;
ALTER TABLE runs ADD COLUMN taken_at timestamptz;
ALTER TABLE runs ADD COLUMN committed_at timestamptz;
ALTER TABLE runs ADD COLUMN undo_asked_at timestamptz;
ALTER TABLE runs ADD COLUMN undo_why text NOT NULL DEFAULT '';
-- waits is what it waits for from somebody; reports are what was reported of its steps, by name.
ALTER TABLE runs ADD COLUMN waits jsonb;
ALTER TABLE runs ADD COLUMN reports jsonb NOT NULL DEFAULT '{}';
ALTER TABLE runs DROP CONSTRAINT IF EXISTS runs_state_check;
ALTER TABLE runs ADD CONSTRAINT runs_state_check CHECK (state IN ('queued', 'running', 'undoing', 'done', 'undone', 'failed', 'needs-person'));
ALTER TABLE run_steps DROP CONSTRAINT IF EXISTS run_steps_state_check;
ALTER TABLE run_steps ADD CONSTRAINT run_steps_state_check CHECK (state IN ('waiting', 'running', 'done', 'failed', 'undone', 'left'));
CREATE OR REPLACE VIEW limited.runs AS SELECT * FROM public.runs WHERE instance_id IN (SELECT id FROM limited.instances);

-- +goose Down
DROP VIEW limited.runs CASCADE;
ALTER TABLE runs DROP COLUMN payload, DROP COLUMN payload_version, DROP COLUMN epoch, DROP COLUMN taken_at, DROP COLUMN committed_at,
    DROP COLUMN undo_asked_at, DROP COLUMN undo_why, DROP COLUMN waits, DROP COLUMN reports;
