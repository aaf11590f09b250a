-- +goose Up
-- What is done by itself, and when, which counts from a time on. Without a space it is of the
-- nodes.
CREATE TABLE chores (
    id bigint PRIMARY KEY,
    space_id bigint REFERENCES spaces,
    name text NOT NULL,
    settings jsonb NOT NULL,
    revision bigint NOT NULL DEFAULT 1,
    created_at timestamptz NOT NULL DEFAULT now(),
    since timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX chores_by_name ON chores (coalesce(space_id, 0), name);
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON chores FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER one_name BEFORE INSERT ON chores FOR EACH ROW EXECUTE FUNCTION one_name();

-- Up to when it is decided which times of a chore make a run, and the number of the last
-- incident that was looked at.
CREATE TABLE chore_states (
    chore_id bigint PRIMARY KEY REFERENCES chores ON DELETE CASCADE,
    reached timestamptz NOT NULL,
    incident bigint NOT NULL DEFAULT 0
);

-- A job that another one has made is there once, however often that begins to make it.
ALTER TABLE jobs ADD COLUMN parent bigint;
CREATE UNIQUE INDEX jobs_by_parent ON jobs (parent) WHERE parent IS NOT NULL;
CREATE INDEX jobs_by_address ON jobs (kind, address, id);
-- A chore has one run at a time.
CREATE UNIQUE INDEX jobs_one_run ON jobs (address) WHERE kind = 'run' AND ended_at IS NULL;

-- When things were set right by watches that keep them.
CREATE TABLE watch_corrections (
    watch_id bigint NOT NULL REFERENCES watches ON DELETE CASCADE,
    kind text NOT NULL,
    thing_id bigint NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX watch_corrections_of ON watch_corrections (watch_id, kind, thing_id, at);

-- What has a name in a space has it from one list.
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
    IF TG_TABLE_NAME <> 'chores' AND EXISTS (SELECT 1 FROM chores WHERE space_id = NEW.space_id AND name = NEW.name) THEN
        RAISE unique_violation USING MESSAGE = 'a chore has the name';
    END IF;
    RETURN NEW;
END $$;
-- +goose StatementEnd
