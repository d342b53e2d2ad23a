-- +goose Up
-- confirmed_at is when the session's person last gave their password or a code. A session that
-- awaits a code is none yet.
ALTER TABLE sessions ADD COLUMN confirmed_at timestamptz;
ALTER TABLE sessions ADD COLUMN awaits_code boolean NOT NULL DEFAULT false;

-- Nobody with a limit is an admin, who could lift it.
UPDATE operators SET role = 'operator' WHERE role = 'admin' AND limits <> '{}';
UPDATE tokens SET role = 'operator' WHERE role = 'admin' AND limits <> '{}';
ALTER TABLE operators ADD CONSTRAINT operators_admin_unlimited CHECK (role <> 'admin' OR limits = '{}');
ALTER TABLE tokens ADD CONSTRAINT tokens_admin_unlimited CHECK (role <> 'admin' OR limits = '{}');

-- Tries at passwords and codes, counted before they are looked at.
CREATE TABLE tries (
    subject text PRIMARY KEY,
    failures integer NOT NULL,
    last_at  timestamptz NOT NULL,
    until    timestamptz
);
CREATE INDEX tries_by_last ON tries (last_at);

-- +goose Down
DROP TABLE tries;
ALTER TABLE tokens DROP CONSTRAINT tokens_admin_unlimited;
ALTER TABLE operators DROP CONSTRAINT operators_admin_unlimited;
ALTER TABLE sessions DROP COLUMN confirmed_at, DROP COLUMN awaits_code;
