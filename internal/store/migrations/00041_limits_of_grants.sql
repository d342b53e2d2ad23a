-- +goose Up
-- Limits are options of sshd(8) that the line of a grant has, in one form; forced is whether it runs one command by them
-- and gives no shell.
ALTER TABLE grants ADD COLUMN limits text NOT NULL DEFAULT '', ADD COLUMN forced boolean NOT NULL DEFAULT false;
-- Options are those that a line was seen to have, in the same form; NULL where it was read before they were kept.
ALTER TABLE sightings ADD COLUMN options text;
CREATE OR REPLACE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
CREATE OR REPLACE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP VIEW limited.sightings;
DROP VIEW limited.grants;
ALTER TABLE sightings DROP COLUMN options;
ALTER TABLE grants DROP COLUMN forced, DROP COLUMN limits;
CREATE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);
