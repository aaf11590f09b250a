-- +goose Up
-- What declarations have set, and of which revision they were.
CREATE TABLE declared (
    kind text NOT NULL,
    address text NOT NULL,
    declaration text NOT NULL,
    revision text NOT NULL DEFAULT '',
    settings jsonb NOT NULL,
    who text NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (kind, address)
);
CREATE INDEX declared_by_address ON declared (address);
CREATE INDEX declared_by_name ON declared (declaration);
