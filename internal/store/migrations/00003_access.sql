-- +goose Up
-- A steward key is the service's own, for one instance.
ALTER TABLE keys ADD COLUMN steward_of uuid REFERENCES instances (id);
CREATE UNIQUE INDEX keys_by_steward_of ON keys (steward_of) WHERE steward_of IS NOT NULL AND state = 'active';
-- The last proof that somebody holds the private half.
ALTER TABLE keys ADD COLUMN proved_at timestamptz;
ALTER TABLE keys ADD COLUMN proved_by text NOT NULL DEFAULT '';

-- Private halves that are kept, sealed by the safe under the key's id.
CREATE TABLE kept_halves (
    key_id  uuid PRIMARY KEY REFERENCES keys (id) ON DELETE CASCADE,
    sealed  bytea NOT NULL,
    kept_at timestamptz NOT NULL
);

-- end_refused is set where a grant could not be withdrawn when its time was over.
ALTER TABLE grants ADD COLUMN end_refused boolean NOT NULL DEFAULT false;
CREATE INDEX grants_by_end ON grants (until) WHERE withdrawn_at IS NULL AND until IS NOT NULL;

-- A keeper who has left is not known to hold anything any more.
ALTER TABLE keepers ADD COLUMN left_at timestamptz;

ALTER TABLE instances ADD COLUMN adopted boolean NOT NULL DEFAULT false;

-- tried_at is the last attempt to read the login's files, swept_at the last that succeeded.
ALTER TABLE logins ADD COLUMN swept_at timestamptz;
ALTER TABLE logins ADD COLUMN swept_by text NOT NULL DEFAULT '';
ALTER TABLE logins ADD COLUMN tried_at timestamptz;
ALTER TABLE logins ADD COLUMN sweep_error text NOT NULL DEFAULT '';
CREATE INDEX logins_by_tried ON logins (tried_at NULLS FIRST);

-- limits says in words what keeps the line from opening the login for every
-- holder of the key; opens is whether it opens it at all with a shell.
ALTER TABLE sightings ADD COLUMN limits text NOT NULL DEFAULT '';
ALTER TABLE sightings ADD COLUMN opens boolean NOT NULL DEFAULT true;
-- The last login with the key that was completed.
ALTER TABLE sightings ADD COLUMN entered_at timestamptz;

-- Keys that stand in a login and in no record.
CREATE TABLE strangers (
    login_id      uuid NOT NULL REFERENCES logins (id),
    sha256        bytea NOT NULL,
    algorithm     text NOT NULL,
    blob          bytea NOT NULL,
    comment       text NOT NULL,
    limits        text NOT NULL,
    first_seen_at timestamptz NOT NULL,
    seen_at       timestamptz NOT NULL,
    PRIMARY KEY (login_id, sha256)
);
CREATE INDEX strangers_by_sha256 ON strangers (sha256);

-- Every content that an authorized_keys file was seen with.
CREATE TABLE file_versions (
    id         uuid PRIMARY KEY,
    login_id   uuid NOT NULL REFERENCES logins (id),
    path       text NOT NULL,
    there      boolean NOT NULL,
    content    bytea NOT NULL,
    mode       integer NOT NULL,
    method     text NOT NULL,
    seen_at    timestamptz NOT NULL,
    seen_until timestamptz NOT NULL
);
CREATE INDEX file_versions_by_login ON file_versions (login_id, path, seen_at DESC);

CREATE TABLE sweeps (
    id           uuid PRIMARY KEY,
    requested_by text NOT NULL,
    created_at   timestamptz NOT NULL,
    ended_at     timestamptz
);
CREATE INDEX sweeps_live ON sweeps (created_at) WHERE ended_at IS NULL;
CREATE TABLE sweep_items (
    sweep_id uuid NOT NULL REFERENCES sweeps (id) ON DELETE CASCADE,
    login_id uuid NOT NULL REFERENCES logins (id),
    state    text NOT NULL CHECK (state IN ('waiting', 'as before', 'changed', 'failed')),
    outcome  text NOT NULL,
    ended_at timestamptz,
    PRIMARY KEY (sweep_id, login_id)
);
CREATE INDEX sweep_items_waiting ON sweep_items (sweep_id) WHERE state = 'waiting';

-- Dated evidence: of possession (a signature) or of entry (a completed login).
CREATE TABLE proofs (
    id       uuid PRIMARY KEY,
    kind     text NOT NULL CHECK (kind IN ('possession', 'entry')),
    key_id   uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    login_id uuid REFERENCES logins (id),
    at       timestamptz NOT NULL,
    person   text NOT NULL,
    host_key text NOT NULL
);
CREATE INDEX proofs_by_key ON proofs (key_id, at DESC);
CREATE INDEX proofs_by_login ON proofs (login_id, at DESC) WHERE login_id IS NOT NULL;

-- Each is signed at most once, by the person whom it was given.
CREATE TABLE challenges (
    id          uuid PRIMARY KEY,
    key_id      uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    operator_id uuid NOT NULL REFERENCES operators (id),
    text        text NOT NULL,
    expires_at  timestamptz NOT NULL,
    used_at     timestamptz
);
CREATE INDEX challenges_by_expiry ON challenges (expires_at);

-- +goose Down
DROP TABLE challenges, proofs, sweep_items, sweeps, file_versions, strangers, kept_halves;
ALTER TABLE sightings DROP COLUMN limits, DROP COLUMN opens, DROP COLUMN entered_at;
ALTER TABLE logins DROP COLUMN swept_at, DROP COLUMN swept_by, DROP COLUMN tried_at, DROP COLUMN sweep_error;
ALTER TABLE keepers DROP COLUMN left_at;
ALTER TABLE grants DROP COLUMN end_refused;
ALTER TABLE instances DROP COLUMN adopted;
ALTER TABLE keys DROP COLUMN steward_of, DROP COLUMN proved_at, DROP COLUMN proved_by;
