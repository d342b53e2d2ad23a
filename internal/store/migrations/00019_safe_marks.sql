-- +goose Up
-- safe_state is the one row that says under which master key all processes seal, by its mark, which
-- one is to take its place, and what could not be opened when it last did.
CREATE TABLE safe_state (
	one boolean PRIMARY KEY DEFAULT true CHECK (one),
	mark text NOT NULL,
	wanted text NOT NULL DEFAULT '',
	unreadable jsonb NOT NULL DEFAULT '[]'
);
-- safe_processes are the processes of the service that run, with the marks of the master keys that each has.
CREATE TABLE safe_processes (
	id uuid PRIMARY KEY,
	host text NOT NULL,
	marks text[] NOT NULL,
	seen_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE safe_processes;
DROP TABLE safe_state;
