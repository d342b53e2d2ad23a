-- +goose Up
-- What a run opens for a while is to be closed again: written down before it is opened,
-- with a deadline that holds although the run has died.
CREATE TABLE closings (
    id          uuid PRIMARY KEY,
    run_id      uuid NOT NULL REFERENCES runs (id),
    instance_id uuid NOT NULL REFERENCES instances (id),
    kind        text NOT NULL,
    -- What is open, for people.
    what        text NOT NULL,
    -- What the cloud needs to know to close it.
    details     jsonb NOT NULL,
    written_at  timestamptz NOT NULL,
    deadline    timestamptz NOT NULL,
    opened_at   timestamptz,
    closed_at   timestamptz,
    -- Why it is not closed yet, or that it was closed late.
    note        text NOT NULL DEFAULT ''
);
CREATE INDEX closings_open ON closings (deadline) WHERE closed_at IS NULL;
-- Those whose opening was never answered are looked for again for a while.
CREATE INDEX closings_unanswered ON closings (closed_at) WHERE opened_at IS NULL;
CREATE INDEX closings_by_run ON closings (run_id);
CREATE INDEX runs_of_restores ON runs (created_at DESC, id DESC) WHERE kind = 'restore';

-- Who asked for an administrator's password, sealed, and who opened it.
CREATE TABLE password_readings (
    id          uuid PRIMARY KEY,
    instance_id uuid NOT NULL REFERENCES instances (id),
    person      text NOT NULL,
    -- asked or opened
    what        text NOT NULL,
    at          timestamptz NOT NULL
);
CREATE INDEX password_readings_by_instance ON password_readings (instance_id, at DESC);

-- +goose Down
DROP TABLE password_readings;
DROP INDEX runs_of_restores;
DROP TABLE closings;
