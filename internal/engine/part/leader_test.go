package part_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/node/nodetest"
)

// What surely was not done is tried again; what may have been done only when
// twice is as good as once.
func TestWhatIsTriedAgainAtALeader(t *testing.T) {
	n := nodetest.Open(t)
	p := n.Channel(setting.Topic, "coldchain/readings", nil).Partitions()[0]
	sure := func() error { return &peer.NotDone{Reason: replica.ErrNotLeading, Sure: true} }
	unsure := func() error { return &peer.NotDone{Reason: replica.ErrTime} }
	refused := func() error { return problem.New(problem.Invalid, "it is wrong") }
	done := func() error { return nil }
	unknown := errors.New("not known to be done")
	for _, c := range []struct {
		name     string
		says     []func() error // of each try
		harmless bool
		tries    int
		want     error // nil: it is done
	}{
		{"done at once", []func() error{done}, false, 1, nil},
		{"surely not done, then done", []func() error{sure, sure, done}, false, 3, nil},
		{"refused", []func() error{refused}, true, 1, refused()},
		{"not sure", []func() error{unsure, done}, false, 1, unknown},
		{"not sure, and harmless", []func() error{unsure, unsure, done}, true, 3, nil},
		{"surely not done after not sure, and harmless", []func() error{unsure, sure, done}, true, 3, nil},
		{"surely not done, then not sure", []func() error{sure, unsure, done}, false, 2, unknown},
		{"too few answer", []func() error{func() error { return &peer.NotDone{Reason: replica.ErrNoMajority, Sure: true} }}, true, 1, &problem.Problem{Kind: problem.NoMajority}},
		{"the only disk has failed", []func() error{func() error { return &peer.NotDone{Reason: replica.ErrFailed, Sure: true} }}, true, 1, &problem.Problem{Kind: problem.Unavailable}},
	} {
		t.Run(c.name, func(t *testing.T) {
			tries := 0
			_, err := part.AtLeader(accesstest.Owner(t), n.Parts, p, part.LeaderCall[int]{
				Here:     func() (int, error) { tries++; return tries, c.says[tries-1]() },
				There:    func(uint64) (int, error) { t.Error("this node leads"); return 0, nil },
				Harmless: c.harmless,
				Unsure:   func() error { return unknown },
			})
			assert.Equal(t, c.tries, tries)
			var want, have *problem.Problem
			if errors.As(c.want, &want) && errors.As(err, &have) {
				assert.Equal(t, want.Kind, have.Kind)
				return
			}
			assert.Equal(t, c.want, err)
		})
	}

	// Nobody waits longer than he wants, and nobody longer than a while.
	for _, most := range []time.Duration{20 * time.Millisecond, time.Hour} {
		ctx, cancel := context.WithTimeout(accesstest.Owner(t), most)
		began := time.Now()
		_, err := part.AtLeader(ctx, n.Parts, p, part.LeaderCall[int]{Here: func() (int, error) { return 0, sure() }})
		cancel()
		var p *problem.Problem
		require.ErrorAs(t, err, &p)
		assert.Equal(t, problem.Unavailable, p.Kind)
		assert.Less(t, time.Since(began), 30*time.Second)
	}
}

// A channel that the records no longer know is set aside with its logs, and comes
// back with them when the records know it again.
func TestLogsWithoutARecordAreSetAside(t *testing.T) {
	n := nodetest.Open(t)
	kept := n.Channel(setting.Topic, "coldchain/kept", nil)
	lost := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	n.Publish(lost, 1, "a", "b")
	n.Publish(kept, 0, "x")
	n.Exec(`CREATE TABLE put_by AS SELECT * FROM channels WHERE name = 'readings'`, `CREATE TABLE placed_by AS SELECT p.* FROM placements p JOIN put_by ON channel_id = id`,
		`DELETE FROM channels WHERE name = 'readings'`, `DELETE FROM forgotten_channels`)
	require.NoError(t, n.Catalog.CatchUp(accesstest.Owner(t)))
	require.Eventually(t, func() bool {
		n.Parts.Shelf.Take(accesstest.Owner(t))
		return n.Parts.Shelf.Count() == 1
	}, 10*time.Second, 20*time.Millisecond)
	aside := n.Parts.Shelf.List()
	require.Len(t, aside, 1)
	assert.Equal(t, []any{"coldchain/readings", setting.Topic, []int{0, 1}}, []any{aside[0].Address, aside[0].Kind, aside[0].Partitions})
	assert.Positive(t, aside[0].Bytes)
	n.Parts.Shelf.Drop(aside[0].Until.Add(-time.Hour))
	assert.Equal(t, 1, n.Parts.Shelf.Count(), "it is kept for a month")

	n.Exec(`INSERT INTO channels OVERRIDING SYSTEM VALUE SELECT * FROM put_by`, `INSERT INTO placements SELECT * FROM placed_by`, `DELETE FROM forgotten_channels`)
	require.NoError(t, n.Catalog.CatchUp(accesstest.Owner(t)))
	var back *part.Channel
	require.Eventually(t, func() (ok bool) {
		var err error
		back, err = n.Parts.Named(lost.Address(), "coldchain/readings")
		return err == nil
	}, 10*time.Second, 20*time.Millisecond)
	n.Parts.WaitReady(accesstest.Owner(t), back)
	assert.Zero(t, n.Parts.Shelf.Count())
	receipts := n.Publish(back, 1, "c")
	assert.EqualValues(t, 2, receipts[0].Offset, "what was there is there")
}
