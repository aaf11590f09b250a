-- +goose Up
ALTER TABLE catalog_version
    ADD COLUMN cluster text NOT NULL DEFAULT gen_random_uuid(),
    ADD COLUMN secret text NOT NULL DEFAULT gen_random_uuid() || '-' || gen_random_uuid(),
    ADD COLUMN spread_leaders boolean NOT NULL DEFAULT true;

-- One row for each data directory: its id is the Raft id of the node, so that
-- an emptied directory under an old name is another member.
CREATE TABLE nodes (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    directory uuid NOT NULL UNIQUE,
    name text NOT NULL,
    zone text NOT NULL DEFAULT '',
    api_address text NOT NULL DEFAULT '',
    peer_address text NOT NULL DEFAULT '',
    state text NOT NULL DEFAULT 'member' CHECK (state IN ('member', 'draining', 'removed', 'replaced')),
    made_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz NOT NULL DEFAULT now(),
    seen_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX nodes_by_name ON nodes (name) WHERE state IN ('member', 'draining');

ALTER TABLE channels ADD COLUMN replicas int NOT NULL DEFAULT 1 CHECK (replicas BETWEEN 1 AND 7);

-- Which nodes shall hold a partition; the first one should lead it. The
-- partition's own log says which do: its leader brings the two together.
CREATE TABLE placements (
    channel_id bigint NOT NULL REFERENCES channels ON DELETE CASCADE,
    partition int NOT NULL,
    began_with jsonb NOT NULL,
    replicas jsonb NOT NULL,
    epoch bigint NOT NULL DEFAULT 0,
    survivor bigint,
    PRIMARY KEY (channel_id, partition)
);

CREATE TABLE jobs (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL,
    address text NOT NULL,
    who text NOT NULL,
    state text NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'cancelling', 'done', 'cancelled', 'failed')),
    detail text NOT NULL DEFAULT '',
    made_at timestamptz NOT NULL DEFAULT now(),
    ended_at timestamptz
);

CREATE TABLE job_steps (
    job_id bigint NOT NULL REFERENCES jobs ON DELETE CASCADE,
    number int NOT NULL,
    channel_id bigint NOT NULL REFERENCES channels ON DELETE CASCADE,
    partition int NOT NULL,
    before jsonb NOT NULL,
    after jsonb NOT NULL,
    state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'moving', 'done', 'cancelled', 'failed')),
    detail text NOT NULL DEFAULT '',
    began_at timestamptz,
    ended_at timestamptz,
    PRIMARY KEY (job_id, number)
);
