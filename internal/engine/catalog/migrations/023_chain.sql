-- +goose Up
-- Entries of the logbook form a chain: each link has the next number, and the SHA-256 of the link
-- before it and of all that its entry says (docs/formats.md). What is there is never changed, and
-- taken away only from the front, when it is old.
CREATE TABLE logbook_chain (
    seq bigint PRIMARY KEY,
    entry bigint NOT NULL UNIQUE,
    hash bytea NOT NULL
);

-- Where the chain ends, and where what is kept of it begins: the number of the last entry that
-- was taken away, and its hash.
CREATE TABLE logbook_ends (
    one boolean PRIMARY KEY DEFAULT true CHECK (one),
    seq bigint NOT NULL DEFAULT 0,
    hash bytea NOT NULL DEFAULT decode(repeat('00', 32), 'hex'),
    gone bigint NOT NULL DEFAULT 0,
    gone_hash bytea NOT NULL DEFAULT decode(repeat('00', 32), 'hex')
);
INSERT INTO logbook_ends DEFAULT VALUES;

-- Each field is its bytes in UTF-8 with how many they are before them, or - when there is none.
CREATE FUNCTION logbook_field(v text) RETURNS text LANGUAGE sql STABLE AS
$$ SELECT coalesce(octet_length(convert_to(v, 'UTF8')) || ':' || v, '-') $$;

CREATE FUNCTION logbook_hash(former bytea, seq bigint, l logbook) RETURNS bytea LANGUAGE sql STABLE AS
$$ SELECT sha256(former || convert_to(
    logbook_field(seq::text) || logbook_field(l.id::text) || logbook_field((extract(epoch FROM l.at) * 1000000)::bigint::text)
    || logbook_field(l.who) || logbook_field(l.action) || logbook_field(l.address) || logbook_field(l.outcome)
    || logbook_field(l.before::text) || logbook_field(l.after::text) || logbook_field(l.credential) || logbook_field(l.came_from), 'UTF8')) $$;

-- +goose StatementBegin
CREATE FUNCTION logbook_append(l logbook) RETURNS void LANGUAGE plpgsql AS $$
DECLARE s bigint; h bytea;
BEGIN
    SELECT seq + 1, hash INTO s, h FROM logbook_ends FOR UPDATE;
    h := logbook_hash(h, s, l);
    UPDATE logbook_ends SET seq = s, hash = h;
    INSERT INTO logbook_chain (seq, entry, hash) VALUES (s, l.id, h);
END $$;
-- +goose StatementEnd

-- +goose StatementBegin
-- Of those that are there the end is written once: a row that is changed again and again in one
-- transaction becomes slow.
DO $$
DECLARE l logbook; s bigint := 0; h bytea;
BEGIN
    SELECT hash INTO h FROM logbook_ends;
    FOR l IN SELECT * FROM logbook ORDER BY id LOOP
        s := s + 1;
        h := logbook_hash(h, s, l);
        INSERT INTO logbook_chain (seq, entry, hash) VALUES (s, l.id, h);
    END LOOP;
    UPDATE logbook_ends SET seq = s, hash = h;
END $$;
-- +goose StatementEnd

-- At the end of a transaction, behind all else that it waits for: whoever holds the end of the
-- chain waits for nothing more.
-- +goose StatementBegin
CREATE FUNCTION logbook_link() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM logbook_append(NEW);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE CONSTRAINT TRIGGER logbook_link AFTER INSERT ON logbook DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION logbook_link();

-- +goose StatementBegin
CREATE FUNCTION logbook_stays() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'DELETE' AND current_setting('ferry.forgets', true) = 'logbook' THEN
        RETURN OLD;
    END IF;
    RAISE EXCEPTION 'entries of the logbook are not changed, and not taken away before their time';
END $$;
-- +goose StatementEnd
CREATE TRIGGER logbook_stays BEFORE UPDATE OR DELETE ON logbook FOR EACH ROW EXECUTE FUNCTION logbook_stays();
CREATE TRIGGER logbook_stays_whole BEFORE TRUNCATE ON logbook FOR EACH STATEMENT EXECUTE FUNCTION logbook_stays();
CREATE TRIGGER logbook_stays BEFORE UPDATE OR DELETE ON logbook_chain FOR EACH ROW EXECUTE FUNCTION logbook_stays();
CREATE TRIGGER logbook_stays_whole BEFORE TRUNCATE ON logbook_chain FOR EACH STATEMENT EXECUTE FUNCTION logbook_stays();

-- Takes the oldest entries away that are from before a time, at most so many, and returns how
-- many those were.
-- +goose StatementBegin
CREATE FUNCTION logbook_forget(until timestamptz, most int) RETURNS int LANGUAGE plpgsql AS $$
DECLARE l record; n int := 0; last bigint; last_hash bytea;
BEGIN
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
