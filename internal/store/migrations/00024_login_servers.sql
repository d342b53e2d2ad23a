-- +goose Up
-- What a login's SSH server lets in beside the keys of its files, by its settings at the last reading.
CREATE TABLE login_servers (
    login_id uuid PRIMARY KEY REFERENCES logins (id) ON DELETE CASCADE,
    server   jsonb NOT NULL,
    read_at  timestamptz NOT NULL
);
CREATE VIEW limited.login_servers AS SELECT * FROM public.login_servers WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP VIEW limited.login_servers;
DROP TABLE login_servers;
