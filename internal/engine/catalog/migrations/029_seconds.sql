-- +goose Up
-- What was asked for that takes a second person, as it was asked over HTTP, until somebody confirms or
-- declines it. What came of it is kept for some days; the body is let go of then.
CREATE TABLE seconds (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash bytea NOT NULL, -- of who asked for what: the same again is no second one
    who text NOT NULL,
    pass text NOT NULL,
    came_from text NOT NULL,
    verb text NOT NULL,
    address text NOT NULL,
    says text NOT NULL,
    method text NOT NULL,
    target text NOT NULL,
    body bytea,
    asked_at timestamptz NOT NULL DEFAULT now(),
    until timestamptz NOT NULL,
    state text NOT NULL DEFAULT 'waiting',
    decided_by text NOT NULL DEFAULT '',
    decided_at timestamptz,
    outcome text NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX seconds_waiting ON seconds (hash) WHERE state = 'waiting';
CREATE INDEX seconds_by_time ON seconds (asked_at);
