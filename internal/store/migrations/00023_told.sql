-- +goose Up
-- What an entry tells of, from which its sentence is made when it is read. Earlier entries keep theirs.
ALTER TABLE daybook ADD COLUMN told text NOT NULL DEFAULT '';
-- A view has the columns of its table that there were when it was made.
CREATE OR REPLACE VIEW limited.daybook AS SELECT * FROM public.daybook d WHERE d.person = current_setting('plumlatch.person')
    OR d.about @? '$[*] ? (@ starts with "instance:")'
    AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text(d.about) a WHERE a LIKE 'instance:%' AND NOT EXISTS (
        SELECT 1 FROM limited.instances i WHERE i.name = substr(a, 10) AND date_trunc('second', i.created_at) <= d.at));

-- +goose Down
DROP VIEW limited.daybook;
ALTER TABLE daybook DROP COLUMN told;
CREATE VIEW limited.daybook AS SELECT * FROM public.daybook d WHERE d.person = current_setting('plumlatch.person')
    OR d.about @? '$[*] ? (@ starts with "instance:")'
    AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text(d.about) a WHERE a LIKE 'instance:%' AND NOT EXISTS (
        SELECT 1 FROM limited.instances i WHERE i.name = substr(a, 10) AND date_trunc('second', i.created_at) <= d.at));
