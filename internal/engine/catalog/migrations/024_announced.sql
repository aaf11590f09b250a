-- +goose Up
-- What is done outside the database is announced before and confirmed after, by another entry: one
-- that is not confirmed has an outcome that nobody knows.
ALTER TABLE logbook DROP CONSTRAINT logbook_outcome_check;
ALTER TABLE logbook ADD CONSTRAINT logbook_outcome_check CHECK (outcome IN ('done', 'refused', 'announced', 'failed'));
CREATE INDEX logbook_confirms ON logbook (((after ->> 'confirms')::bigint)) WHERE after ? 'confirms';

-- The logbook as it is told: what was announced with what has become of it.
CREATE VIEW logbook_told AS
SELECT l.id, l.at, l.who, l.action, l.address, CASE WHEN l.outcome = 'announced' THEN coalesce(f.outcome, 'unknown') ELSE l.outcome END AS outcome,
    l.before, CASE WHEN f.id IS NULL THEN l.after ELSE l.after || (f.after - 'confirms') END AS after, l.credential, l.came_from
FROM logbook l LEFT JOIN logbook f ON l.outcome = 'announced' AND f.after ? 'confirms' AND (f.after ->> 'confirms')::bigint = l.id
WHERE NOT coalesce(l.after ? 'confirms', false);
