-- +goose Up
-- How the settings of SSH servers were before they changed, so that a date is answered with all ways in of then.
ALTER TABLE login_servers ADD COLUMN since timestamptz;
UPDATE login_servers SET since = read_at;
ALTER TABLE login_servers ALTER COLUMN since SET NOT NULL;
CREATE TABLE server_versions (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    login_id   uuid NOT NULL REFERENCES logins (id) ON DELETE CASCADE,
    server     jsonb NOT NULL,
    since      timestamptz NOT NULL,
    read_at    timestamptz NOT NULL
);
CREATE INDEX server_versions_by_login ON server_versions (login_id, since);
CREATE INDEX server_versions_by_what ON server_versions USING gin (server jsonb_path_ops);
CREATE INDEX server_versions_by_read ON server_versions (read_at);
CREATE VIEW limited.server_versions AS SELECT * FROM public.server_versions
    WHERE login_id IN (SELECT id FROM limited.logins);
CREATE OR REPLACE VIEW limited.login_servers AS SELECT * FROM public.login_servers
    WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP VIEW limited.server_versions;
DROP TABLE server_versions;
DROP VIEW limited.login_servers;
ALTER TABLE login_servers DROP COLUMN since;
CREATE VIEW limited.login_servers AS SELECT * FROM public.login_servers WHERE login_id IN (SELECT id FROM limited.logins);
