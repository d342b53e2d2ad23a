-- +goose Up
-- Where people get mail about what they have to do. An address counts once its owner has confirmed it.
CREATE TABLE mail_addresses (
    operator_id  uuid PRIMARY KEY REFERENCES operators (id) ON DELETE CASCADE,
    address      text NOT NULL,
    asked_at     timestamptz NOT NULL,
    code_hash    bytea,
    confirmed_at timestamptz,
    sent_at      timestamptz,
    tried_at     timestamptz,
    problem      text NOT NULL DEFAULT ''
);

-- +goose Down
DROP TABLE mail_addresses;
