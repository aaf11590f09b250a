-- +goose Up
-- What was measured lately, of all things together: a row a minute, and more when several
-- nodes measured parts of one.
CREATE TABLE sample_stretches (
    at timestamptz NOT NULL,
    id bigint NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (at, id)
);

-- What was measured of a thing, in steps of so many seconds, from a time on. Things that
-- are removed take theirs along when these are old.
CREATE TABLE sample_blocks (
    kind text NOT NULL,
    id bigint NOT NULL,
    step int NOT NULL,
    at timestamptz NOT NULL,
    data bytea NOT NULL,
    PRIMARY KEY (step, at, kind, id)
);
CREATE INDEX sample_blocks_of ON sample_blocks (kind, id, step, at);
ALTER TABLE sample_blocks ALTER COLUMN data SET STORAGE EXTERNAL;
ALTER TABLE sample_stretches ALTER COLUMN data SET STORAGE EXTERNAL;
