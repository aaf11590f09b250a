-- +goose Up
-- The topic that gets each entry of the logbook, and how far it has: the number of the link of the
-- chain after which that has begun, and of the last one that is there.
ALTER TABLE catalog_version ADD COLUMN logbook_to text NOT NULL DEFAULT '';
CREATE TABLE logbook_sent (
    channel_id bigint PRIMARY KEY REFERENCES channels ON DELETE CASCADE,
    began bigint NOT NULL,
    sent bigint NOT NULL
);
