-- +goose Up
-- What is done in the name of somebody is done with no more than that which they came with: the
-- pass of whoever asked, which has the role and the pattern of a token that is for less than its principal; empty: all
-- that the principal may.
ALTER TABLE jobs ADD COLUMN scope text NOT NULL DEFAULT '';
ALTER TABLE chores ADD COLUMN set_scope text NOT NULL DEFAULT '';
