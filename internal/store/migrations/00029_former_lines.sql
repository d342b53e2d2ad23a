-- +goose Up
-- Keys that were in a file and are no longer there, so that a fingerprint is found also where it once opened something.
CREATE TABLE former_lines (
    login_id  uuid NOT NULL REFERENCES logins (id) ON DELETE CASCADE,
    path      text NOT NULL,
    sha256    bytea NOT NULL,
    md5       bytea NOT NULL,
    comment   text NOT NULL,
    seen_at   timestamptz NOT NULL,
    gone_by   timestamptz NOT NULL,
    PRIMARY KEY (login_id, path, sha256)
);
CREATE INDEX former_lines_by_sha256 ON former_lines (sha256);
CREATE INDEX former_lines_by_md5 ON former_lines (md5);
CREATE VIEW limited.former_lines AS SELECT * FROM public.former_lines
    WHERE login_id IN (SELECT id FROM limited.logins);
CREATE INDEX former_lines_by_gone ON former_lines (gone_by);
CREATE INDEX file_versions_by_seen ON file_versions (seen_at);
-- Questions about a date are about grants that are over, too.
CREATE INDEX grants_ever_by_login ON grants (login_id);
CREATE INDEX grants_ever_by_key ON grants (key_id);
-- A name is looked for also among instances that are gone.
CREATE INDEX instances_by_name_ever ON instances (name);
-- Where the holders of certificate authorities get in.
CREATE INDEX login_servers_authorities ON login_servers (login_id) WHERE jsonb_exists(server, 'authorities');
CREATE INDEX sightings_authorities ON sightings (login_id) WHERE limits = 'a certificate authority, not a key';
CREATE INDEX strangers_by_comment ON strangers USING gin (comment gin_trgm_ops);
CREATE INDEX host_keys_by_md5 ON host_keys (md5(blob));

INSERT INTO former_lines (login_id, path, sha256, md5, comment, seen_at, gone_by)
SELECT login_id, path, sha256(blob), decode(md5(blob), 'hex'), '', max(seen_until), min(gone_by)
FROM (
    SELECT v.login_id, v.path, v.seen_until, decode(m[1], 'base64') AS blob,
        (SELECT min(w.seen_at) FROM file_versions w
            WHERE w.login_id = v.login_id AND w.path = v.path AND w.seen_at > v.seen_at
                AND position(convert_to(m[1], 'UTF8') IN w.content) = 0) AS gone_by
    FROM file_versions v,
        regexp_matches(encode(v.content, 'escape'), '\s(AAAA[A-Za-z0-9+/]+={0,2})(?=[\s\\]|$)', 'g') AS m
    WHERE length(m[1]) % 4 = 0
        AND EXISTS (SELECT 1 FROM file_versions w
            WHERE w.login_id = v.login_id AND w.path = v.path AND w.seen_at > v.seen_at)
) AS lines
WHERE gone_by IS NOT NULL
GROUP BY login_id, path, blob;

-- +goose Down
DROP INDEX grants_ever_by_key;
DROP INDEX grants_ever_by_login;
DROP INDEX instances_by_name_ever;
DROP INDEX sightings_authorities;
DROP INDEX login_servers_authorities;
DROP INDEX file_versions_by_seen;
DROP INDEX strangers_by_comment;
DROP INDEX host_keys_by_md5;
DROP VIEW limited.former_lines;
DROP TABLE former_lines;
