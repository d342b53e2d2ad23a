-- +goose Up
-- A rotation replaces keys on many logins; each of its items is one old key in one login.
CREATE TABLE rotations (
    id           uuid PRIMARY KEY,
    state        text NOT NULL,
    requested_by text NOT NULL,
    reason       text NOT NULL,
    settings     jsonb NOT NULL,
    created_at   timestamptz NOT NULL,
    ended_at     timestamptz,
    paused_why   text NOT NULL DEFAULT ''
);
CREATE INDEX rotations_live ON rotations (created_at) WHERE ended_at IS NULL;
CREATE INDEX rotations_by_created ON rotations (created_at DESC, id DESC);

CREATE TABLE rotation_items (
    id           uuid PRIMARY KEY,
    rotation_id  uuid NOT NULL REFERENCES rotations (id),
    seq          integer NOT NULL,
    login_id     uuid NOT NULL REFERENCES logins (id),
    -- Names and digests outlive the keys' records.
    old_key_id   uuid REFERENCES keys (id) ON DELETE SET NULL,
    new_key_id   uuid REFERENCES keys (id) ON DELETE SET NULL,
    old_name     text NOT NULL,
    new_name     text NOT NULL,
    state        text NOT NULL,
    detail       text NOT NULL DEFAULT '',
    run_id       uuid REFERENCES runs (id),
    placed_at    timestamptz,
    proved_at    timestamptz,
    ended_at     timestamptz,
    UNIQUE (rotation_id, seq)
);
CREATE INDEX rotation_items_by_state ON rotation_items (rotation_id, state, seq);
CREATE INDEX rotation_items_by_login ON rotation_items (login_id) WHERE ended_at IS NULL;
-- Since when a kept private half is in somebody's hands as well.
ALTER TABLE kept_halves ADD COLUMN released_at timestamptz;
ALTER TABLE kept_halves ADD COLUMN released_to text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE kept_halves DROP COLUMN released_to;
ALTER TABLE kept_halves DROP COLUMN released_at;
DROP TABLE rotation_items;
DROP TABLE rotations;
