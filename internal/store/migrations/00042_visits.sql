-- +goose Up
-- A visit is somebody's use of a login through the console. Its connection is in one process, which says every few
-- seconds that it is there; what was recorded is encrypted under a key of the visit's own, which is in the safe.
CREATE TABLE visits (
    id            uuid PRIMARY KEY,
    login_id      uuid NOT NULL REFERENCES logins (id),
    operator_id   uuid NOT NULL REFERENCES operators (id),
    session_id    uuid NOT NULL,
    person        text NOT NULL,
    way           text NOT NULL CHECK (way IN ('own-key', 'visit-key', 'kept-key')),
    key_id        uuid REFERENCES keys (id) ON DELETE SET NULL,
    reason        text NOT NULL,
    address       text NOT NULL,
    state         text NOT NULL CHECK (state IN ('asked', 'opening', 'open', 'ended')),
    created_at    timestamptz NOT NULL,
    opened_at     timestamptz,
    ended_at      timestamptz,
    seen_at       timestamptz NOT NULL,
    ended_by      text NOT NULL DEFAULT '',
    ended_how     text NOT NULL DEFAULT '',
    problem       text NOT NULL DEFAULT '',
    recorded      boolean NOT NULL DEFAULT false,
    recording_key bytea,
    -- The run that places the line of a visit's own key.
    run_id        uuid,
    -- Whether the line of a visit's own key may still be in place.
    placed        boolean NOT NULL DEFAULT false
);
CREATE INDEX visits_by_time ON visits (created_at DESC, id DESC);
CREATE INDEX visits_live ON visits (seen_at) WHERE state <> 'ended';
CREATE INDEX visits_placed ON visits (id) WHERE placed;
CREATE INDEX visits_of_login ON visits (login_id, created_at DESC);
CREATE INDEX visits_of_key ON visits (key_id);
CREATE TABLE visit_recordings (
    visit_id  uuid NOT NULL REFERENCES visits (id) ON DELETE CASCADE,
    part      integer NOT NULL,
    encrypted bytea NOT NULL,
    PRIMARY KEY (visit_id, part)
);
-- Labels of instances whose visits are recorded.
CREATE TABLE recorded_labels (
    name     text NOT NULL,
    value    text NOT NULL,
    added_by text NOT NULL,
    added_at timestamptz NOT NULL,
    PRIMARY KEY (name, value)
);
CREATE VIEW limited.visits AS SELECT * FROM public.visits WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.visit_recordings AS
    SELECT * FROM public.visit_recordings WHERE visit_id IN (SELECT id FROM limited.visits);
CREATE VIEW limited.recorded_labels AS SELECT * FROM public.recorded_labels;

-- +goose Down
DROP VIEW limited.recorded_labels;
DROP VIEW limited.visit_recordings;
DROP VIEW limited.visits;
DROP TABLE recorded_labels, visit_recordings, visits;
