-- +goose Up
-- How a channel is set is one value, whose parts the service knows.
ALTER TABLE channels ADD COLUMN settings jsonb;
UPDATE channels SET settings = jsonb_build_object(
    'partitions', partitions, 'replicas', replicas, 'retainMs', retain_ms, 'retainBytes', retain_bytes, 'maxBody', max_body,
    'idWindowMs', id_window_ms, 'paused', paused, 'description', description, 'hold', hold, 'holdBytes', hold_bytes, 'labels', labels, 'queue', queue);
ALTER TABLE channels
    ALTER COLUMN settings SET NOT NULL,
    DROP COLUMN partitions, DROP COLUMN replicas, DROP COLUMN retain_ms, DROP COLUMN retain_bytes, DROP COLUMN max_body, DROP COLUMN id_window_ms,
    DROP COLUMN paused, DROP COLUMN description, DROP COLUMN hold, DROP COLUMN hold_bytes, DROP COLUMN labels, DROP COLUMN queue;
