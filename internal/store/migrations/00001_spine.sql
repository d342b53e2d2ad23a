-- +goose Up
CREATE EXTENSION IF NOT EXISTS pg_trgm;

CREATE TABLE operators (
    id            uuid PRIMARY KEY,
    name          text NOT NULL UNIQUE,
    role          text NOT NULL CHECK (role IN ('viewer', 'operator', 'admin')),
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL
);

CREATE TABLE keepers (
    id          uuid PRIMARY KEY,
    name        text NOT NULL UNIQUE,
    kind        text NOT NULL CHECK (kind IN ('person', 'team')),
    title       text NOT NULL,
    operator_id uuid UNIQUE REFERENCES operators (id)
);

CREATE TABLE sessions (
    hash        bytea PRIMARY KEY,
    operator_id uuid NOT NULL REFERENCES operators (id),
    created_at  timestamptz NOT NULL,
    expires_at  timestamptz NOT NULL
);

CREATE TABLE tokens (
    id           uuid PRIMARY KEY,
    name         text NOT NULL,
    hash         bytea NOT NULL UNIQUE,
    operator_id  uuid NOT NULL REFERENCES operators (id),
    role         text NOT NULL CHECK (role IN ('viewer', 'operator', 'admin')),
    created_at   timestamptz NOT NULL,
    expires_at   timestamptz,
    last_used_at timestamptz,
    revoked_at   timestamptz
);
CREATE INDEX tokens_by_operator ON tokens (operator_id, created_at);

CREATE TABLE keys (
    id         uuid PRIMARY KEY,
    name       text NOT NULL COLLATE "C" CONSTRAINT keys_name UNIQUE,
    type       text NOT NULL,
    algorithm  text NOT NULL,
    bits       integer NOT NULL,
    blob       bytea NOT NULL,
    sha256     bytea NOT NULL CONSTRAINT keys_sha256 UNIQUE,
    md5        bytea NOT NULL,
    spki_md5   bytea, -- MD5 over the SubjectPublicKeyInfo in DER
    pkcs8_sha1 bytea, -- SHA-1 over the private half's PKCS#8 DER, where it was at hand
    comment    text NOT NULL,
    keeper_id  uuid REFERENCES keepers (id),
    purpose    text NOT NULL,
    labels     jsonb NOT NULL,
    custody    text NOT NULL CHECK (custody IN ('holder', 'kept')),
    origin     text NOT NULL CHECK (origin IN ('client', 'service', 'import')),
    state      text NOT NULL CHECK (state IN ('active', 'retired', 'lost')),
    created_at timestamptz NOT NULL,
    created_by text NOT NULL
);
CREATE INDEX keys_by_created ON keys (created_at, id);
CREATE INDEX keys_by_keeper ON keys (keeper_id, name);
CREATE INDEX keys_by_type ON keys (type, name);
CREATE INDEX keys_by_md5 ON keys (md5);
CREATE INDEX keys_by_spki_md5 ON keys (spki_md5);
CREATE INDEX keys_by_pkcs8_sha1 ON keys (pkcs8_sha1);
CREATE INDEX keys_by_label ON keys USING gin (labels jsonb_path_ops);
CREATE INDEX keys_by_text ON keys USING gin ((name || ' ' || comment || ' ' || purpose) gin_trgm_ops);

CREATE TABLE instances (
    id              uuid PRIMARY KEY,
    name            text NOT NULL COLLATE "C",
    cloud_id        text NOT NULL,
    state           text NOT NULL,
    image           text NOT NULL,
    size            text NOT NULL,
    zone            text NOT NULL,
    region          text NOT NULL,
    login_user      text NOT NULL,
    private_address text NOT NULL,
    public_address  text NOT NULL,
    ssh_port        integer NOT NULL,
    static_address  boolean NOT NULL,
    temporary_gib   integer NOT NULL,
    key_label       text NOT NULL,
    labels          jsonb NOT NULL,
    created_at      timestamptz NOT NULL,
    created_by      text NOT NULL,
    gone_at         timestamptz
);
-- A name is taken for as long as its instance is there.
CREATE UNIQUE INDEX instances_name ON instances (name) WHERE gone_at IS NULL;
CREATE INDEX instances_by_created ON instances (created_at, id) WHERE gone_at IS NULL;
CREATE INDEX instances_by_region ON instances (region, name) WHERE gone_at IS NULL;
CREATE INDEX instances_by_label ON instances USING gin (labels jsonb_path_ops);
CREATE INDEX instances_by_text ON instances USING gin ((name || ' ' || public_address || ' ' || private_address) gin_trgm_ops);

