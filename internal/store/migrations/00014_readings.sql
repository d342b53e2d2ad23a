-- +goose Up
-- digest is the SHA-256 of the whole file as it was read and bytes its length; content is what is
-- kept of it, which may be less. exposed tells of stretches that look like a private key.
ALTER TABLE file_versions ADD COLUMN digest bytea NOT NULL DEFAULT '';
ALTER TABLE file_versions ADD COLUMN bytes integer NOT NULL DEFAULT 0;
ALTER TABLE file_versions ADD COLUMN exposed jsonb NOT NULL DEFAULT '[]';
UPDATE file_versions SET digest = sha256(content), bytes = length(content);
CREATE OR REPLACE VIEW limited.file_versions AS SELECT * FROM public.file_versions WHERE login_id IN (SELECT id FROM limited.logins);

-- tries is how often the reading of a login was begun and not ended.
ALTER TABLE sweep_items ADD COLUMN tries integer NOT NULL DEFAULT 0;
CREATE INDEX sweep_items_by_tries ON sweep_items (tries, sweep_id) WHERE state = 'waiting';
CREATE OR REPLACE VIEW limited.sweep_items AS SELECT * FROM public.sweep_items WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP INDEX sweep_items_by_tries;
DROP VIEW limited.sweep_items CASCADE;
ALTER TABLE sweep_items DROP COLUMN tries;
DROP VIEW limited.file_versions;
ALTER TABLE file_versions DROP COLUMN digest, DROP COLUMN bytes, DROP COLUMN exposed;
