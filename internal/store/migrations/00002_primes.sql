-- +goose Up
-- Few keys have their private half's digest, so few need a place in its index.
DROP INDEX keys_by_pkcs8_sha1;
CREATE INDEX keys_by_pkcs8_sha1 ON keys (pkcs8_sha1) WHERE pkcs8_sha1 IS NOT NULL;

-- When an RSA key's modulus was compared with all others.
ALTER TABLE keys ADD COLUMN primes_at timestamptz;
CREATE INDEX keys_of_rsa ON keys (id) WHERE type = 'rsa';
CREATE INDEX keys_with_primes_to_compare ON keys (id) WHERE type = 'rsa' AND primes_at IS NULL;

-- Both ways round: each key of a pair names the other.
CREATE TABLE shared_primes (
    key_id   uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    other_id uuid NOT NULL REFERENCES keys (id) ON DELETE CASCADE,
    found_at timestamptz NOT NULL,
    PRIMARY KEY (key_id, other_id)
);
CREATE INDEX shared_primes_by_other ON shared_primes (other_id);

-- +goose Down
DROP TABLE shared_primes;
ALTER TABLE keys DROP COLUMN primes_at;
DROP INDEX keys_of_rsa;
DROP INDEX keys_by_pkcs8_sha1;
CREATE INDEX keys_by_pkcs8_sha1 ON keys (pkcs8_sha1);
