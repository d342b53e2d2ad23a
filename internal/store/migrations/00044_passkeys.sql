-- +goose Up
-- Passkeys (WebAuthn) of people: the public key of each, and for which host name it is.
CREATE TABLE passkeys (
    id            uuid PRIMARY KEY,
    operator_id   uuid NOT NULL REFERENCES operators (id) ON DELETE CASCADE,
    name          text NOT NULL,
    credential_id bytea NOT NULL UNIQUE,
    credential    jsonb NOT NULL,
    host          text NOT NULL,
    created_at    timestamptz NOT NULL,
    used_at       timestamptz,
    UNIQUE (operator_id, name)
);
-- What a browser is asked to sign, each once. operator_id is who adds a passkey; NULL for a sign-in.
CREATE TABLE passkey_challenges (
    id          uuid PRIMARY KEY,
    operator_id uuid REFERENCES operators (id) ON DELETE CASCADE,
    session     jsonb NOT NULL,
    expires_at  timestamptz NOT NULL
);
CREATE INDEX passkey_challenges_over ON passkey_challenges (expires_at);
CREATE VIEW limited.passkeys AS SELECT * FROM public.passkeys;
CREATE VIEW limited.passkey_challenges AS SELECT * FROM public.passkey_challenges;

-- +goose Down
DROP VIEW limited.passkey_challenges;
DROP VIEW limited.passkeys;
DROP TABLE passkey_challenges, passkeys;
