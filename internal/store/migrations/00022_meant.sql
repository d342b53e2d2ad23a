-- +goose Up
-- A rotation is found by the name of a login, an instance or a key that it works on, also when it has ended.
CREATE INDEX rotation_items_of_login ON rotation_items (login_id);
CREATE INDEX rotation_items_of_old_key ON rotation_items (old_key_id);
-- After a first group a rotation waits for a word, unless it was started before it could be told to.
UPDATE rotations SET settings = settings || '{"then_go": true}' WHERE (settings->>'first')::int > 0;
UPDATE rotation_rules SET settings = settings || '{"then_go": true}' WHERE (settings->>'first')::int > 0;

-- +goose Down
UPDATE rotation_rules SET settings = settings - 'then_go';
UPDATE rotations SET settings = settings - 'then_go';
DROP INDEX rotation_items_of_old_key;
DROP INDEX rotation_items_of_login;
