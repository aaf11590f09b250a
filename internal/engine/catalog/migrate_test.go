package catalog

import (
	"io/fs"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/job"
	"steadyferry/internal/engine/postgres/testdb"
)

// Replays and the jobs that move replicas were records of two kinds with numbers
// of their own. As one kind, replays keep theirs, and steps stay with their jobs.
func TestReplaysAndMovesBecomeJobs(t *testing.T) {
	_, database := testdb.New(t)
	db, err := sqlx.Open("pgx", database)
	require.NoError(t, err)
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, files)
	require.NoError(t, err)
	_, err = steps.UpTo(t.Context(), 8)
	require.NoError(t, err)
	db.MustExec(`INSERT INTO spaces (name) VALUES ('coldchain');
		INSERT INTO channels (id, space_id, name, kind, settings) SELECT 9, id, 'readings', 'topic', '{}' FROM spaces;
		INSERT INTO replays (who, source, target, spec, rate, total, sent) VALUES ('owner', 'a/b', 'a/c', '{"to":"a/c"}', 5, 10, 4), ('owner', 'a/b', 'a/d', '{}', 5, 10, 10);
		UPDATE replays SET state = 'done', ended_at = now() WHERE id = 2;
		INSERT INTO jobs (kind, address, who) VALUES ('move', 'coldchain/readings#0', 'owner'), ('drain', 'node-a', 'owner');
		INSERT INTO job_steps (job_id, number, channel_id, partition, before, after) VALUES (1, 0, 9, 0, '[1]', '[2]'), (2, 0, 9, 0, '[2]', '[3]'), (2, 1, 9, 1, '[2]', '[3]')`)
	c := openCatalog(t, database)
	all, err := c.Jobs(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, all, 4)
	for i, wanted := range []Job{
		{ID: 4, Kind: "drain", Address: "node-a", State: job.Running}, {ID: 3, Kind: "move", Address: "coldchain/readings#0", State: job.Running},
		{ID: 2, Kind: "replay", Address: "a/b", State: job.Done, Done: 10}, {ID: 1, Kind: "replay", Address: "a/b", State: job.Running, Done: 4},
	} {
		assert.Equal(t, wanted, Job{ID: all[i].ID, Kind: all[i].Kind, Address: all[i].Address, State: all[i].State, Done: all[i].Done})
	}
	assert.JSONEq(t, `{"to":"a/c"}`, string(all[3].Spec))
	open, err := List[int64](t.Context(), c, `SELECT job_id FROM job_steps WHERE state IN ('waiting', 'moving') ORDER BY job_id`)
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 4}, open, "one job moves a partition at a time: the first")
	next := &Job{Kind: "move", Address: "a", Who: "owner", Spec: []byte("{}")}
	require.NoError(t, c.NewJob(t.Context(), next, nil, nil))
	assert.Greater(t, next.ID, int64(4))
}

// What was in the logbook before there was a chain is linked in its order, however much it is, and
// what comes then is linked to it.
func TestAnOldLogbookIsLinked(t *testing.T) {
	_, database := testdb.New(t)
	db, err := sqlx.Open("pgx", database)
	require.NoError(t, err)
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	require.NoError(t, err)
	steps, err := goose.NewProvider(goose.DialectPostgres, db.DB, files)
	require.NoError(t, err)
	_, err = steps.UpTo(t.Context(), 22)
	require.NoError(t, err)
	const old = 20_000
	db.MustExec(`INSERT INTO logbook (who, action, address, after) SELECT 'owner', 'set topic', 'coldchain/c' || i, CASE WHEN i % 2 = 0 THEN '{"retain": "1d"}'::jsonb END FROM generate_series(1, $1) i`, old)
	c := openCatalog(t, database)
	require.NoError(t, c.Note(t.Context(), &Entry{Who: "owner", Action: "set topic", Address: "coldchain/readings"}))
	wrong, err := One[int](t.Context(), c, `SELECT count(*) FROM (
		SELECT c.seq, c.hash, logbook_hash(lag(c.hash, 1, decode(repeat('00', 32), 'hex')) OVER (ORDER BY c.seq), c.seq, l) AS is, row_number() OVER (ORDER BY l.id) AS n
		FROM logbook l LEFT JOIN logbook_chain c ON c.entry = l.id) all_of_it WHERE seq IS DISTINCT FROM n OR hash IS DISTINCT FROM "is"`)
	require.NoError(t, err)
	assert.Zero(t, *wrong)
	ends, err := One[int](t.Context(), c, `SELECT seq FROM logbook_ends`)
	require.NoError(t, err)
	assert.Equal(t, old+1, *ends)
}
