-- +goose Up
-- entry is the report of a completed login as it was signed with the key, signature that signature.
ALTER TABLE proofs ADD COLUMN entry jsonb;
ALTER TABLE proofs ADD COLUMN signature text NOT NULL DEFAULT '';
CREATE INDEX proofs_signed ON proofs (login_id, key_id, at DESC) WHERE signature <> '';
CREATE OR REPLACE VIEW limited.proofs AS SELECT * FROM public.proofs WHERE login_id IS NULL OR login_id IN (SELECT id FROM limited.logins);
ALTER TABLE challenges ADD COLUMN entry jsonb;

-- +goose Down
ALTER TABLE challenges DROP COLUMN entry;
DROP VIEW limited.proofs;
DROP INDEX proofs_signed;
ALTER TABLE proofs DROP COLUMN entry, DROP COLUMN signature;
