package replica

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// recorder is a machine that remembers what it was told.
type recorder struct {
	mu      sync.Mutex
	applied []int64
	leads   int
}

func (m *recorder) Lead()                                               { m.leads++ }
func (m *recorder) Prepare(*Proposal, message.Stamp) (r Result, d bool) { return r, false }
func (m *recorder) Apply(r message.Record, _ bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.applied = append(m.applied, r.Stamp().Offset)
}
func (m *recorder) Save() []byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	return []byte(fmt.Sprint(len(m.applied)))
}
func (m *recorder) Load(b []byte) error {
	if len(b) == 0 {
		return nil
	}
	var n int
	_, err := fmt.Sscan(string(b), &n)
	m.applied = make([]int64, n)
	return err
}

func proposal(size int) *Proposal {
	var b message.Builder
	b.Add(&message.Message{Body: make([]byte, size)})
	batch := b.Build(message.Plain, nil)
	return &Proposal{Data: append(make([]byte, message.StampSize, message.StampSize+len(batch)), batch...), Count: 1}
}

func start(t *testing.T, dir string, groups int) (*Scheduler, []*Group, []*recorder) {
	t.Helper()
	store, err := journal.OpenStore(dir)
	require.NoError(t, err)
	s := NewScheduler(store, Alone{}, 2, DefaultFeedRate)
	opened := make([]*Group, groups)
	machines := make([]*recorder, groups)
	for i := range groups {
		machines[i] = &recorder{}
		require.NoError(t, s.Open(Options{Key: Key{Channel: 1, Partition: i}, Node: 1, Voters: []uint64{1}, Journal: journal.Options{SegmentBytes: 4 << 20}}, machines[i],
			func(g *Group) { opened[i] = g }))
	}
	return s, opened, machines
}

func TestEveryPublishIsAnsweredInOrderWithoutGaps(t *testing.T) {
	for _, size := range []int{10, 300_000} {
		t.Run(fmt.Sprint(size), func(t *testing.T) {
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			s, groups, machines := start(t, t.TempDir(), 6)
			var wg sync.WaitGroup
			const publishers, each = 8, 60
			for p := range publishers {
				wg.Go(func() {
					last := make([]int64, len(groups))
					for i := range each {
						g := (p + i) % len(groups)
						r := groups[g].Publish(ctx, proposal(size))
						if !assert.NoError(t, r.Err) {
							return
						}
						assert.GreaterOrEqual(t, r.Offset, last[g])
						assert.Less(t, r.Offset, groups[g].End(), "what is acknowledged is readable")
						last[g] = r.Offset + 1
					}
				})
			}
			wg.Wait()
			total := int64(0)
			for i, m := range machines {
				for offset, applied := range m.applied {
					require.Equal(t, int64(offset), applied)
				}
				total += groups[i].End()
			}
			assert.EqualValues(t, publishers*each, total)
			require.NoError(t, s.Stop(ctx))
		})
	}
}

func TestAGroupThatTakesLongDoesNotKeepTheOthersFromBeingSaved(t *testing.T) {
	dir := t.TempDir()
	s, groups, _ := start(t, dir, 40)
	for _, g := range groups {
		require.NoError(t, g.Publish(t.Context(), proposal(10)).Err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	begun := make(chan struct{})
	go groups[7].Do(context.WithoutCancel(ctx), func(*journal.Journal) error {
		close(begun)
		<-ctx.Done()
		return nil
	})
	<-begun
	err := s.Stop(ctx)
	assert.ErrorIs(t, err, context.DeadlineExceeded)
	assert.Equal(t, 1, strings.Count(err.Error(), context.DeadlineExceeded.Error()), "it alone has run out of time")
}
