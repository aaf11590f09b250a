-- +goose Up
-- Local accounts of people: a password, as Argon2id in the PHC string format, and the secret of their
-- codes, sealed. Until somebody has accepted the invitation, which is kept as its SHA-256, there is no password.
CREATE TABLE accounts (
    principal_id bigint PRIMARY KEY REFERENCES principals ON DELETE CASCADE,
    invitation bytea UNIQUE,
    invited_until timestamptz,
    password text NOT NULL DEFAULT '',
    codes bytea NOT NULL,
    step bigint NOT NULL DEFAULT 0, -- of the last code that was taken: each is good once
    changed_at timestamptz NOT NULL DEFAULT now()
);