CREATE TABLE host_keys (
    id          uuid PRIMARY KEY,
    instance_id uuid NOT NULL REFERENCES instances (id),
    algorithm   text NOT NULL,
    blob        bytea NOT NULL,
    sha256      bytea NOT NULL,
    learnt      text NOT NULL,
    pinned_at   timestamptz NOT NULL,
    UNIQUE (instance_id, algorithm)
);

CREATE INDEX host_keys_by_sha256 ON host_keys (sha256);

CREATE TABLE logins (
    id          uuid PRIMARY KEY,
    instance_id uuid NOT NULL REFERENCES instances (id),
    os_user     text NOT NULL,
    UNIQUE (instance_id, os_user)
);

CREATE TABLE grants (
    id           uuid PRIMARY KEY,
    key_id       uuid NOT NULL REFERENCES keys (id),
    login_id     uuid NOT NULL REFERENCES logins (id),
    granted_at   timestamptz NOT NULL,
    granted_by   text NOT NULL,
    until        timestamptz,
    reason       text NOT NULL,
    withdrawn_at timestamptz,
    withdrawn_by text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX grants_live ON grants (login_id, key_id) WHERE withdrawn_at IS NULL;
CREATE INDEX grants_by_key ON grants (key_id) WHERE withdrawn_at IS NULL;

-- The last sighting of each key in each login. present is false where somebody
-- looked and the key was not there.
CREATE TABLE sightings (
    login_id uuid NOT NULL REFERENCES logins (id),
    key_id   uuid NOT NULL REFERENCES keys (id),
    seen_at  timestamptz NOT NULL,
    method   text NOT NULL,
    present  boolean NOT NULL,
    PRIMARY KEY (login_id, key_id)
);
CREATE INDEX sightings_by_key ON sightings (key_id);

CREATE TABLE runs (
    id           uuid PRIMARY KEY,
    kind         text NOT NULL,
    instance_id  uuid NOT NULL REFERENCES instances (id),
    state        text NOT NULL,
    version      bigint NOT NULL,
    requested_by text NOT NULL,
    reason       text NOT NULL,
    facts        jsonb NOT NULL,
    created_at   timestamptz NOT NULL,
    ended_at     timestamptz,
    error        text NOT NULL
);
-- One run at a time works on an instance.
CREATE UNIQUE INDEX runs_one_live ON runs (instance_id) WHERE ended_at IS NULL;
CREATE INDEX runs_by_created ON runs (created_at DESC, id DESC);
CREATE INDEX runs_by_instance ON runs (instance_id, created_at DESC);

CREATE TABLE run_steps (
    run_id     uuid NOT NULL REFERENCES runs (id),
    seq        integer NOT NULL,
    name       text NOT NULL,
    title      text NOT NULL,
    state      text NOT NULL,
    intent     text NOT NULL,
    undo       text NOT NULL,
    outcome    text NOT NULL,
    percent    integer NOT NULL,
    started_at timestamptz,
    ended_at   timestamptz,
    PRIMARY KEY (run_id, seq)
);

-- prev_hash and hash are for the chain over the entries.
CREATE TABLE daybook (
    seq          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at           timestamptz NOT NULL,
    person       text NOT NULL,
    via          text NOT NULL,
    action       text NOT NULL,
    subject_kind text NOT NULL,
    subject      text NOT NULL,
    why          text NOT NULL,
    outcome      text NOT NULL,
    sentence     text NOT NULL,
    details      jsonb NOT NULL,
    request_id   text NOT NULL,
    prev_hash    bytea,
    hash         bytea
);
CREATE INDEX daybook_by_subject ON daybook (subject, seq);
CREATE INDEX daybook_by_person ON daybook (person, seq);
CREATE INDEX daybook_by_action ON daybook (action, seq);

CREATE TABLE idempotency (
    operator_id uuid NOT NULL,
    key         text NOT NULL,
    request     bytea NOT NULL,
    subject     text NOT NULL,
    created_at  timestamptz NOT NULL,
    PRIMARY KEY (operator_id, key)
);
CREATE INDEX idempotency_by_created ON idempotency (created_at);

-- +goose Down
DROP TABLE idempotency, daybook, run_steps, runs, sightings, grants, logins, host_keys, instances, keys, tokens, sessions, keepers, operators;
