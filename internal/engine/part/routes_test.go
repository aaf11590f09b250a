package part_test

import (
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
)

func batchOf(t *testing.T, bodies ...string) message.Batch {
	t.Helper()
	var b message.Builder
	for _, body := range bodies {
		b.Add(&message.Message{Body: []byte(body)})
	}
	batch, err := message.OpenBatch(b.Build(message.Plain, nil))
	require.NoError(t, err)
	return batch
}

// What a partition's log says of routes is the same after a restart: from the log,
// and from a checkpoint.
func TestPlansAndPlacesAreOfTheLog(t *testing.T) {
	for _, kind := range []string{setting.Topic, setting.Queue} {
		t.Run(kind, func(t *testing.T) {
			n := nodetest.Open(t)
			target := n.Channel(kind, "coldchain/inspections", nil).Partitions()[0]
			sent := &message.Route{ID: uuid.New(), Partition: 2, UpTo: route.Place{Cut: 1, Offset: 5}}
			source := route.Source{Route: sent.ID, Partition: 2}
			origin := func() route.NotBehind {
				told, err := n.Parts.OriginOf(accesstest.Owner(t), n.Parts.ByID(target.Channel.ID).Partitions()[0], source)
				require.NoError(t, err)
				return told
			}
			send := func(r *message.Route) *route.NotBehind {
				behind, err := n.Parts.AppendRouted(accesstest.Owner(t), n.Parts.ByID(target.Channel.ID).Partitions()[0], batchOf(t, "a", "b"), r)
				require.NoError(t, err)
				return behind
			}
			assert.Equal(t, route.NotBehind{}, origin())
			assert.Nil(t, send(sent))
			assert.Equal(t, &route.NotBehind{Origin: sent.UpTo}, send(sent), "twice")
			assert.Equal(t, sent.UpTo, origin().Origin)
			next := &message.Route{ID: sent.ID, Partition: 2, After: sent.UpTo, UpTo: route.Place{Cut: 2, Offset: 1}}
			assert.Nil(t, send(next))

			reader := n.Channel(setting.Topic, "coldchain/readings", nil)
			n.Publish(reader, 0, "x", "y")
			p := reader.Partitions()[0]
			step := func(s route.Step) route.Outcome {
				s.Route = sent.ID
				out, err := n.Parts.StepRoutes(accesstest.Owner(t), n.Parts.ByID(reader.ID).Partitions()[0], s)
				require.NoError(t, err)
				return out[0]
			}
			assert.Equal(t, route.Done, step(route.Step{Op: route.Make, Offset: route.AtEnd, Terms: route.Terms{Text: "all", Target: target.Channel.ID, Partitions: 1}}))
			assert.Equal(t, route.Known, step(route.Step{Op: route.Make}))
			plan, end, gone := p.Plan(sent.ID)
			assert.EqualValues(t, 2, end)
			assert.False(t, gone)
			assert.Equal(t, route.Place{Cut: 1, Offset: 2}, plan.Floor)
			for range 2 { // a start from the log, and one from the checkpoint of the stop before
				n.Reopen()
				require.Eventually(t, func() bool { return n.Parts.ByID(reader.ID) != nil && n.Parts.ByID(target.Channel.ID) != nil }, 10*time.Second, 10*time.Millisecond)
				again, _, _ := n.Parts.ByID(reader.ID).Partitions()[0].Plan(sent.ID)
				assert.Equal(t, plan, again)
				assert.Equal(t, next.UpTo, origin().Origin)
			}
			assert.EqualValues(t, 4, n.Parts.ByID(target.Channel.ID).Partitions()[0].Replica().End(), "each message once")

			require.Equal(t, route.Done, step(route.Step{Op: route.End}))
			_, err := n.Parts.StepRoutes(accesstest.Owner(t), n.Parts.ByID(target.Channel.ID).Partitions()[0], route.Step{Op: route.End, Route: sent.ID})
			require.NoError(t, err)
			_, _, gone = n.Parts.ByID(reader.ID).Partitions()[0].Plan(sent.ID)
			assert.True(t, gone)
			_, err = n.Parts.AppendRouted(accesstest.Owner(t), n.Parts.ByID(target.Channel.ID).Partitions()[0], batchOf(t, "c"), &message.Route{ID: sent.ID, Partition: 2, UpTo: route.Place{Cut: 9}})
			assert.ErrorIs(t, err, route.ErrEnded)
		})
	}
}

// Publishers cannot pass for a route.
func TestABatchOfARouteIsNotPublished(t *testing.T) {
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	data := batchOf(t, "a").AppendRouted(make([]byte, message.StampSize), &message.Route{ID: uuid.New(), UpTo: route.Place{Cut: 1, Offset: 1}})
	hold := n.Parts.Hold("someone")
	defer hold.Release()
	_, err := n.Parts.PublishBatch(accesstest.Owner(t), readings, part.AnyPartition, data, hold)
	assert.ErrorContains(t, err, "flags 4 and 8 are for jobs and routes")
}

// Nodes ask each other for places, and step plans of partitions that others lead.
func TestRoutesReachTheLeaderFromAnyNode(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	readings := nodes[0].Channel(setting.Topic, "coldchain/readings", setting.Change{"replicas": 1, "partitionCount": 2})
	id := uuid.New()
	for _, n := range nodes {
		require.Eventually(t, func() bool {
			return n.Parts.ByID(readings.ID) != nil && len(n.Parts.ByID(readings.ID).Partitions()) == 2
		}, 10*time.Second, 10*time.Millisecond)
	}
	for number := range 2 {
		at := route.Place{}
		for i, n := range nodes {
			p := n.Parts.ByID(readings.ID).Partitions()[number]
			next := route.Place{Cut: 1, Offset: int64(i + 1)}
			behind, err := n.Parts.AppendRouted(accesstest.Owner(t), p, batchOf(t, "x"), &message.Route{ID: id, After: at, UpTo: next})
			require.NoError(t, err)
			require.Nil(t, behind)
			at = next
			told, err := n.Parts.OriginOf(accesstest.Owner(t), p, route.Source{Route: id})
			require.NoError(t, err)
			assert.Equal(t, at, told.Origin)
			behind, err = n.Parts.AppendRouted(accesstest.Owner(t), p, batchOf(t, "x"), &message.Route{ID: id, UpTo: next})
			require.NoError(t, err)
			assert.Equal(t, &told, behind)
			out, err := n.Parts.StepRoutes(accesstest.Owner(t), p, route.Step{Op: route.Make, Route: id, Offset: 0})
			require.NoError(t, err)
			assert.Equal(t, []route.Outcome{[]route.Outcome{route.Done, route.Known}[i]}, out)
		}
	}
}
