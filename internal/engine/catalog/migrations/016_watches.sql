-- +goose Up
-- What is watched. Without a space it is of the nodes.
CREATE TABLE watches (
    id bigint PRIMARY KEY,
    space_id bigint REFERENCES spaces,
    name text NOT NULL,
    settings jsonb NOT NULL,
    revision bigint NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX watches_by_name ON watches (coalesce(space_id, 0), name);
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON watches FOR EACH ROW EXECUTE FUNCTION note_change('id');

-- Spaces, and the nodes, that have got the watches which come by themselves.
ALTER TABLE spaces ADD COLUMN watched boolean NOT NULL DEFAULT false;
ALTER TABLE catalog_version ADD COLUMN watched boolean NOT NULL DEFAULT false;

-- What was done at a time, for those who ask what came before an incident.
CREATE INDEX logbook_by_time ON logbook (at);

-- What has a name in a space, channels, endpoints and watches, has it from one list.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION one_name() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NEW.space_id IS NULL OR TG_TABLE_NAME = 'channels' AND to_jsonb(NEW) ->> 'removed_at' IS NOT NULL THEN
        RETURN NEW;
    END IF;
    PERFORM pg_advisory_xact_lock(hashtextextended(NEW.space_id || '/' || NEW.name, 0));
    IF TG_TABLE_NAME <> 'channels' AND EXISTS (SELECT 1 FROM channels WHERE space_id = NEW.space_id AND name = NEW.name AND removed_at IS NULL) THEN
        RAISE unique_violation USING MESSAGE = 'a channel has the name';
    END IF;
    IF TG_TABLE_NAME <> 'endpoints' AND EXISTS (SELECT 1 FROM endpoints WHERE space_id = NEW.space_id AND name = NEW.name) THEN
        RAISE unique_violation USING MESSAGE = 'an endpoint has the name';
    END IF;
    IF TG_TABLE_NAME <> 'watches' AND EXISTS (SELECT 1 FROM watches WHERE space_id = NEW.space_id AND name = NEW.name) THEN
        RAISE unique_violation USING MESSAGE = 'a watch has the name';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER one_name BEFORE INSERT ON watches FOR EACH ROW EXECUTE FUNCTION one_name();

-- How each thing under a watch is, as the node on duty judged it.
CREATE TABLE watch_states (
    watch_id bigint NOT NULL REFERENCES watches ON DELETE CASCADE,
    kind text NOT NULL,
    thing_id bigint NOT NULL,
    state jsonb NOT NULL,
    incident uuid,
    PRIMARY KEY (watch_id, kind, thing_id)
);

-- A crossing of a watch's levels, with its story. It stays when the watch goes.
CREATE TABLE incidents (
    id uuid PRIMARY KEY,
    number bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    watch text NOT NULL,
    kind text NOT NULL,
    thing_id bigint NOT NULL,
    address text NOT NULL,
    source text NOT NULL,
    facts jsonb NOT NULL,
    level text NOT NULL,
    worst text NOT NULL,
    begun_at timestamptz NOT NULL,
    rang_at timestamptz NOT NULL,
    ended_at timestamptz,
    ended_as text NOT NULL DEFAULT '',
    peak double precision NOT NULL,
    peak_at timestamptz NOT NULL,
    last double precision NOT NULL,
    acknowledged_at timestamptz,
    acknowledged_by text NOT NULL DEFAULT '',
    silenced_until timestamptz,
    silenced_by text NOT NULL DEFAULT '',
    silenced_for text NOT NULL DEFAULT ''
);
CREATE INDEX incidents_open ON incidents (number) WHERE ended_at IS NULL;
CREATE INDEX incidents_by_address ON incidents (address, number);
CREATE INDEX incidents_by_watch ON incidents (watch, number);

CREATE TABLE incident_notes (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    incident uuid NOT NULL REFERENCES incidents ON DELETE CASCADE,
    at timestamptz NOT NULL,
    who text NOT NULL,
    what text NOT NULL,
    text text NOT NULL
);
CREATE INDEX incident_notes_of ON incident_notes (incident, id);
-- What the service notes is there once, also when it is recorded again.
CREATE UNIQUE INDEX incident_notes_once ON incident_notes (incident, at, what) WHERE who = '';
