-- +goose Up
-- The reach of each login over time: a row for as long as it was the same. Of a login that is gone all rows have an end.
CREATE TABLE login_reach (
    login_id uuid NOT NULL REFERENCES logins (id) ON DELETE CASCADE,
    state    text NOT NULL,
    since    timestamptz NOT NULL,
    until    timestamptz,
    PRIMARY KEY (login_id, since)
);
CREATE UNIQUE INDEX login_reach_now ON login_reach (login_id) WHERE until IS NULL;
CREATE INDEX login_reach_changes ON login_reach (since) WHERE until IS NULL;
-- When each person last said that they had seen what changed.
CREATE TABLE looks (
    operator_id uuid PRIMARY KEY REFERENCES operators (id) ON DELETE CASCADE,
    at          timestamptz NOT NULL
);
CREATE VIEW limited.login_reach AS SELECT * FROM public.login_reach WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.looks AS SELECT * FROM public.looks;
CREATE INDEX runs_waiting ON runs (created_at) WHERE ended_at IS NULL AND waits->>'step' <> '';

-- +goose Down
DROP INDEX runs_waiting;
DROP VIEW limited.looks;
DROP VIEW limited.login_reach;
DROP TABLE looks, login_reach;
