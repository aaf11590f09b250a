-- +goose Up
ALTER TABLE secrets ADD COLUMN label text NOT NULL DEFAULT '';
