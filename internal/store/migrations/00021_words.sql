-- +goose Up
-- The words of the glossary: a holder has a private key, what the safe keeps is encrypted, a program elsewhere
-- subscribes to what happens, and an instance is deleted.
ALTER TABLE keepers RENAME TO holders;
ALTER INDEX keys_by_keeper RENAME TO keys_by_holder;
ALTER TABLE keys RENAME COLUMN keeper_id TO holder_id;
ALTER VIEW limited.keys RENAME COLUMN keeper_id TO holder_id;
ALTER TABLE asked_keys RENAME COLUMN keeper_id TO holder_id;
ALTER VIEW limited.asked_keys RENAME COLUMN keeper_id TO holder_id;
ALTER TABLE handovers RENAME COLUMN from_keeper TO from_holder;
ALTER TABLE handovers RENAME COLUMN to_keeper TO to_holder;
ALTER TABLE kept_halves RENAME TO kept_keys;
ALTER TABLE kept_keys RENAME COLUMN sealed TO encrypted;
ALTER TABLE service_keys RENAME COLUMN sealed TO encrypted;
ALTER TABLE operators RENAME COLUMN factor_sealed TO factor_encrypted;
ALTER TABLE receivers RENAME TO subscribers;
ALTER TABLE subscribers RENAME COLUMN sealed TO encrypted;
ALTER TABLE deliveries RENAME COLUMN receiver_id TO subscriber_id;
UPDATE rotation_rules SET wanted = (wanted - 'keeper') || jsonb_build_object('holder', wanted->'keeper') WHERE wanted ? 'keeper';
UPDATE rotation_rules SET wanted = (wanted - 'Keeper') || jsonb_build_object('Holder', wanted->'Keeper') WHERE wanted ? 'Keeper';
UPDATE instances SET state = 'deleted' WHERE state = 'terminated';
UPDATE instances SET state = 'deleting' WHERE state = 'terminating';
UPDATE run_steps SET name = 'delete' FROM runs WHERE runs.id = run_steps.run_id AND runs.kind = 'terminate' AND name = 'terminate';
UPDATE runs SET kind = 'delete' WHERE kind = 'terminate';

-- +goose Down
UPDATE runs SET kind = 'terminate' WHERE kind = 'delete';
UPDATE run_steps SET name = 'terminate' FROM runs WHERE runs.id = run_steps.run_id AND runs.kind = 'terminate' AND name = 'delete';
UPDATE instances SET state = 'terminating' WHERE state = 'deleting';
UPDATE instances SET state = 'terminated' WHERE state = 'deleted';
UPDATE rotation_rules SET wanted = (wanted - 'Holder') || jsonb_build_object('Keeper', wanted->'Holder') WHERE wanted ? 'Holder';
UPDATE rotation_rules SET wanted = (wanted - 'holder') || jsonb_build_object('keeper', wanted->'holder') WHERE wanted ? 'holder';
ALTER TABLE deliveries RENAME COLUMN subscriber_id TO receiver_id;
ALTER TABLE subscribers RENAME COLUMN encrypted TO sealed;
ALTER TABLE subscribers RENAME TO receivers;
ALTER TABLE operators RENAME COLUMN factor_encrypted TO factor_sealed;
ALTER TABLE service_keys RENAME COLUMN encrypted TO sealed;
ALTER TABLE kept_keys RENAME COLUMN encrypted TO sealed;
ALTER TABLE kept_keys RENAME TO kept_halves;
ALTER TABLE handovers RENAME COLUMN to_holder TO to_keeper;
ALTER TABLE handovers RENAME COLUMN from_holder TO from_keeper;
ALTER VIEW limited.asked_keys RENAME COLUMN holder_id TO keeper_id;
ALTER TABLE asked_keys RENAME COLUMN holder_id TO keeper_id;
ALTER VIEW limited.keys RENAME COLUMN holder_id TO keeper_id;
ALTER TABLE keys RENAME COLUMN holder_id TO keeper_id;
ALTER INDEX keys_by_holder RENAME TO keys_by_keeper;
ALTER TABLE holders RENAME TO keepers;
