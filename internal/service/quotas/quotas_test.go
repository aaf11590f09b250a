package quotas_test

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/quotas"
)

func TestMain(m *testing.M) { testdb.Main(m) }

func bound(t *testing.T, n *nodetest.Node, settings setting.Change) {
	t.Helper()
	_, err := n.Manage.SetSpace(accesstest.Owner(t), "owner", "coldchain", settings, false)
	require.NoError(t, err)
}

func problemOf(t *testing.T, err error) *problem.Problem {
	t.Helper()
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	return p
}

func used(n *nodetest.Node, name string) form.Quota {
	for _, q := range n.Quotas.OfSpace(n.Catalog.View().Spaces["coldchain"]) {
		if q.Name == name {
			return q
		}
	}
	return form.Quota{}
}

func send(ctx context.Context, n *nodetest.Node, t *part.Channel, bytes int) error {
	_, err := n.Parts.PublishMessages(ctx, t, 0, []*message.Message{{Body: []byte(strings.Repeat("x", bytes))}})
	return err
}

// somebody is a machine that may publish and read everywhere, and has the bounds.
func somebody(n *nodetest.Node, name string, use setting.Use) context.Context {
	return n.Somebody(name, setting.Principal{Kind: setting.Machine, Use: use}, "operator", "*")
}

// However many make channels at once, a space gets no more than it may have.
func TestASpaceHasNoMoreThanItMay(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	bound(t, n, setting.Change{"mostChannels": 3, "mostPartitions": 5})
	var wg sync.WaitGroup
	var made, full atomic.Int64
	for i := range 8 {
		wg.Go(func() {
			a := address.Channel("coldchain", fmt.Sprintf("c%d", i))
			_, err := n.Manage.NewChannel(accesstest.Owner(t), "owner", setting.Topic, a, nil)
			var p *problem.Problem
			switch {
			case err == nil:
				made.Add(1)
			case errors.As(err, &p) && p.Kind == problem.NoRoom:
				full.Add(1)
				assert.Contains(t, p.Detail, "its space would have 4 channels, and may have 3")
			default:
				assert.NoError(t, err)
			}
		})
	}
	wg.Wait()
	assert.EqualValues(t, 3, made.Load())
	assert.EqualValues(t, 5, full.Load())
	all := n.Parts.ChannelsOf("coldchain")
	require.Len(t, all, 3)

	_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", all[0].Address(), setting.Change{"partitionCount": 4}, nil, false)
	assert.Contains(t, problemOf(t, err).Detail, "6 partitions, and may have 5")
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", all[0].Address(), setting.Change{"partitionCount": 3}, nil, false)
	require.NoError(t, err)
	assert.Equal(t, form.Quota{Name: "mostPartitions", Used: 5, Most: 5}, used(n, "mostPartitions"))

	// What was removed comes back only while there is room for it.
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", all[1].Address(), false)
	require.NoError(t, err)
	other := n.Channel(setting.Queue, "coldchain/other", nil)
	err = n.Manage.RestoreChannel(accesstest.Owner(t), "owner", all[1].Address())
	assert.Equal(t, problem.NoRoom, problemOf(t, err).Kind)
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", other.Address(), false)
	require.NoError(t, err)
	require.NoError(t, n.Manage.RestoreChannel(accesstest.Owner(t), "owner", all[1].Address()))

	// A bound below what is there takes nothing away, and lets nothing in.
	bound(t, n, setting.Change{"mostChannels": 1})
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", all[0].Address(), setting.Change{"description": "as before"}, nil, false)
	require.NoError(t, err)
	assert.Equal(t, form.Quota{Name: "mostChannels", Used: 3, Most: 1}, used(n, "mostChannels"))
	bound(t, n, setting.Change{"mostChannels": 0, "mostPartitions": 0})
	n.Channel(setting.Topic, "coldchain/free", nil)
}

