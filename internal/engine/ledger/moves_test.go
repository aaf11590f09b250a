package ledger_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/job"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/postgres/testdb"
)

// One job moves a partition at a time; another one can when the first has ended, and who lost a
// job to another node changes its steps no more.
func TestOneJobMovesAPartition(t *testing.T) {
	_, database := testdb.New(t)
	c, err := catalog.Open(t.Context(), database, func(catalog.Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	l, ctx := ledger.Of(c), t.Context()
	require.NoError(t, c.Exec(ctx, `INSERT INTO spaces (name) VALUES ('coldchain')`))
	require.NoError(t, c.Exec(ctx, `INSERT INTO channels (id, space_id, name, kind, settings) SELECT 9, id, 'readings', 'topic', '{}' FROM spaces`))
	begin := func() (*catalog.Job, error) {
		j := &catalog.Job{Kind: "move", Address: "coldchain/readings", Who: "owner", Spec: []byte("{}")}
		return j, c.NewJob(ctx, j, nil, ledger.NewStepsIn(j, []ledger.Step{{ChannelID: 9, Before: catalog.IDs{1}, After: catalog.IDs{2}}}))
	}
	first, err := begin()
	require.NoError(t, err)
	_, err = begin()
	var moving *ledger.MovingError
	require.ErrorAs(t, err, &moving)
	assert.Equal(t, &ledger.MovingError{ChannelID: 9}, moving)
	all, err := c.Jobs(ctx, 10)
	require.NoError(t, err)
	assert.Len(t, all, 1, "what could not be whole is not there")

	open, err := l.OpenSteps(ctx, 0)
	require.NoError(t, err)
	require.Len(t, open, 1)
	step := &open[0]
	require.True(t, step.Open())
	require.NoError(t, l.BeginStep(ctx, first, step, false))
	taken, err := c.TakeJob(ctx, first.ID)
	require.NoError(t, err)
	assert.ErrorIs(t, l.EndStep(ctx, first, step, job.Done), catalog.ErrFenced)
	require.NoError(t, l.EndStep(ctx, taken, step, job.Done))
	steps, err := l.Steps(ctx, first.ID)
	require.NoError(t, err)
	require.Len(t, steps, 1)
	assert.Equal(t, string(job.Done), steps[0].State)
	_, err = begin()
	assert.NoError(t, err)
}
