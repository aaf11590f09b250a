-- +goose Up
ALTER TABLE channels
    ADD COLUMN hold jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN hold_bytes bigint NOT NULL DEFAULT 0;

-- Epoch is raised by every node that begins to coordinate the group: what an
-- earlier one still writes is refused. Shares is who holds which partition.
CREATE TABLE groups (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    channel_id bigint NOT NULL REFERENCES channels ON DELETE CASCADE,
    name text NOT NULL,
    description text NOT NULL DEFAULT '',
    paused boolean NOT NULL DEFAULT false,
    expire_ms bigint NOT NULL DEFAULT 0,
    created_at timestamptz NOT NULL DEFAULT now(),
    epoch bigint NOT NULL DEFAULT 0,
    shares jsonb NOT NULL DEFAULT '{}',
    members_until timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    UNIQUE (channel_id, name)
);
CREATE INDEX groups_changed ON groups (changed_at);

CREATE TABLE group_offsets (
    group_id bigint NOT NULL REFERENCES groups ON DELETE CASCADE,
    partition int NOT NULL,
    committed bigint NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (group_id, partition)
);
CREATE INDEX group_offsets_changed ON group_offsets (changed_at);

CREATE TABLE group_moves (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    group_id bigint NOT NULL REFERENCES groups ON DELETE CASCADE,
    at timestamptz NOT NULL DEFAULT now(),
    who text NOT NULL,
    why text NOT NULL,
    target text NOT NULL,
    undoes bigint REFERENCES group_moves,
    steps jsonb NOT NULL
);
CREATE INDEX group_moves_by_group ON group_moves (group_id, id);

-- One row a group and sample: the lag and the age of the oldest unread message
-- (ms) of each partition, and the sums of the committed offsets and the ends.
CREATE TABLE lag_samples (
    group_id bigint NOT NULL REFERENCES groups ON DELETE CASCADE,
    at timestamptz NOT NULL,
    coarse boolean NOT NULL,
    lag bigint[] NOT NULL,
    age_ms bigint[] NOT NULL,
    committed numeric NOT NULL,
    ended numeric NOT NULL,
    PRIMARY KEY (group_id, at)
);
CREATE INDEX lag_samples_fine ON lag_samples (at) WHERE NOT coarse;
