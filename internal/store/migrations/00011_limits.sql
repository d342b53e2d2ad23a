-- +goose Up
-- What a person sees whose account is limited to instances with some labels. A
-- connection for such a person has limited before public in its search_path, so these
-- views stand before the tables (store.Limit). A column that is added to one of these tables
-- needs its view made anew.
CREATE SCHEMA limited;
CREATE VIEW limited.instances AS SELECT * FROM public.instances WHERE labels @> current_setting('plumlatch.labels')::jsonb;
CREATE VIEW limited.host_keys AS SELECT * FROM public.host_keys WHERE instance_id IN (SELECT id FROM limited.instances);
-- A public key may stand anywhere, but a steward key's name tells of its instance.
CREATE VIEW limited.keys AS SELECT * FROM public.keys WHERE steward_of IS NULL OR steward_of IN (SELECT id FROM limited.instances);
CREATE VIEW limited.logins AS SELECT * FROM public.logins WHERE instance_id IN (SELECT id FROM limited.instances);
CREATE VIEW limited.grants AS SELECT * FROM public.grants WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.sightings AS SELECT * FROM public.sightings WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.strangers AS SELECT * FROM public.strangers WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.file_versions AS SELECT * FROM public.file_versions WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.proofs AS SELECT * FROM public.proofs WHERE login_id IS NULL OR login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.runs AS SELECT * FROM public.runs WHERE instance_id IN (SELECT id FROM limited.instances);
CREATE VIEW limited.closings AS SELECT * FROM public.closings WHERE instance_id IN (SELECT id FROM limited.instances);
CREATE VIEW limited.password_readings AS SELECT * FROM public.password_readings WHERE instance_id IN (SELECT id FROM limited.instances);
CREATE VIEW limited.sweep_items AS SELECT * FROM public.sweep_items WHERE login_id IN (SELECT id FROM limited.logins);
CREATE VIEW limited.sweeps AS SELECT * FROM public.sweeps s WHERE NOT EXISTS (SELECT 1 FROM public.sweep_items i WHERE i.sweep_id = s.id AND i.login_id NOT IN (SELECT id FROM limited.logins));
CREATE VIEW limited.rotation_items AS SELECT * FROM public.rotation_items WHERE login_id IN (SELECT id FROM limited.logins);
-- A rotation that reaches beyond the limit is for those who may see all of it.
CREATE VIEW limited.rotations AS SELECT * FROM public.rotations r WHERE NOT EXISTS (SELECT 1 FROM public.rotation_items i WHERE i.rotation_id = r.id AND i.login_id NOT IN (SELECT id FROM limited.logins));
CREATE VIEW limited.asked_keys AS SELECT * FROM public.asked_keys WHERE rotation_id IN (SELECT id FROM limited.rotations);
CREATE VIEW limited.daybook AS SELECT * FROM public.daybook d WHERE d.person = current_setting('plumlatch.person')
    OR d.about @? '$[*] ? (@ starts with "instance:")'
    AND NOT EXISTS (SELECT 1 FROM jsonb_array_elements_text(d.about) a WHERE a LIKE 'instance:%' AND substr(a, 10) NOT IN (SELECT name FROM limited.instances));

-- +goose Down
DROP SCHEMA limited CASCADE;
