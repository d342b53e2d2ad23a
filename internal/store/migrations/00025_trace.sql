-- +goose Up
-- A fingerprint is looked for among strangers and authorities as well.
CREATE INDEX strangers_by_md5 ON strangers (md5(blob));
CREATE INDEX login_servers_by_what ON login_servers USING gin (server jsonb_path_ops);

-- +goose Down
DROP INDEX login_servers_by_what;
DROP INDEX strangers_by_md5;
