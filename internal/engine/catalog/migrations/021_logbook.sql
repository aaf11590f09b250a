-- +goose Up
-- With what whoever did something had come (a kind of secret and its id), from which address, and
-- what came of it.
ALTER TABLE logbook ADD COLUMN credential text NOT NULL DEFAULT '';
ALTER TABLE logbook ADD COLUMN came_from text NOT NULL DEFAULT '';
ALTER TABLE logbook ADD COLUMN outcome text NOT NULL DEFAULT 'done' CHECK (outcome IN ('done', 'refused'));
CREATE INDEX logbook_by_who ON logbook (who, id);
CREATE INDEX logbook_by_address ON logbook (address, id);