func TestWhatIsPublishedTooFastIsRefusedOrWaits(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	ctx := somebody(n, "build-42", setting.Use{})
	bound(t, n, setting.Change{"publishRate": int64(256 << 10)})
	require.NoError(t, send(ctx, n, topic, 600<<10), "it is let through whole")
	err := send(ctx, n, topic, 1)
	p := problemOf(t, err)
	assert.Equal(t, problem.TooFast, p.Kind)
	assert.Regexp(t, `^space coldchain is \d+(\.\d)?KiB ahead of the 256KiB a second that may be published$`, p.Detail)
	assert.Contains(t, p.Then, "ferry set coldchain -publish-rate")
	assert.Greater(t, p.After, 100*time.Millisecond)
	assert.Less(t, p.After, time.Second)
	end := topic.Partitions()[0].Replica().End()
	assert.EqualValues(t, 1, end, "what is refused is not kept")

	began := time.Now()
	require.NoError(t, send(quotas.Patient(ctx), n, topic, 1), "who is patient waits")
	assert.GreaterOrEqual(t, time.Since(began), p.After-50*time.Millisecond)
	require.NoError(t, send(quotas.Patient(ctx), n, topic, 2<<20))
	short, cancel := context.WithTimeout(quotas.Patient(ctx), 50*time.Millisecond)
	defer cancel()
	assert.Equal(t, problem.TooFast, problemOf(t, send(short, n, topic, 1)).Kind, "for as long as it has time")
	n.Quotas.Tend()
	q := used(n, "publishRate")
	assert.EqualValues(t, 256<<10, q.Most)
	assert.Greater(t, q.Used, 100_000.0)

	bound(t, n, setting.Change{"publishRate": int64(0)})
	assert.NoError(t, send(ctx, n, topic, 1), "without a bound nothing is owed")
	assert.Empty(t, used(n, "publishRate").Name)
}

func TestABoundOfOneIsNotOneOfOthers(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	bounded := somebody(n, "loud", setting.Use{PublishRate: 64 << 10, RequestRate: 2, MostStreams: 1})
	free := somebody(n, "calm", setting.Use{})
	require.NoError(t, send(bounded, n, topic, 1<<20))
	assert.Regexp(t, `^loud is .* ahead of the 64KiB a second that may be published$`, problemOf(t, send(bounded, n, topic, 1)).Detail)
	assert.NoError(t, send(free, n, topic, 1<<20))

	var err error
	allowed := 0
	for ; err == nil && allowed < 20; allowed++ {
		err = n.Quotas.Request(bounded, "coldchain", true)
	}
	assert.Contains(t, problemOf(t, err).Detail, "ahead of the 2 requests a second that may be made")
	assert.GreaterOrEqual(t, allowed, 4, "two seconds are saved up")
	require.NoError(t, n.Quotas.Request(free, "coldchain", true))

	leave, err := n.Quotas.Stream(bounded, "coldchain")
	require.NoError(t, err)
	_, err = n.Quotas.Stream(bounded, "")
	assert.Contains(t, problemOf(t, err).Detail, "loud has 1 streams open, and may have no more")
	other, err := n.Quotas.Stream(free, "coldchain")
	require.NoError(t, err)
	other()
	assert.EqualValues(t, 1, n.Quotas.OfPrincipal("loud")[2].Used)
	leave()
	_, err = n.Quotas.Stream(bounded, "")
	assert.NoError(t, err)
	assert.Empty(t, n.Quotas.OfPrincipal("calm"))
}

func TestWhoHasReadTooMuchWaits(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	ctx := somebody(n, "reader", setting.Use{})
	assert.False(t, n.Quotas.Reads(ctx, "coldchain"))
	bound(t, n, setting.Change{"readRate": int64(64 << 10)})
	assert.True(t, n.Quotas.Reads(ctx, "coldchain"))
	require.NoError(t, n.Quotas.Request(ctx, "coldchain", true))
	n.Quotas.Gave(ctx, "coldchain", 150<<10)
	assert.Contains(t, problemOf(t, n.Quotas.Request(ctx, "coldchain", true)).Detail, "that may be read")
	assert.NoError(t, n.Quotas.Request(ctx, "coldchain", false), "what gives no messages goes on")
	began := time.Now()
	require.NoError(t, n.Quotas.Pace(ctx, "coldchain"))
	assert.Greater(t, time.Since(began), 200*time.Millisecond)
	require.NoError(t, n.Quotas.Request(ctx, "coldchain", true))
	n.Quotas.Gave(ctx, "coldchain", 10<<20)
	short, cancel := context.WithTimeout(ctx, 20*time.Millisecond)
	defer cancel()
	assert.ErrorIs(t, n.Quotas.Pace(short, "coldchain"), context.DeadlineExceeded)
}

