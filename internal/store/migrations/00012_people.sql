-- +goose Up
ALTER TABLE operators
    -- The labels of the instances that the person sees and touches; {} for all.
    ADD COLUMN limits jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN closed_at timestamptz,
    -- What an OpenID Connect issuer calls the person, and its subject once they came.
    ADD COLUMN issuer_name text NOT NULL DEFAULT '',
    ADD COLUMN issuer_subject text NOT NULL DEFAULT '',
    -- The secret of the second factor, sealed; in use once confirmed.
    ADD COLUMN factor_sealed bytea,
    ADD COLUMN factor_at timestamptz,
    ADD COLUMN factor_step bigint NOT NULL DEFAULT 0,
    ADD COLUMN known_addresses jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN leaving jsonb;
CREATE UNIQUE INDEX operators_issuer_name ON operators (issuer_name) WHERE issuer_name <> '';
CREATE UNIQUE INDEX operators_issuer_subject ON operators (issuer_subject) WHERE issuer_subject <> '';

CREATE TABLE recovery_codes (
    operator_id uuid NOT NULL REFERENCES operators (id),
    hash        bytea NOT NULL,
    used_at     timestamptz,
    PRIMARY KEY (operator_id, hash)
);

DELETE FROM sessions;
ALTER TABLE sessions
    ADD COLUMN id uuid NOT NULL UNIQUE,
    ADD COLUMN seen_at timestamptz NOT NULL,
    ADD COLUMN via text NOT NULL,
    ADD COLUMN address text NOT NULL;
CREATE INDEX sessions_by_operator ON sessions (operator_id);

ALTER TABLE tokens
    ADD COLUMN only_for text NOT NULL DEFAULT '' CHECK (only_for IN ('', 'sweep', 'read')),
    ADD COLUMN limits jsonb NOT NULL DEFAULT '{}';

CREATE TABLE team_members (
    team_id     uuid NOT NULL REFERENCES keepers (id) ON DELETE CASCADE,
    operator_id uuid NOT NULL REFERENCES operators (id),
    PRIMARY KEY (team_id, operator_id)
);
CREATE INDEX team_members_by_operator ON team_members (operator_id);

-- +goose Down
DROP TABLE team_members, recovery_codes;
ALTER TABLE tokens DROP COLUMN only_for, DROP COLUMN limits;
ALTER TABLE sessions DROP COLUMN id, DROP COLUMN seen_at, DROP COLUMN via, DROP COLUMN address;
ALTER TABLE operators DROP COLUMN limits, DROP COLUMN closed_at, DROP COLUMN issuer_name, DROP COLUMN issuer_subject,
    DROP COLUMN factor_sealed, DROP COLUMN factor_at, DROP COLUMN factor_step, DROP COLUMN known_addresses, DROP COLUMN leaving;
