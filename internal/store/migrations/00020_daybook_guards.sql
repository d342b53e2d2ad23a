-- +goose Up
-- What the service's role may insert, nothing else may stumble over: a row with a wrong hash is found by the
-- check, and the next entries stand behind it.
ALTER TABLE daybook ADD CONSTRAINT daybook_hash_is_whole CHECK (octet_length(hash) = 32) NOT VALID;
ALTER TABLE daybook ADD CONSTRAINT daybook_seq_has_room CHECK (seq < 1000000000000000) NOT VALID;
-- A name that is used again shows what was written since it is that of this instance.
CREATE OR REPLACE VIEW limited.daybook AS SELECT * FROM public.daybook d WHERE d.person = current_setting('plumlatch.person')
    OR d.about @? '$[*] ? (@ starts with "instance:")'
    AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text(d.about) a WHERE a LIKE 'instance:%' AND NOT EXISTS (
        SELECT 1 FROM limited.instances i WHERE i.name = substr(a, 10) AND date_trunc('second', i.created_at) <= d.at));

-- +goose Down
CREATE OR REPLACE VIEW limited.daybook AS SELECT * FROM public.daybook d WHERE d.person = current_setting('plumlatch.person')
    OR d.about @? '$[*] ? (@ starts with "instance:")'
    AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text(d.about) a WHERE a LIKE 'instance:%' AND substr(a, 10) NOT IN (SELECT name FROM limited.instances));
ALTER TABLE daybook DROP CONSTRAINT daybook_seq_has_room, DROP CONSTRAINT daybook_hash_is_whole;
