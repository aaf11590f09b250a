-- +goose Up
-- What was refused is asked for often, and is little of all.
CREATE INDEX logbook_refused ON logbook (id) WHERE outcome = 'refused';
CREATE OR REPLACE VIEW logbook_told AS
SELECT l.id, l.at, l.who, l.action, l.address, CASE WHEN l.outcome = 'announced' THEN coalesce(f.outcome, 'unknown') ELSE l.outcome END AS outcome,
    l.before, CASE WHEN f.id IS NULL THEN l.after ELSE l.after || (f.after - 'confirms') END AS after, l.credential, l.came_from, l.outcome AS said
FROM logbook l LEFT JOIN logbook f ON l.outcome = 'announced' AND f.after ? 'confirms' AND (f.after ->> 'confirms')::bigint = l.id
WHERE NOT coalesce(l.after ? 'confirms', false);

-- Whoever writes entries need not own them. Where the administrator of the database has made a role
-- that is named as the one that writes, with _logbook behind it, and has granted it that with the right to give it
-- up, the tables of the logbook and what links its entries become that role's, and the role that writes gives it up: from
-- then on it can write and read entries, and have old ones go, and nothing else. True: they are apart. A later change
-- of these tables takes the role to be granted again.
-- +goose StatementBegin
CREATE FUNCTION logbook_apart() RETURNS boolean LANGUAGE plpgsql AS $$
DECLARE
    writer text := current_user;
    keeper text := current_user || '_logbook';
    place text := current_schema();
    one text;
BEGIN
    PERFORM pg_advisory_xact_lock(hashtext('logbook_apart')); -- of several nodes one hands them over
    IF (SELECT tableowner <> writer FROM pg_tables WHERE schemaname = place AND tablename = 'logbook') THEN
        RETURN true;
    END IF;
    IF NOT EXISTS (SELECT FROM pg_auth_members m JOIN pg_roles k ON k.oid = m.roleid JOIN pg_roles w ON w.oid = m.member
        WHERE k.rolname = keeper AND w.rolname = writer AND m.admin_option) THEN
        RETURN false;
    END IF;
    -- The new owner has to be allowed to have something there, and the writer to go on making what is its own.
    EXECUTE format('GRANT USAGE, CREATE ON SCHEMA %I TO %I', place, keeper);
    EXECUTE format('GRANT USAGE, CREATE ON SCHEMA %I TO %I', place, writer);
    FOREACH one IN ARRAY ARRAY['logbook', 'logbook_chain', 'logbook_ends'] LOOP
        EXECUTE format('ALTER TABLE %I.%I OWNER TO %I', place, one, keeper);
        EXECUTE format('GRANT SELECT ON %I.%I TO %I', place, one, writer);
    END LOOP;
    EXECUTE format('GRANT INSERT ON %I.logbook TO %I', place, writer);
    EXECUTE format('GRANT SELECT ON SEQUENCE %s TO %I', pg_get_serial_sequence(format('%I.logbook', place), 'id'), writer); -- pg_dump reads it
    EXECUTE format('ALTER FUNCTION logbook_link() SECURITY DEFINER SET search_path = pg_catalog, %I, pg_temp', place);
    EXECUTE format('ALTER FUNCTION logbook_forget(timestamptz, int) SECURITY DEFINER SET search_path = pg_catalog, %I, pg_temp', place);
    REVOKE EXECUTE ON FUNCTION logbook_append(logbook) FROM PUBLIC;
    FOREACH one IN ARRAY ARRAY['logbook_field(text)', 'logbook_hash(bytea, bigint, logbook)', 'logbook_append(logbook)', 'logbook_link()', 'logbook_stays()', 'logbook_forget(timestamptz, int)'] LOOP
        EXECUTE format('ALTER FUNCTION %s OWNER TO %I', one, keeper);
    END LOOP;
    EXECUTE format('REVOKE %I FROM %I', keeper, writer);
    RETURN true;
END $$;
-- +goose StatementEnd

-- Where the logbook is apart, not even all that is old goes at once by the writer's word: what is
-- younger than 30 days stays.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION logbook_forget(until timestamptz, most int) RETURNS int LANGUAGE plpgsql AS $$
DECLARE l record; n int := 0; last bigint; last_hash bytea;
BEGIN
    IF current_user <> session_user THEN
        until := least(until, now() - interval '30 days');
    END IF;
    PERFORM 1 FROM logbook_ends FOR UPDATE;
    PERFORM set_config('ferry.forgets', 'logbook', true);
    FOR l IN SELECT c.seq, c.entry, c.hash, e.at FROM logbook_chain c JOIN logbook e ON e.id = c.entry ORDER BY c.seq LIMIT most LOOP
        EXIT WHEN l.at >= until;
        DELETE FROM logbook WHERE id = l.entry;
        DELETE FROM logbook_chain WHERE seq = l.seq;
        last := l.seq;
        last_hash := l.hash;
        n := n + 1;
    END LOOP;
    IF n > 0 THEN
        UPDATE logbook_ends SET gone = last, gone_hash = last_hash;
    END IF;
    PERFORM set_config('ferry.forgets', '', true);
    RETURN n;
END $$;
-- +goose StatementEnd
