package catalog

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
)

// whole is the view of all rows, at the version that a view shows.
func whole(t *testing.T, c *Catalog, at *View) *View {
	t.Helper()
	var v *View
	require.NoError(t, c.InTx(t.Context(), nil, func(ctx context.Context, tx *sqlx.Tx) error {
		var h head
		if err := tx.GetContext(ctx, &h, headQuery); err != nil {
			return err
		}
		require.Equal(t, at.Version, h.Version)
		var err error
		v, err = next(ctx, tx, &h, nil, nil)
		return err
	}))
	return v
}

// requireSame compares two views, whatever the order of what has none.
func requireSame(t *testing.T, wanted, have *View, message string) {
	t.Helper()
	a, b := *wanted, *have
	for _, v := range []*View{&a, &b} {
		v.Removed = append([]*Channel{}, v.Removed...)
		slices.SortFunc(v.Removed, func(a, b *Channel) int { return int(a.ID>>1) - int(b.ID>>1) })
	}
	require.Equal(t, a, b, message)
}

// Several who change the records at the same time, and others who follow by
// what has changed, show what a reader of all rows sees, also where they are so
// far behind that what changed is no longer known.
func TestFollowingShowsWhatAllRowsShow(t *testing.T) {
	_, database := testdb.New(t)
	var wholeLoads atomic.Int64
	open := func() *Catalog {
		c, err := Open(t.Context(), database, func(d Delta) {
			if d.All {
				wholeLoads.Add(1)
			}
		})
		require.NoError(t, err)
		t.Cleanup(c.Close)
		return c
	}
	all := []*Catalog{open(), open(), open()}
	require.NoError(t, all[0].NewSpace(t.Context(), &Space{Name: "coldchain"}, nil))
	for _, c := range all {
		require.NoError(t, c.CatchUp(t.Context()))
	}
	for round := range 12 {
		var writers sync.WaitGroup
		for w := range 2 {
			writers.Go(func() {
				rng := rand.New(rand.NewPCG(uint64(round), uint64(w)))
				c := all[w]
				for range 15 {
					changeSomething(t, c, rng)
				}
			})
		}
		writers.Wait()
		if round%4 == 3 { // what changed is no longer known to those who are behind
			testdb.Exec(t, database, `DELETE FROM commits WHERE version < (SELECT version FROM catalog_version) - 1`, `DELETE FROM changed d WHERE NOT EXISTS (SELECT 1 FROM commits c WHERE c.xid = d.xid)`)
		}
		for i, c := range all {
			require.NoError(t, c.CatchUp(t.Context()))
			requireSame(t, whole(t, c, c.View()), c.View(), fmt.Sprintf("round %d, catalog %d", round, i))
			require.Zero(t, c.wentBack.Load())
		}
	}
	assert.Less(t, wholeLoads.Load(), int64(20), "rows are read by what changed, not all of them")
}

// changeSomething makes one of all changes that views show.
func changeSomething(t *testing.T, c *Catalog, rng *rand.Rand) {
	ctx := t.Context()
	v := c.View()
	var channels []*Channel
	for _, ch := range v.Channels {
		channels = append(channels, ch)
	}
	slices.SortFunc(channels, func(a, b *Channel) int { return int(a.ID>>1) - int(b.ID>>1) })
	some := func() *Channel {
		if len(channels) == 0 {
			return nil
		}
		return channels[rng.IntN(len(channels))]
	}
	ch := some()
	var err error
	switch n := rng.IntN(12); {
	case n < 4 || ch == nil:
		made := &Channel{SpaceID: v.Spaces["coldchain"].ID, Name: uuid.NewString()[:8], Kind: KindTopic, Channel: setting.Channel{Partitions: 3}}
		err = c.NewChannel(ctx, made, [][]uint64{{7}, {8}, {9}}, nil)
	case n == 4:
		changed := *ch
		changed.Description = uuid.NewString()
		changed.Labels = map[string]string{"a": changed.Description}
		err = c.SetChannel(ctx, &changed, changed.Partitions, [][]uint64{{7}}, nil, nil)
	case n == 5:
		err = c.MarkRemoved(ctx, ch.ID, false, nil)
	case n == 6:
		for _, r := range v.Removed {
			if err = c.MarkRemoved(ctx, r.ID, true, nil); err == nil {
				break
			}
		}
	case n == 7:
		for _, r := range v.Removed {
			err = c.Forget(ctx, r.ID, time.Now().Add(time.Hour))
			break
		}
	case n == 8:
		err = c.NewGroup(ctx, &Group{ChannelID: ch.ID, Name: uuid.NewString()[:8]}, []int64{0, 0, 0}, nil)
	case n == 9:
		for _, g := range v.Groups[ch.ID] {
			changed := *g
			changed.Paused = !g.Paused
			if err = c.SetGroup(ctx, g, &changed, nil); err == nil && rng.IntN(2) == 0 {
				err = c.RemoveGroup(ctx, g.ID, nil)
			}
			break
		}
	case n == 10:
		err = c.NewSpace(ctx, &Space{Name: uuid.NewString()[:8], Space: setting.Space{Labels: map[string]string{"a": "b"}}}, nil)
	default:
		node := &Node{Directory: uuid.NewString(), Name: uuid.NewString()[:8]}
		if err = c.Register(ctx, node, time.Second); err == nil {
			err = c.SetNodeState(ctx, node.ID, NodeDraining, nil)
		}
		if err == nil {
			var text string
			if text, err = c.NewSecret(ctx, Secret{Principal: Owner, Kind: Session}, time.Hour, nil); err == nil && rng.IntN(2) == 0 {
				_, err = c.DropSecret(ctx, Session, text)
			}
		}
	}
	// Two who change the same thing may find it changed.
	if err != nil {
		assert.True(t, isExpected(err), "%v", err)
	}
}

