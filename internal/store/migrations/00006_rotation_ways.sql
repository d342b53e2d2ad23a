-- +goose Up
ALTER TABLE rotations ADD COLUMN urgent boolean NOT NULL DEFAULT false;
-- The name of the standing rule that began it, which may be gone.
ALTER TABLE rotations ADD COLUMN rule text NOT NULL DEFAULT '';
-- What the plan left out, with the reasons.
ALTER TABLE rotations ADD COLUMN left_out jsonb NOT NULL DEFAULT '[]';
CREATE INDEX rotations_of_rule ON rotations (rule) WHERE rule <> '' AND ended_at IS NULL;

-- By what the login's files are edited.
ALTER TABLE rotation_items ADD COLUMN means text NOT NULL DEFAULT 'steward key';
-- Who had the old line go without a login by the new key, and why.
ALTER TABLE rotation_items ADD COLUMN override_by text NOT NULL DEFAULT '';
ALTER TABLE rotation_items ADD COLUMN override_why text NOT NULL DEFAULT '';
-- Whether the SSH server was seen to refuse the old key.
ALTER TABLE rotation_items ADD COLUMN old_refused boolean NOT NULL DEFAULT false;

-- When the new key had last opened the login as its line was placed, so that a later
-- login is told from an earlier one although a clock was set back.
ALTER TABLE rotation_items ADD COLUMN entered_before timestamptz;

CREATE INDEX proofs_of_entry ON proofs (login_id, key_id, at DESC) WHERE kind = 'entry';
-- How long the work on an instance took.
CREATE INDEX runs_done_by_kind ON runs (kind, ended_at DESC) WHERE state = 'done';

CREATE INDEX rotation_items_by_old_key ON rotation_items (old_key_id) WHERE ended_at IS NULL;

-- A new public half that a keeper is asked to bring.
CREATE TABLE asked_keys (
    id          uuid PRIMARY KEY,
    rotation_id uuid NOT NULL REFERENCES rotations (id),
    name        text NOT NULL,
    follows     text NOT NULL,
    keeper_id   uuid NOT NULL REFERENCES keepers (id),
    type        text NOT NULL,
    bits        integer NOT NULL,
    created_at  timestamptz NOT NULL,
    brought_at  timestamptz,
    UNIQUE (rotation_id, name)
);
CREATE INDEX asked_keys_open ON asked_keys (keeper_id) WHERE brought_at IS NULL;

-- A standing rule: keys that it selects are rotated by themselves when they are due.
CREATE TABLE rotation_rules (
    id            uuid PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    wanted        jsonb NOT NULL,
    make          text NOT NULL,
    settings      jsonb NOT NULL,
    paused        boolean NOT NULL DEFAULT false,
    created_by    text NOT NULL,
    created_at    timestamptz NOT NULL,
    looked_at     timestamptz,
    begun_at      timestamptz,
    last_rotation uuid REFERENCES rotations (id),
    note          text NOT NULL DEFAULT ''
);

-- +goose Down
DROP TABLE rotation_rules;
DROP TABLE asked_keys;
DROP INDEX rotation_items_by_old_key;
DROP INDEX runs_done_by_kind;
DROP INDEX proofs_of_entry;
ALTER TABLE rotation_items DROP COLUMN entered_before;
ALTER TABLE rotation_items DROP COLUMN old_refused;
ALTER TABLE rotation_items DROP COLUMN override_why;
ALTER TABLE rotation_items DROP COLUMN override_by;
ALTER TABLE rotation_items DROP COLUMN means;
DROP INDEX rotations_of_rule;
ALTER TABLE rotations DROP COLUMN left_out;
ALTER TABLE rotations DROP COLUMN rule;
ALTER TABLE rotations DROP COLUMN urgent;
