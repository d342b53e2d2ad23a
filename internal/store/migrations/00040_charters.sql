-- +goose Up
-- Files in which teams declare keys, instances and who may open what.
CREATE TABLE charters (
    id          uuid PRIMARY KEY,
    name        text NOT NULL,
    note        text NOT NULL DEFAULT '',
    -- The version that counts, of those that were settled; 0 for none.
    version     integer NOT NULL,
    created_at  timestamptz NOT NULL,
    created_by  text NOT NULL,
    -- What was found when it was last compared by itself.
    compared_at timestamptz,
    differs     integer NOT NULL DEFAULT 0,
    problem     text NOT NULL DEFAULT '',
    released_at timestamptz
);
CREATE UNIQUE INDEX charters_name ON charters (name) WHERE released_at IS NULL;
CREATE TABLE charter_versions (
    charter_id uuid NOT NULL REFERENCES charters (id),
    number     integer NOT NULL,
    digest     bytea NOT NULL,
    files      jsonb NOT NULL,
    settled_at timestamptz NOT NULL,
    settled_by text NOT NULL,
    reason     text NOT NULL,
    signed_by  text NOT NULL DEFAULT '',
    PRIMARY KEY (charter_id, number)
);
CREATE TABLE settlements (
    id           uuid PRIMARY KEY,
    charter_id   uuid NOT NULL REFERENCES charters (id),
    -- The version that it settles, and the one before; undoes is the settlement that it takes back.
    version      integer NOT NULL,
    was          integer NOT NULL,
    undoes       uuid REFERENCES settlements (id),
    state        text NOT NULL,
    requested_by text NOT NULL,
    operator_id  uuid NOT NULL,
    reason       text NOT NULL,
    created_at   timestamptz NOT NULL,
    ended_at     timestamptz
);
CREATE UNIQUE INDEX settlements_live ON settlements (charter_id) WHERE ended_at IS NULL;
CREATE INDEX settlements_of ON settlements (charter_id, created_at);
CREATE TABLE settlement_items (
    id            uuid PRIMARY KEY,
    settlement_id uuid NOT NULL REFERENCES settlements (id),
    seq           integer NOT NULL,
    change        jsonb NOT NULL,
    -- What it found before, to take it back.
    before        jsonb,
    -- Of one that takes another back.
    puts_back     uuid,
    restores      jsonb,
    disowns       boolean NOT NULL DEFAULT false,
    state         text NOT NULL,
    detail        text NOT NULL DEFAULT '',
    run_id        uuid,
    ended_at      timestamptz
);
CREATE UNIQUE INDEX settlement_items_seq ON settlement_items (settlement_id, seq);
CREATE INDEX settlement_items_live ON settlement_items (settlement_id) WHERE ended_at IS NULL;

-- A grant that a charter owns, and the place in its files.
ALTER TABLE grants ADD COLUMN charter_id uuid REFERENCES charters (id);
ALTER TABLE grants ADD COLUMN charter_at text NOT NULL DEFAULT '';
CREATE INDEX grants_by_charter ON grants (charter_id) WHERE withdrawn_at IS NULL AND charter_id IS NOT NULL;
CREATE OR REPLACE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);

-- Accounts of machines, which have no password and sign in by tokens alone; and tokens that compare charters, or settle
-- one, with a signature over its files unless it is said that they need none.
ALTER TABLE operators ADD COLUMN machine boolean NOT NULL DEFAULT false;
ALTER TABLE tokens DROP CONSTRAINT tokens_only_for_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_only_for_check CHECK (only_for IN ('', 'sweep', 'read', 'compare', 'settle'));
ALTER TABLE tokens ADD COLUMN charter text NOT NULL DEFAULT '';
ALTER TABLE tokens ADD COLUMN unsigned boolean NOT NULL DEFAULT false;

-- A charter is about the whole fleet, and not for those who work on a part of it.
CREATE VIEW limited.charters AS SELECT * FROM public.charters WHERE false;
CREATE VIEW limited.charter_versions AS SELECT * FROM public.charter_versions WHERE false;
CREATE VIEW limited.settlements AS SELECT * FROM public.settlements WHERE false;
CREATE VIEW limited.settlement_items AS SELECT * FROM public.settlement_items WHERE false;

-- +goose Down
DROP VIEW limited.settlement_items;
DROP VIEW limited.settlements;
DROP VIEW limited.charter_versions;
DROP VIEW limited.charters;
DELETE FROM tokens WHERE only_for IN ('compare', 'settle');
ALTER TABLE tokens DROP CONSTRAINT tokens_only_for_check;
ALTER TABLE tokens ADD CONSTRAINT tokens_only_for_check CHECK (only_for IN ('', 'sweep', 'read'));
ALTER TABLE tokens DROP COLUMN unsigned, DROP COLUMN charter;
ALTER TABLE operators DROP COLUMN machine;
DROP VIEW limited.grants;
DROP INDEX grants_by_charter;
ALTER TABLE grants DROP COLUMN charter_at, DROP COLUMN charter_id;
CREATE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
DROP TABLE settlement_items;
DROP TABLE settlements;
DROP TABLE charter_versions;
DROP TABLE charters;
