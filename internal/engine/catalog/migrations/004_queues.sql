-- +goose Up
ALTER TABLE channels
    DROP CONSTRAINT channels_kind_check,
    ADD CONSTRAINT channels_kind_check CHECK (kind IN ('topic', 'queue')),
    ADD COLUMN queue jsonb NOT NULL DEFAULT '{}',
    -- Of the queue that holds the dead letters of a group.
    ADD COLUMN group_id bigint UNIQUE REFERENCES groups ON DELETE CASCADE;

-- Progress is, for each partition of the source, where it goes on, with all
-- that was sent before it: it is written after the target has acknowledged.
CREATE TABLE replays (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    who text NOT NULL,
    source text NOT NULL,
    target text NOT NULL,
    spec jsonb NOT NULL,
    state text NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'paused', 'done', 'cancelled', 'stopped', 'failed')),
    detail text NOT NULL DEFAULT '',
    rate double precision NOT NULL,
    total bigint NOT NULL,
    sent bigint NOT NULL DEFAULT 0,
    failed bigint NOT NULL DEFAULT 0,
    progress jsonb NOT NULL DEFAULT '{}',
    made_at timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);
CREATE INDEX replays_open ON replays (id) WHERE state IN ('running', 'paused');