func TestASpaceThatIsFullTakesNothing(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"retainBytes": int64(64 << 20)})
	ctx := accesstest.Owner(t)
	bound(t, n, setting.Change{"mostKept": int64(2 << 20)})
	kept := 0
	var err error
	for ; err == nil && kept < 10; kept++ {
		err = send(ctx, n, topic, 512<<10)
	}
	p := problemOf(t, err)
	assert.Equal(t, problem.NoRoom, p.Kind)
	assert.Regexp(t, `^space coldchain keeps 1\.5MiB of 2MiB, and has no room for 512(\.\d)?KiB more$`, p.Detail)
	assert.EqualValues(t, 3, topic.Partitions()[0].Replica().End())
	n.Quotas.Tend()
	assert.Equal(t, problem.NoRoom, problemOf(t, send(ctx, n, topic, 512<<10)).Kind, "measured, as counted")
	require.NoError(t, send(ctx, n, topic, 1<<10), "what fits is taken")
	assert.InDelta(t, 1.5*(1<<20), used(n, "mostKept").Used, 8<<10)

	// What the rate refuses takes no room.
	bound(t, n, setting.Change{"publishRate": int64(64 << 10)})
	require.NoError(t, send(ctx, n, topic, 200<<10))
	for range 50 {
		require.Equal(t, problem.TooFast, problemOf(t, send(ctx, n, topic, 100<<10)).Kind)
	}
	bound(t, n, setting.Change{"publishRate": int64(0)})

	bound(t, n, setting.Change{"mostKept": int64(4 << 20)})
	require.NoError(t, send(ctx, n, topic, 512<<10), "more is allowed at once")
	_, err = n.Manage.RemoveChannel(ctx, "owner", topic.Address(), false)
	require.NoError(t, err)
	bound(t, n, setting.Change{"mostKept": int64(1 << 20)})
	n.Quotas.Tend()
	other := n.Channel(setting.Topic, "coldchain/other", nil)
	assert.NoError(t, send(ctx, n, other, 512<<10), "what was removed is kept no more")
}

// What three nodes let through together, whichever are asked, comes to what is allowed.
func TestNodesAllowTogetherWhatIsAllowed(t *testing.T) {
	t.Parallel()
	nodes := nodetest.Cluster(t, 3)
	topic := nodes[0].Channel(setting.Topic, "coldchain/readings", setting.Change{"replicas": 1})
	bound(t, nodes[0], setting.Change{"publishRate": int64(1 << 20)})
	var at [3]*part.Channel
	for i, n := range nodes {
		require.Eventually(t, func() bool {
			found, err := n.Parts.Channel(topic.Address())
			at[i] = found
			return err == nil && n.Catalog.View().Spaces["coldchain"].PublishRate > 0
		}, 10*time.Second, 10*time.Millisecond)
	}
	ctx, cancel := context.WithCancel(accesstest.Owner(t))
	defer cancel()
	var sent [3]atomic.Int64
	var wg sync.WaitGroup
	for i, n := range nodes {
		for range 1 + i { // the third is asked for more than the others
			wg.Go(func() {
				for ctx.Err() == nil {
					if send(ctx, n, at[i], 16<<10) == nil {
						sent[i].Add(16 << 10)
					} else {
						time.Sleep(5 * time.Millisecond)
					}
				}
			})
		}
	}
	sum := func() (all int64) {
		for i := range sent {
			all += sent[i].Load()
		}
		return all
	}
	time.Sleep(4 * time.Second) // until they have heard of each other
	var rates []float64
	for range 6 { // a machine that is busy otherwise has nodes hear late of each other, for a while
		before, began := sum(), time.Now()
		time.Sleep(4 * time.Second)
		rates = append(rates, float64(sum()-before)/time.Since(began).Seconds()/(1<<20))
		if last := rates[len(rates)-1]; last > 0.8 && last < 1.2 {
			break
		}
	}
	cancel()
	wg.Wait()
	assert.InEpsilon(t, 1, rates[len(rates)-1], 0.2, "MiB a second, of all nodes: %v", rates)
	for i := range sent {
		assert.NotZero(t, sent[i].Load(), "node %d", i)
	}
	assert.Eventually(t, func() bool { return used(nodes[0], "publishRate").Used > 0.5*(1<<20) }, 3*time.Second, 10*time.Millisecond, "each node tells what all let through")
}
