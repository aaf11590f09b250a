-- +goose Up
-- A route is a group that the service itself reads for. Its plans are in the logs
-- of the source's partitions; here is what is wished, as of version (microseconds
-- since 1970): it comes from the time, so that a wish made after older records were
-- restored is newer than any plan.
CREATE TABLE routes (
    group_id bigint PRIMARY KEY REFERENCES groups ON DELETE CASCADE,
    id uuid NOT NULL UNIQUE,
    source_id bigint NOT NULL,
    target_id bigint NOT NULL REFERENCES channels,
    settings jsonb NOT NULL,
    version bigint NOT NULL,
    begins jsonb NOT NULL
);
CREATE INDEX routes_by_target ON routes (target_id);

-- Routes that were removed, until all partitions of both ends know it.
CREATE TABLE ended_routes (
    id uuid PRIMARY KEY,
    source_id bigint NOT NULL,
    target_id bigint NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);

-- +goose StatementBegin
CREATE FUNCTION note_route() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' THEN
        INSERT INTO ended_routes (id, source_id, target_id) VALUES (OLD.id, OLD.source_id, OLD.target_id) ON CONFLICT DO NOTHING;
    END IF;
    INSERT INTO changed (tbl, key) VALUES ('groups', CASE WHEN TG_OP = 'DELETE' THEN OLD.group_id ELSE NEW.group_id END);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER note_route AFTER INSERT OR UPDATE OR DELETE ON routes FOR EACH ROW EXECUTE FUNCTION note_route();
