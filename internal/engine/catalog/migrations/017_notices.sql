-- +goose Up
-- What was told of an incident, and as what.
ALTER TABLE incidents ADD COLUMN told_at timestamptz;
ALTER TABLE incidents ADD COLUMN told_as text NOT NULL DEFAULT 'calm';
ALTER TABLE incidents ADD COLUMN told_end boolean NOT NULL DEFAULT false;

-- Words about incidents to a place outside: sent until one is taken, or given up.
CREATE TABLE notices (
    id uuid PRIMARY KEY,
    endpoint text NOT NULL,
    watches text[] NOT NULL,
    incidents uuid[] NOT NULL,
    body jsonb NOT NULL,
    made_at timestamptz NOT NULL,
    next_at timestamptz,
    tries int NOT NULL DEFAULT 0,
    sent_at timestamptz,
    answer text NOT NULL DEFAULT ''
);
CREATE INDEX notices_due ON notices (endpoint, made_at, id) WHERE next_at IS NOT NULL;
CREATE INDEX notices_by_time ON notices (made_at);
