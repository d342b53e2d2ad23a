-- +goose Up
-- Who last completed a login by a key: it shows that they hold it, and nobody else.
ALTER TABLE sightings ADD COLUMN entered_by text NOT NULL DEFAULT '';
UPDATE sightings s SET entered_by = p.person
    FROM (SELECT DISTINCT ON (login_id, key_id) login_id, key_id, person FROM proofs WHERE kind = 'entry'
        ORDER BY login_id, key_id, at DESC) p
    WHERE p.login_id = s.login_id AND p.key_id = s.key_id AND s.entered_at IS NOT NULL;
CREATE OR REPLACE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);

-- +goose Down
DROP VIEW limited.sightings;
ALTER TABLE sightings DROP COLUMN entered_by;
CREATE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);
