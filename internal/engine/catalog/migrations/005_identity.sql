-- +goose Up
-- Ids that name directories and members of partitions are chosen at random:
-- records that are restored from a backup give none of them out again.
ALTER TABLE channels ALTER COLUMN id DROP IDENTITY;
ALTER TABLE nodes ALTER COLUMN id DROP IDENTITY;
ALTER TABLE replays
    ADD COLUMN uid uuid NOT NULL DEFAULT gen_random_uuid(),
    ADD COLUMN fence bigint NOT NULL DEFAULT 0;

-- Raised by every change of a channel's settings, which name the one they were
-- made from.
ALTER TABLE channels ADD COLUMN revision bigint NOT NULL DEFAULT 1;

-- Another one at each change: a version whose mark is another than the one
-- that a node has seen belongs to records that went back.
ALTER TABLE catalog_version ADD COLUMN mark uuid NOT NULL DEFAULT gen_random_uuid();

-- Raised by each node that takes over the duties of the cluster: changes that
-- one before it still makes are refused.
ALTER TABLE catalog_version ADD COLUMN duty bigint NOT NULL DEFAULT 0;

-- Channels whose records were deleted for good. The logs of others that no
-- record knows are set aside.
CREATE TABLE forgotten_channels (
    id bigint PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now()
);

-- +goose StatementBegin
CREATE FUNCTION forget_channel() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO forgotten_channels (id) VALUES (OLD.id) ON CONFLICT DO NOTHING;
    RETURN OLD;
END $$;
-- +goose StatementEnd
CREATE TRIGGER forget_channel AFTER DELETE ON channels FOR EACH ROW EXECUTE FUNCTION forget_channel();
