-- +goose Up
-- Labels, of keys or of the instances that they open, for which a second person has to
-- consent before a kept private half is handed over.
CREATE TABLE consent_labels (
    name     text NOT NULL,
    value    text NOT NULL,
    added_by text NOT NULL,
    added_at timestamptz NOT NULL,
    PRIMARY KEY (name, value)
);
CREATE TABLE consents (
    id         uuid PRIMARY KEY,
    key_id     uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    asked_by   text NOT NULL,
    reason     text NOT NULL,
    asked_at   timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    state      text NOT NULL CHECK (state IN ('asked', 'granted', 'refused', 'used')),
    decided_by text NOT NULL DEFAULT '',
    decided_at timestamptz,
    note       text NOT NULL DEFAULT ''
);
CREATE INDEX consents_by_asked ON consents (asked_at DESC, id DESC);
CREATE INDEX consents_by_key ON consents (key_id, asked_by);

CREATE TABLE handovers (
    id          uuid PRIMARY KEY,
    key_id      uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    from_keeper uuid REFERENCES keepers (id),
    to_keeper   uuid NOT NULL REFERENCES keepers (id),
    asked_by    text NOT NULL,
    reason      text NOT NULL,
    asked_at    timestamptz NOT NULL,
    ended_at    timestamptz,
    outcome     text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX handovers_open ON handovers (key_id) WHERE ended_at IS NULL;

-- Whom something shut or strange was told of already.
CREATE TABLE shut_logins (
    login_id uuid PRIMARY KEY REFERENCES logins (id),
    since    timestamptz NOT NULL
);
ALTER TABLE strangers ADD COLUMN noted boolean NOT NULL DEFAULT false;
CREATE INDEX strangers_to_note ON strangers (login_id) WHERE NOT noted;

CREATE TABLE receivers (
    id         uuid PRIMARY KEY,
    name       text NOT NULL UNIQUE,
    address    text NOT NULL,
    sealed     bytea, -- the secret of a webhook
    kinds      jsonb NOT NULL,
    paused     boolean NOT NULL DEFAULT false,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL,
    last_seq   bigint NOT NULL
);
CREATE TABLE deliveries (
    id          uuid PRIMARY KEY,
    receiver_id uuid NOT NULL REFERENCES receivers (id) ON DELETE CASCADE,
    seq         bigint NOT NULL,
    kind        text NOT NULL,
    state       text NOT NULL CHECK (state IN ('waiting', 'done', 'dead')),
    attempts    integer NOT NULL DEFAULT 0,
    due_at      timestamptz NOT NULL,
    error       text NOT NULL DEFAULT '',
    ended_at    timestamptz,
    UNIQUE (receiver_id, seq)
);
CREATE INDEX deliveries_due ON deliveries (due_at) WHERE state = 'waiting';
CREATE INDEX deliveries_dead ON deliveries (receiver_id, seq DESC) WHERE state = 'dead';

-- +goose Down
DROP TABLE deliveries, receivers, shut_logins, handovers, consents, consent_labels;
ALTER TABLE strangers DROP COLUMN noted;
