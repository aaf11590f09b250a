-- +goose Up
-- Fields of messages that are hidden from some roles.
CREATE TABLE masks (
    id bigint PRIMARY KEY,
    name text NOT NULL UNIQUE,
    settings jsonb NOT NULL,
    revision bigint NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON masks FOR EACH ROW EXECUTE FUNCTION note_change('id');
