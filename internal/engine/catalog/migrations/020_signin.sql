-- +goose Up
-- When a secret was used last, to a few minutes. That is no change that nodes hear of.
ALTER TABLE secrets ADD COLUMN used_at timestamptz;
DROP TRIGGER note_update ON secrets;
CREATE TRIGGER note_update AFTER UPDATE OF principal_id, kind, label, created_at, expires_at, role, pattern ON secrets FOR EACH ROW EXECUTE FUNCTION note_change('hash');

-- Programs on other machines that wait for somebody to let them in (RFC 8628), by the SHA-256 of
-- the code that they have. Who has let one in is known by the principal.
CREATE TABLE devices (
    hash bytea PRIMARY KEY,
    user_code text NOT NULL UNIQUE,
    name text NOT NULL,
    address text NOT NULL,
    expires_at timestamptz NOT NULL,
    polled_at timestamptz,
    principal text,
    role text NOT NULL DEFAULT '',
    pattern text NOT NULL DEFAULT '',
    denied boolean NOT NULL DEFAULT false
);
CREATE INDEX devices_by_end ON devices (expires_at);
