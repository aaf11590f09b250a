-- +goose Up
-- Offsets are sought; replicas are moved.
ALTER TABLE group_moves RENAME TO seeks;
ALTER INDEX group_moves_by_group RENAME TO seeks_by_group;
