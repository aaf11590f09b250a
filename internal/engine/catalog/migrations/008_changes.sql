-- +goose Up
-- What each version has changed, so that nodes read that alone. A row of
-- changed is written by whatever changes a row that nodes have copies of; the
-- version that it belongs to is known when its transaction ends.
CREATE TABLE commits (
    version bigint PRIMARY KEY,
    mark uuid NOT NULL,
    xid xid8 NOT NULL
);
CREATE INDEX commits_by_xid ON commits (xid);
CREATE TABLE changed (
    xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
    tbl text NOT NULL,
    key text NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX changed_by_xid ON changed (xid);
INSERT INTO commits (version, mark, xid) SELECT version, mark, pg_current_xact_id() FROM catalog_version;

-- +goose StatementBegin
CREATE FUNCTION note_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO changed (tbl, key) VALUES (TG_TABLE_NAME, to_jsonb(CASE WHEN TG_OP = 'DELETE' THEN OLD ELSE NEW END)->>TG_ARGV[0]);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON spaces FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON channels FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON placements FOR EACH ROW EXECUTE FUNCTION note_change('channel_id');
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON forgotten_channels FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_change AFTER INSERT OR UPDATE OR DELETE ON secrets FOR EACH ROW EXECUTE FUNCTION note_change('hash');
-- Those that change often for other reasons.
CREATE TRIGGER note_change AFTER INSERT OR DELETE ON nodes FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_update AFTER UPDATE OF name, zone, api_address, peer_address, state, started_at ON nodes FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_change AFTER INSERT OR DELETE ON groups FOR EACH ROW EXECUTE FUNCTION note_change('id');
CREATE TRIGGER note_update AFTER UPDATE OF name, description, paused, expire_ms ON groups FOR EACH ROW EXECUTE FUNCTION note_change('id');

-- What changes rows without raising the version itself, such as a person, has
-- it raised at its end, so that nodes follow that too.
-- +goose StatementBegin
CREATE FUNCTION note_commit() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF NOT EXISTS (SELECT 1 FROM commits WHERE xid = pg_current_xact_id()) THEN
        WITH head AS (UPDATE catalog_version SET version = version + 1, mark = gen_random_uuid() RETURNING version, mark)
        INSERT INTO commits (version, mark, xid) SELECT version, mark, pg_current_xact_id() FROM head
        ON CONFLICT (version) DO UPDATE SET mark = excluded.mark, xid = excluded.xid;
        PERFORM pg_notify('ferry_catalog', '');
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE CONSTRAINT TRIGGER note_commit AFTER INSERT ON changed DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION note_commit();
