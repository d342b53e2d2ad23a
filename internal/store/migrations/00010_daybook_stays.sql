-- +goose Up
-- 00009 has hashed the entries that were there (chainEarlier).
ALTER TABLE daybook ALTER COLUMN prev_hash SET NOT NULL, ALTER COLUMN hash SET NOT NULL;

-- +goose StatementBegin
CREATE FUNCTION daybook_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the daybook is append-only';
END $$;
-- +goose StatementEnd
CREATE TRIGGER daybook_stays BEFORE UPDATE OR DELETE OR TRUNCATE ON daybook FOR EACH STATEMENT EXECUTE FUNCTION daybook_stays();

-- The service's own keys, their private halves sealed by the safe.
CREATE TABLE service_keys (
    name    text PRIMARY KEY,
    blob    bytea NOT NULL,
    sealed  bytea NOT NULL,
    made_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE service_keys;
DROP TRIGGER daybook_stays ON daybook;
DROP FUNCTION daybook_stays;
ALTER TABLE daybook ALTER COLUMN prev_hash DROP NOT NULL, ALTER COLUMN hash DROP NOT NULL;
