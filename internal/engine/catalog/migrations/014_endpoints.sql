-- +goose Up
-- A place outside, to which routes deliver. Secrets are sealed with a key that the
-- nodes have and the database does not.
CREATE TABLE endpoints (
    id bigint PRIMARY KEY,
    space_id bigint NOT NULL REFERENCES spaces,
    name text NOT NULL,
    settings jsonb NOT NULL,
    secrets bytea,
    revision bigint NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (space_id, name)
);
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON endpoints FOR EACH ROW EXECUTE FUNCTION note_change('id');

-- How endpoints do, as nodes tell each other; it changes often, and nobody has copies.
CREATE TABLE endpoint_health (
    endpoint_id bigint PRIMARY KEY REFERENCES endpoints ON DELETE CASCADE,
    health jsonb NOT NULL,
    next_try timestamptz,
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- Channels and endpoints of a space have their names from one list.
-- +goose StatementBegin
CREATE FUNCTION one_name() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(hashtextextended(NEW.space_id || '/' || NEW.name, 0));
    IF TG_TABLE_NAME = 'endpoints' THEN
        IF EXISTS (SELECT 1 FROM channels WHERE space_id = NEW.space_id AND name = NEW.name AND removed_at IS NULL) THEN
            RAISE unique_violation USING MESSAGE = 'a channel has the name';
        END IF;
    ELSIF NEW.removed_at IS NULL AND EXISTS (SELECT 1 FROM endpoints WHERE space_id = NEW.space_id AND name = NEW.name) THEN
        RAISE unique_violation USING MESSAGE = 'an endpoint has the name';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER one_name BEFORE INSERT OR UPDATE OF removed_at ON channels FOR EACH ROW EXECUTE FUNCTION one_name();
CREATE TRIGGER one_name BEFORE INSERT ON endpoints FOR EACH ROW EXECUTE FUNCTION one_name();

-- A route leads to a channel or to an endpoint.
ALTER TABLE routes ALTER COLUMN target_id DROP NOT NULL;
ALTER TABLE routes ADD COLUMN endpoint_id bigint REFERENCES endpoints;
ALTER TABLE routes ADD CHECK (num_nonnulls(target_id, endpoint_id) = 1);
CREATE INDEX routes_by_endpoint ON routes (endpoint_id) WHERE endpoint_id IS NOT NULL;
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION note_route() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        INSERT INTO ended_routes (id, source_id, target_id) VALUES (OLD.id, OLD.source_id, COALESCE(OLD.target_id, OLD.endpoint_id)) ON CONFLICT DO NOTHING;
    END IF;
    INSERT INTO changed (tbl, key) VALUES ('groups', CASE WHEN TG_OP = 'DELETE' THEN OLD.group_id ELSE NEW.group_id END);
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- What happened to endpoints and routes, for those who ask why one failed.
CREATE TABLE events (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    address text NOT NULL,
    what text NOT NULL,
    detail text NOT NULL
);
CREATE INDEX events_by_address ON events (address, id DESC);
CREATE INDEX events_by_time ON events (at);
