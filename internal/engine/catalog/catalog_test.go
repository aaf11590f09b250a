package catalog

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/group"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func openCatalog(t *testing.T, database string) *Catalog {
	t.Helper()
	c, err := Open(t.Context(), database, func(Delta) {})
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// filled has a space, a topic, a group, a replay and a job.
func filled(t *testing.T) (c *Catalog, name, database string, ch *Channel, g *Group, r *Job) {
	name, database = testdb.New(t)
	c = openCatalog(t, database)
	ctx := t.Context()
	require.NoError(t, c.NewSpace(ctx, &Space{Name: "coldchain"}, nil))
	ch = &Channel{SpaceID: c.View().Spaces["coldchain"].ID, Name: "readings", Kind: KindTopic, Channel: setting.Channel{Partitions: 2, Replicas: 1, RetainMS: 1, RetainBytes: 1, MaxBody: 1}}
	require.NoError(t, c.NewChannel(ctx, ch, [][]uint64{{7}, {7}}, nil))
	g = &Group{ChannelID: ch.ID, Name: "compliance"}
	require.NoError(t, c.NewGroup(ctx, g, []int64{5, 5}, nil))
	r = &Job{Kind: "replay", Who: "w", Address: "s", Spec: json.RawMessage("{}"), Rate: 1}
	require.NoError(t, c.NewJob(ctx, r, nil, nil))
	return c, name, database, c.View().Channels["coldchain/readings"], g, r
}

// statements is every use of the database by name.
func statements(c *Catalog, ch *Channel, g *Group, r *Job) map[string]func(ctx context.Context) error {
	entry := &Entry{Who: "w", Action: "a", Address: "b"}
	skip := func(_ any, err error) error { return err }
	move := func() *Job { return &Job{Kind: "move", Address: "a", Who: "w", Spec: json.RawMessage("{}")} }
	return map[string]func(ctx context.Context) error{
		"NewSpace": func(ctx context.Context) error { return c.NewSpace(ctx, &Space{Name: "s-" + uuid.NewString()}, entry) },
		"SetSpace": func(ctx context.Context) error {
			s := c.View().Spaces["coldchain"]
			return c.SetSpace(ctx, s, s, entry)
		},
		"RemoveSpace": func(ctx context.Context) error { return c.RemoveSpace(ctx, 1<<40, entry) },
		"NewChannel": func(ctx context.Context) error {
			n := *ch
			n.Name = uuid.NewString()
			return c.NewChannel(ctx, &n, nil, entry)
		},
		"SetChannel": func(ctx context.Context) error {
			n := *c.View().Channels["coldchain/readings"]
			return c.SetChannel(ctx, &n, 2, nil, nil, entry)
		},
		"MarkRemoved": func(ctx context.Context) error { return c.MarkRemoved(ctx, 1, true, entry) },
		"Forget":      func(ctx context.Context) error { return c.Forget(ctx, 1, time.Now()) },
		"NewGroup": func(ctx context.Context) error {
			return c.NewGroup(ctx, &Group{ChannelID: ch.ID, Name: uuid.NewString()}, nil, entry)
		},
		"SetGroup":    func(ctx context.Context) error { return c.SetGroup(ctx, g, g, entry) },
		"RemoveGroup": func(ctx context.Context) error { return c.RemoveGroup(ctx, 1<<40, entry) },
		"TakeOver":    func(ctx context.Context) error { return skip(c.TakeOver(ctx, g.ID)) },
		"Commits": func(ctx context.Context) error {
			return skip(c.Commits(ctx, []Commit{{Group: g.ID, Epoch: 0, Offset: 6}}))
		},
		"TakeJob": func(ctx context.Context) error { return skip(c.TakeJob(ctx, r.ID)) },
		"SetJob":  func(ctx context.Context) error { return c.SetJob(ctx, r.ID, job.Running, job.Running, 2, entry) },
		"Job":     func(ctx context.Context) error { return skip(c.Job(ctx, r.ID)) },
		"NewJob":  func(ctx context.Context) error { return c.NewJob(ctx, move(), entry, nil) },
		"Jobs":    func(ctx context.Context) error { return skip(c.Jobs(ctx, 5, "move", "replay")) },
		"Note":    func(ctx context.Context) error { return c.Note(ctx, entry) },
		"NewSecret": func(ctx context.Context) error {
			return skip(c.NewSecret(ctx, Secret{Principal: Owner, Kind: Token}, 0, entry))
		},
		"DropSecret":   func(ctx context.Context) error { return skip(c.DropSecret(ctx, Link, "x")) },
		"LookUp":       func(ctx context.Context) error { _, _, err := c.LookUp(ctx, Session, "x"); return err },
		"Secrets":      func(ctx context.Context) error { return skip(c.Secrets(ctx)) },
		"Seen":         func(ctx context.Context) error { return c.Seen(ctx, 1) },
		"SeenSince":    func(ctx context.Context) error { return skip(c.SeenSince(ctx, time.Hour)) },
		"NotRunning":   func(ctx context.Context) error { return c.NotRunning(ctx, 1) },
		"SetNodeState": func(ctx context.Context) error { return c.SetNodeState(ctx, 1, NodeMember, entry) },
		"SetCluster":   func(ctx context.Context) error { return c.SetCluster(ctx, setting.Cluster{}, entry) },
		"Register": func(ctx context.Context) error {
			return c.Register(ctx, &Node{Directory: uuid.NewString(), Name: uuid.NewString()}, time.Second)
		},
		"AddLagSamples": func(ctx context.Context) error {
			return c.AddLagSamples(ctx, time.Now(), time.Second, []LagSample{{Group: g.ID, Lag: []int64{1}, AgeMS: []int64{1}}})
		},
		"ThinLagSamples": func(ctx context.Context) error { return c.ThinLagSamples(ctx, time.Now()) },
		"LagHistory": func(ctx context.Context) error {
			return skip(c.LagHistory(ctx, g.ID, time.Now().Add(-time.Hour), time.Now(), 5))
		},
		"Claim": func(ctx context.Context) error {
			release, ok, err := c.Claim(ctx, "apply")
			if ok {
				release()
			}
			return err
		},
		"Expired": func(ctx context.Context) error { return skip(c.Expired(ctx)) },
		"Reload":  func(ctx context.Context) error { return c.Reload(ctx) },
		"CatchUp": func(ctx context.Context) error { return c.CatchUp(ctx) },
		"Tidy":    func(ctx context.Context) error { return c.Tidy(ctx) },
	}
}

