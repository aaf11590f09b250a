-- +goose Up
-- Sessions and links are looked up when they are used, so that a sign-in makes
-- no version. Nodes have copies of tokens, and of sessions that they have looked
-- up: of those they must hear when one ends before its time.
DROP TRIGGER note_change ON secrets;
CREATE TRIGGER note_insert AFTER INSERT ON secrets FOR EACH ROW WHEN (NEW.kind = 'token') EXECUTE FUNCTION note_change('hash');
CREATE TRIGGER note_update AFTER UPDATE ON secrets FOR EACH ROW EXECUTE FUNCTION note_change('hash');
CREATE TRIGGER note_delete AFTER DELETE ON secrets FOR EACH ROW
    WHEN (OLD.kind = 'token' OR OLD.kind = 'session' AND OLD.expires_at > now()) EXECUTE FUNCTION note_change('hash');
CREATE INDEX secrets_by_id ON secrets (left(encode(hash, 'hex'), 12));
CREATE INDEX secrets_by_principal ON secrets (principal_id, kind, created_at);
CREATE INDEX secrets_by_end ON secrets (expires_at);
