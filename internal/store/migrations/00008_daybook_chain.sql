-- +goose Up
-- What an entry concerns, such as ["key:marek-main", "instance:atlas-db"].
ALTER TABLE daybook ADD COLUMN about jsonb NOT NULL DEFAULT '[]';
UPDATE daybook SET about = CASE subject_kind
    WHEN 'login' THEN jsonb_build_array('login:' || subject, 'instance:' || split_part(subject, '@', 2))
    ELSE jsonb_build_array(subject_kind || ':' || subject)
END;
CREATE INDEX daybook_by_about ON daybook USING gin (about jsonb_path_ops);
CREATE INDEX daybook_by_at ON daybook (at, seq);
ALTER TABLE daybook ALTER COLUMN seq DROP IDENTITY;

-- +goose Down
ALTER TABLE daybook ALTER COLUMN seq ADD GENERATED ALWAYS AS IDENTITY;
DROP INDEX daybook_by_at;
ALTER TABLE daybook DROP COLUMN about;
