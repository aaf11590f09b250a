-- +goose Up
-- When a secret was used last, to a few minutes. That is no change that nodes hear of.
ALTER TABLE secrets ADD COLUMN used_at timestamptz;
DROP TRIGGER note_update ON secrets;
CREATE TRIGGER note_update AFTER UPDATE OF principal_id, kind, label, created_at, expires_at, role, pattern ON secrets FOR EACH ROW EXECUTE FUNCTION note_change('hash');