func isExpected(err error) bool {
	for _, known := range []error{ErrStale, ErrExists, ErrNotFound} {
		if errors.Is(err, known) {
			return true
		}
	}
	return false
}

// Records that went back are noticed whichever way they did: to an older
// version, to another one of the same number, and to one that has gone on since
// and is newer than what is shown.
func TestRecordsThatWentBackAreNoticed(t *testing.T) {
	for name, restore := range map[string][]string{
		"older":           {`UPDATE catalog_version SET version = version - 1, mark = gen_random_uuid()`},
		"another":         {`UPDATE catalog_version SET mark = gen_random_uuid()`},
		"overtaken since": {`UPDATE commits SET mark = gen_random_uuid()`, `UPDATE catalog_version SET version = version + 5, mark = gen_random_uuid()`},
	} {
		t.Run(name, func(t *testing.T) {
			_, database := testdb.New(t)
			var deltas []Delta
			c, err := Open(t.Context(), database, func(d Delta) { deltas = append(deltas, d) })
			require.NoError(t, err)
			defer c.Close()
			require.NoError(t, c.NewSpace(t.Context(), &Space{Name: "coldchain"}, nil))
			require.NoError(t, c.NewSpace(t.Context(), &Space{Name: "kept"}, nil))
			seen := c.View().Version
			// The space goes without a word, as with a backup from before it.
			testdb.Exec(t, database, append([]string{`ALTER TABLE spaces DISABLE TRIGGER note_change`, `DELETE FROM spaces WHERE name = 'coldchain'`}, restore...)...)
			require.NoError(t, c.CatchUp(t.Context()))
			assert.Equal(t, seen, c.wentBack.Load())
			assert.Nil(t, c.View().Spaces["coldchain"], "what the records do not have is not shown")
			assert.NotNil(t, c.View().Spaces["kept"])
			requireSame(t, whole(t, c, c.View()), c.View(), "all rows")
			assert.True(t, deltas[len(deltas)-1].All)
			require.NoError(t, c.NewSpace(t.Context(), &Space{Name: "after"}, nil))
			assert.NotNil(t, c.View().Spaces["after"], "what is made then is there at once")
		})
	}
}

// A change tells which channels it is about, and nothing more.
func TestAChangeTellsWhatItIsAbout(t *testing.T) {
	_, database := testdb.New(t)
	var deltas []Delta
	c, err := Open(t.Context(), database, func(d Delta) { deltas = append(deltas, d) })
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.NewSpace(t.Context(), &Space{Name: "coldchain"}, nil))
	made := &Channel{SpaceID: c.View().Spaces["coldchain"].ID, Name: "readings", Kind: KindTopic, Channel: setting.Channel{Partitions: 1}}
	require.NoError(t, c.NewChannel(t.Context(), made, [][]uint64{{7}}, nil))
	before := c.View()
	require.NoError(t, c.NewGroup(t.Context(), &Group{ChannelID: made.ID, Name: "compliance"}, []int64{0}, nil))
	require.NoError(t, c.Register(t.Context(), &Node{Directory: uuid.NewString(), Name: "node-a"}, time.Second))
	require.NoError(t, c.MarkRemoved(t.Context(), made.ID, false, nil))
	assert.Equal(t, []Delta{{Channels: map[int64]bool{}}, {Channels: map[int64]bool{made.ID: true}}, {Channels: map[int64]bool{}}, {Channels: map[int64]bool{}, Nodes: true}, {Channels: map[int64]bool{made.ID: true}}}, deltas)
	assert.Empty(t, before.Groups, "a view is never changed once made")
	assert.NotNil(t, before.Channel(made.ID))
	assert.Nil(t, c.View().Channel(made.ID))
	seen := c.View()
	require.NoError(t, c.Seen(t.Context(), 1))
	require.NoError(t, c.CatchUp(t.Context()))
	assert.Same(t, seen, c.View(), "that a node was seen makes no version")
}

