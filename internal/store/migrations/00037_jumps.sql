-- +goose Up
-- By way of which instance one is reached; NULL for what the jump rules say. direct is that none of them counts for it.
ALTER TABLE instances ADD COLUMN via uuid REFERENCES instances (id);
ALTER TABLE instances ADD COLUMN direct boolean NOT NULL DEFAULT false;
CREATE INDEX instances_via ON instances (via) WHERE via IS NOT NULL;
CREATE OR REPLACE VIEW limited.instances AS SELECT * FROM public.instances
    WHERE labels @> current_setting('plumlatch.labels')::jsonb;

-- Which instances are reached by way of another: those with a label, or in a network.
CREATE TABLE jump_rules (
    id         uuid PRIMARY KEY,
    label_name text NOT NULL DEFAULT '',
    label_text text NOT NULL DEFAULT '',
    network    cidr,
    via        uuid NOT NULL REFERENCES instances (id),
    added_at   timestamptz NOT NULL,
    added_by   text NOT NULL
);
CREATE UNIQUE INDEX jump_rules_label ON jump_rules (label_name, label_text) WHERE network IS NULL;
CREATE UNIQUE INDEX jump_rules_network ON jump_rules (network) WHERE network IS NOT NULL;
CREATE VIEW limited.jump_rules AS SELECT * FROM public.jump_rules r
    WHERE EXISTS (SELECT 1 FROM limited.instances i WHERE i.id = r.via);

-- +goose StatementBegin
CREATE FUNCTION address_of(written text) RETURNS inet IMMUTABLE LANGUAGE plpgsql AS $$
BEGIN
    RETURN written::inet;
EXCEPTION WHEN others THEN -- a host name
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- The instance by way of which another is reached: what was said of it alone; else the rule of the narrowest network
-- that its address is in; else the first rule for a label that it has. A rule never counts for its own jump host.
CREATE FUNCTION via_of(instance uuid) RETURNS uuid STABLE LANGUAGE sql AS $$
    SELECT CASE WHEN i.direct THEN NULL ELSE coalesce(i.via, (
        SELECT r.via FROM public.jump_rules r WHERE r.via <> i.id AND CASE
            WHEN r.network IS NULL THEN i.labels @> jsonb_build_object(r.label_name, r.label_text)
            ELSE public.address_of(coalesce(nullif(i.private_address, ''), i.public_address)) <<= r.network END
        ORDER BY r.network IS NULL, masklen(r.network) DESC, r.label_name, r.label_text LIMIT 1)) END
    FROM public.instances i WHERE i.id = instance
$$;

-- +goose Down
DROP FUNCTION via_of(uuid);
DROP FUNCTION address_of(text);
DROP VIEW limited.jump_rules;
DROP TABLE jump_rules;
DROP VIEW limited.instances CASCADE;
ALTER TABLE instances DROP COLUMN via;
ALTER TABLE instances DROP COLUMN direct;
