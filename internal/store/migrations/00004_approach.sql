-- +goose Up
-- Where an instance was before its address last changed.
ALTER TABLE instances ADD COLUMN address_before text NOT NULL DEFAULT '';
ALTER TABLE instances ADD COLUMN address_changed_at timestamptz;
-- The folders above a login's files, with their modes, as they were last seen.
ALTER TABLE logins ADD COLUMN folders jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE logins DROP COLUMN folders;
ALTER TABLE instances DROP COLUMN address_changed_at;
ALTER TABLE instances DROP COLUMN address_before;
