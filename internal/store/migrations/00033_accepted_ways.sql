-- +goose Up
-- Ways into logins beside keys that somebody has accepted, such as a certificate authority that is wanted.
CREATE TABLE accepted_ways (
    login_id uuid NOT NULL REFERENCES logins (id) ON DELETE CASCADE,
    kind     text NOT NULL,
    name     text NOT NULL,
    text     text NOT NULL,
    at       timestamptz NOT NULL,
    by       text NOT NULL,
    reason   text NOT NULL,
    PRIMARY KEY (login_id, kind, name)
);
CREATE VIEW limited.accepted_ways AS SELECT * FROM public.accepted_ways
    WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP VIEW limited.accepted_ways;
DROP TABLE accepted_ways;