// BenchmarkNewChannel makes a channel beside others that stand about.
func BenchmarkNewChannel(b *testing.B) {
	for _, others := range []int{100, 10_000} {
		b.Run(fmt.Sprint(others), func(b *testing.B) {
			_, database := testdb.New(b)
			c, err := Open(b.Context(), database, func(Delta) {})
			require.NoError(b, err)
			defer c.Close()
			require.NoError(b, c.NewSpace(b.Context(), &Space{Name: "coldchain"}, nil))
			space := c.View().Spaces["coldchain"].ID
			settings := column(setting.Channel{Partitions: 1})
			testdb.Exec(b, database,
				fmt.Sprintf(`INSERT INTO channels (id, space_id, name, kind, settings) SELECT i, %d, 'c' || i, 'topic', '%s' FROM generate_series(1, %d) i`, space, settings, others),
				`INSERT INTO placements (channel_id, partition, began_with, replicas) SELECT id, 0, '[7]', '[7]' FROM channels`)
			require.NoError(b, c.Reload(b.Context()))
			for i := 0; b.Loop(); i++ {
				ch := &Channel{SpaceID: space, Name: fmt.Sprint("made", i), Kind: KindTopic, Channel: setting.Channel{Partitions: 1}}
				require.NoError(b, c.NewChannel(b.Context(), ch, [][]uint64{{7}}, nil))
			}
		})
	}
}

// What a person changes in the database is followed too, rows that go with
// others among them.
func TestChangesByHandAreFollowed(t *testing.T) {
	c, _, database, ch, _, _ := filled(t)
	before := c.View()
	testdb.Exec(t, database, `UPDATE spaces SET settings = settings || '{"description": "by hand"}'`)
	require.Eventually(t, func() bool { return c.View().Spaces["coldchain"].Description == "by hand" }, 4*time.Second, 5*time.Millisecond, "at a word, and not at the next look")
	assert.Equal(t, before.Version+1, c.View().Version)
	testdb.Exec(t, database, `DELETE FROM channels`)
	require.Eventually(t, func() bool { return c.View().Channel(ch.ID) == nil }, 4*time.Second, 5*time.Millisecond)
	requireSame(t, whole(t, c, c.View()), c.View(), "all rows")
	assert.Empty(t, c.View().GroupIDs)
	assert.True(t, c.View().Forgotten[ch.ID])
	assert.Zero(t, c.wentBack.Load())
}

// What changed long ago is let go of, and what nodes may still follow from
// stays.
func TestOldChangesAreTrimmed(t *testing.T) {
	_, database := testdb.New(t)
	c := openCatalog(t, database)
	require.NoError(t, c.NewSpace(t.Context(), &Space{Name: "coldchain"}, nil))
	last, err := One[string](t.Context(), c, `SELECT xid::text FROM commits ORDER BY version DESC LIMIT 1`)
	require.NoError(t, err)
	testdb.Exec(t, database,
		`INSERT INTO commits (version, mark, xid) VALUES (-20000, gen_random_uuid(), '7')`,
		`INSERT INTO changed (xid, tbl, key, at) VALUES ('7', 'spaces', '1', now() - interval '2 hours'), ('8', 'spaces', '2', now())`,
		`UPDATE changed SET at = now() - interval '2 hours' WHERE xid::text = '`+*last+`'`)
	require.NoError(t, c.Tidy(t.Context()))
	rows, err := List[string](t.Context(), c, `SELECT xid::text FROM changed`)
	require.NoError(t, err)
	assert.NotContains(t, rows, "7")
	assert.Contains(t, rows, "8", "its transaction may not have ended yet")
	assert.Contains(t, rows, *last, "what a version says it changed stays with it")
	old, err := List[int64](t.Context(), c, `SELECT version FROM commits WHERE version < 0`)
	require.NoError(t, err)
	assert.Empty(t, old)
}
