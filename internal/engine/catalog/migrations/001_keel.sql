-- +goose Up
CREATE TABLE catalog_version (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    version bigint NOT NULL
);
INSERT INTO catalog_version (version) VALUES (1);

CREATE TABLE spaces (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    description text NOT NULL DEFAULT '',
    labels jsonb NOT NULL DEFAULT '{}',
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE channels (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    space_id bigint NOT NULL REFERENCES spaces,
    name text NOT NULL,
    kind text NOT NULL CHECK (kind IN ('topic')),
    partitions int NOT NULL CHECK (partitions BETWEEN 1 AND 1000),
    retain_ms bigint NOT NULL,
    retain_bytes bigint NOT NULL,
    max_body bigint NOT NULL,
    id_window_ms bigint NOT NULL DEFAULT 0,
    paused boolean NOT NULL DEFAULT false,
    description text NOT NULL DEFAULT '',
    labels jsonb NOT NULL DEFAULT '{}',
    created_at timestamptz NOT NULL DEFAULT now(),
    removed_at timestamptz
);
CREATE UNIQUE INDEX channels_by_name ON channels (space_id, name) WHERE removed_at IS NULL;

CREATE TABLE principals (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    role text NOT NULL CHECK (role IN ('owner')),
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Secrets are kept as SHA-256 of 256 random bits.
CREATE TABLE secrets (
    hash bytea PRIMARY KEY,
    principal_id bigint NOT NULL REFERENCES principals,
    kind text NOT NULL CHECK (kind IN ('token', 'session', 'link')),
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz
);

CREATE TABLE logbook (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    who text NOT NULL,
    action text NOT NULL,
    address text NOT NULL,
    before jsonb,
    after jsonb
);
