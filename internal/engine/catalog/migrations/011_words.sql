-- +goose Up
-- Offsets are sought; replicas are moved.
ALTER TABLE group_moves RENAME TO seeks;
ALTER INDEX group_moves_by_group RENAME TO seeks_by_group;
-- A job that ended itself is halted.
ALTER TABLE jobs DROP CONSTRAINT jobs_state_check;
UPDATE jobs SET state = 'halted' WHERE state = 'stopped';
ALTER TABLE jobs ADD CONSTRAINT jobs_state_check CHECK (state IN ('running', 'paused', 'cancelling', 'done', 'cancelled', 'halted', 'failed'));