func TestEveryStatementSaysWhyItFails(t *testing.T) {
	c, name, _, ch, g, r := filled(t)
	all := statements(c, ch, g, r)
	for what, f := range all {
		assert.NoError(t, f(t.Context()), what)
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	for what, f := range all {
		err := f(gone)
		assert.ErrorIs(t, err, context.Canceled, what)
		assert.NotErrorIs(t, err, ErrAway, "%s: its caller went, not the database", what)
	}
	assert.Zero(t, c.AwaySince())
	testdb.Exec(t, testdb.URL(), "ALTER DATABASE "+name+" ALLOW_CONNECTIONS false",
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '"+name+"'")
	for what, f := range all {
		assert.ErrorIs(t, f(t.Context()), ErrAway, what)
	}
	assert.NotZero(t, c.AwaySince())
	testdb.Exec(t, testdb.URL(), "ALTER DATABASE "+name+" ALLOW_CONNECTIONS true")
	require.Eventually(t, func() bool { return c.refresh(t.Context()) == nil && c.AwaySince().IsZero() }, 10*time.Second, 50*time.Millisecond)
}

func TestErrorsAreToldApart(t *testing.T) {
	coded := func(code string) error { return fmt.Errorf("x: %w", &pgconn.PgError{Code: code}) }
	for _, c := range []struct {
		err  error
		want error // nil: as it is
	}{
		{coded("23505"), ErrExists}, {coded("23503"), ErrNotFound}, {coded("22021"), ErrText}, {coded("22P05"), ErrText}, {coded("40001"), ErrStale}, {coded("40P01"), ErrStale},
		{coded("57014"), ErrAway}, {coded("57P01"), ErrAway}, {coded("53300"), ErrAway}, {coded("08006"), ErrAway}, {coded("25006"), ErrAway},
		{coded("42703"), nil}, {coded("23514"), nil}, {coded("22003"), nil},
		{sql.ErrNoRows, ErrNotFound}, {sql.ErrConnDone, ErrAway}, {io.ErrUnexpectedEOF, ErrAway}, {context.DeadlineExceeded, ErrAway},
		{context.Canceled, nil}, {ErrNameTaken, nil}, {ErrFenced, nil}, {group.ErrOver, nil}, {errors.New("nobody expected this"), nil},
	} {
		got := classify(c.err)
		if c.want == nil {
			assert.Equal(t, c.err, got)
			assert.NotErrorIs(t, got, ErrAway)
			continue
		}
		assert.ErrorIs(t, got, c.want, "%v", c.err)
		if c.want != ErrNotFound || c.err != sql.ErrNoRows {
			assert.ErrorIs(t, got, c.err, "what the database said stays with it")
		}
	}
}

func TestWhatIsThereTwiceGoneOrUnspeakableIsNoReasonToCallTheDatabaseAway(t *testing.T) {
	c, _, _, ch, g, _ := filled(t)
	ctx := t.Context()
	assert.ErrorIs(t, c.NewSpace(ctx, &Space{Name: "coldchain"}, nil), ErrExists)
	again := *ch
	assert.ErrorIs(t, c.NewChannel(ctx, &again, nil, nil), ErrExists)
	assert.ErrorIs(t, c.NewGroup(ctx, &Group{ChannelID: 1, Name: "x"}, nil, nil), ErrNotFound)
	assert.ErrorIs(t, c.NewGroup(ctx, &Group{ChannelID: ch.ID, Name: g.Name}, nil, nil), ErrExists)
	assert.ErrorIs(t, c.NewSpace(ctx, &Space{Name: "x", Space: setting.Space{Description: "a\x00b"}}, nil), ErrText)
	_, err := c.Job(ctx, 1<<40)
	assert.ErrorIs(t, err, ErrNotFound)
	assert.Zero(t, c.AwaySince())
}

func TestTwoWhoChangeTheSameSettingsLoseNeither(t *testing.T) {
	c, _, database, ch, g, _ := filled(t)
	ctx := t.Context()
	other := openCatalog(t, database)
	one, two := *ch, *other.View().Channels["coldchain/readings"]
	one.Description, two.MaxBody = "one", 77
	require.NoError(t, c.SetChannel(ctx, &one, 2, nil, nil, nil))
	assert.ErrorIs(t, other.SetChannel(ctx, &two, 2, nil, nil, nil), ErrStale)
	require.NoError(t, other.Reload(ctx))
	two = *other.View().Channels["coldchain/readings"]
	two.MaxBody = 77
	require.NoError(t, other.SetChannel(ctx, &two, 2, nil, nil, nil))
	require.NoError(t, c.Reload(ctx))
	assert.Equal(t, "one", c.View().Channels["coldchain/readings"].Description)
	assert.EqualValues(t, 77, c.View().Channels["coldchain/readings"].MaxBody)
	changed := *g
	changed.Paused = true
	require.NoError(t, c.SetGroup(ctx, g, &changed, nil))
	assert.ErrorIs(t, c.SetGroup(ctx, g, &changed, nil), ErrStale)
}

func TestAnOlderCommitThatComesLaterMovesNothing(t *testing.T) {
	c, _, _, _, g, _ := filled(t)
	ctx := t.Context()
	for _, offset := range []int64{20, 15, 5} {
		refused, err := c.Commits(ctx, []Commit{{Group: g.ID, Partition: 0, Offset: offset}})
		require.NoError(t, err)
		assert.Empty(t, refused)
	}
	from, err := c.TakeOver(ctx, g.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 20, from.Offsets[0])
	refused, err := c.Commits(ctx, []Commit{{Group: g.ID, Epoch: from.Epoch - 1, Partition: 0, Offset: 30}})
	require.NoError(t, err)
	assert.True(t, refused[g.ID], "another node coordinates it now")
}

func TestOnlyTheNodeThatRunsAJobWritesItsProgress(t *testing.T) {
	c, _, _, _, _, r := filled(t)
	ctx := t.Context()
	first, err := c.TakeJob(ctx, r.ID)
	require.NoError(t, err)
	first.Done = 10
	require.NoError(t, c.SaveJob(ctx, first))
	second, err := c.TakeJob(ctx, r.ID)
	require.NoError(t, err)
	assert.EqualValues(t, 10, second.Done)
	first.Done = 99
	assert.ErrorIs(t, c.SaveJob(ctx, first), ErrFenced)
	require.NoError(t, c.SaveJob(ctx, second))
}

func TestWhoLostTheDutiesChangesNothing(t *testing.T) {
	_, _, database, _, _, _ := filled(t)
	a, b := openCatalog(t, database), openCatalog(t, database)
	var mu sync.Mutex
	var old context.Context
	run, stop := context.WithCancel(t.Context())
	defer stop()
	hold := func(ctx context.Context) {
		mu.Lock()
		if old == nil {
			old = context.WithoutCancel(ctx)
		}
		mu.Unlock()
		<-ctx.Done()
	}
	var wg sync.WaitGroup
	wg.Go(func() { a.WhileOnDuty(run, hold) })
	wg.Go(func() { b.WhileOnDuty(run, hold) })
	defer wg.Wait()
	defer stop()
	held := func() bool { mu.Lock(); defer mu.Unlock(); return old != nil }
	require.Eventually(t, held, 10*time.Second, 10*time.Millisecond)
	require.NoError(t, a.SetCluster(old, setting.Cluster{SpreadLeaders: false}, nil))
	// The database lets go of the first one before that one knows.
	testdb.Exec(t, database, `SELECT pg_terminate_backend(pid) FROM pg_locks WHERE locktype = 'advisory' AND granted AND database = (SELECT oid FROM pg_database WHERE datname = current_database())`)
	require.Eventually(t, func() bool { return errors.Is(a.SetCluster(old, setting.Cluster{SpreadLeaders: true}, nil), ErrFenced) }, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, a.SetCluster(t.Context(), setting.Cluster{SpreadLeaders: true}, nil), "a person may")
}

func TestIDsDoNotComeTwiceAfterARestore(t *testing.T) {
	c, _, _, ch, _, _ := filled(t)
	ids := map[int64]bool{ch.ID: true}
	for i := range 20 {
		n := *ch
		n.Name = fmt.Sprint("t", i)
		require.NoError(t, c.NewChannel(t.Context(), &n, nil, nil))
		assert.False(t, ids[n.ID])
		assert.Greater(t, n.ID, int64(1)<<32)
		ids[n.ID] = true
	}
	n := &Node{Directory: uuid.NewString(), Name: "node-a"}
	require.NoError(t, c.Register(t.Context(), n, time.Second))
	assert.Less(t, n.ID, uint64(1)<<40, "the generation of a replica is above it")
}
