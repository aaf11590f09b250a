-- +goose Up
-- What is set on a space lies together, as that of channels does: a new setting takes no column.
ALTER TABLE spaces ADD COLUMN settings jsonb NOT NULL DEFAULT '{}';
UPDATE spaces SET settings = jsonb_build_object('description', description, 'labels', labels);
ALTER TABLE spaces DROP COLUMN description, DROP COLUMN labels;
