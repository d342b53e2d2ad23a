-- +goose Up
-- A rotation is found by the name of a login, an instance or a key that it works on, also when it has ended.
CREATE INDEX rotation_items_of_login ON rotation_items (login_id);
CREATE INDEX rotation_items_of_old_key ON rotation_items (old_key_id);

-- +goose Down
DROP INDEX rotation_items_of_old_key;
DROP INDEX rotation_items_of_login;
