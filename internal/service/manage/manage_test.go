package manage_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// logged are the actions in the logbook, the newest first.
func logged(t *testing.T, n *nodetest.Node) (actions []string) {
	t.Helper()
	rows, err := logbook.Entries(accesstest.Owner(t), n.Catalog, logbook.Asked{Limit: 50})
	require.NoError(t, err)
	for _, r := range rows {
		if r.Action != "new watches" { // which nodes get by themselves
			actions = append(actions, r.Action)
		}
	}
	return actions
}

func TestAChangeIsSaidFirstAndThenDone(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	for range 3 {
		n.Publish(topic, 0, strings.Repeat("x", 1000))
	}
	a := topic.Address()
	change := setting.Change{"partitionCount": 4, "maxBody": int64(100), "hold": []string{"nobody"}}
	said, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, change, nil, true)
	require.NoError(t, err)
	assert.Equal(t, 2, topic.Record().Partitions, "a preview does nothing")
	assert.Equal(t, 4, said.After["partitionCount"])
	assert.Equal(t, 2, said.Before["partitionCount"])
	text := strings.Join(said.Effects, "; ")
	for _, wanted := range []string{"partitions 2 to 3 are added", "bodies over 100B are refused", "there is no group nobody yet"} {
		assert.Contains(t, text, wanted)
	}
	done, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, change, nil, false)
	require.NoError(t, err)
	assert.Equal(t, said.Effects, done.Effects)
	assert.Len(t, topic.Partitions(), 4)
	assert.Equal(t, "set topic", logged(t, n)[0])
	nothing, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, setting.Change{"partitionCount": 4}, nil, true)
	require.NoError(t, err)
	assert.Empty(t, nothing.After)
	for wanted, c := range map[string]setting.Change{"cannot become fewer": {"partitionCount": 1}, "which has no attemptLimit": {"attemptLimit": 3}, "1 to 1 now": {"replicas": 3}} {
		_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, c, nil, true)
		assert.ErrorContains(t, err, wanted)
	}
}

// Two who change the same channel lose neither; one who names the revision that
// it looked at hears what was changed since.
func TestChangesFromARevision(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	a := topic.Address()
	var both sync.WaitGroup
	for i := range 8 {
		both.Go(func() {
			_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, setting.Change{"labels": map[string]string{string(rune('a' + i)): "x"}}, nil, false)
			assert.NoError(t, err)
		})
	}
	both.Wait()
	assert.Len(t, topic.Record().Labels, 8)
	assert.EqualValues(t, 9, topic.Record().Revision)
	old := int64(8)
	_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", a, setting.Change{"description": "x"}, &old, false)
	var p *problem.Problem
	require.ErrorAs(t, err, &p)
	assert.Equal(t, problem.Conflict, p.Kind)
	assert.Contains(t, p.Detail, "is at revision 9, and the change was made from revision 8; set topic by owner")
	now := int64(9)
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", a, setting.Change{"description": "x"}, &now, false)
	require.NoError(t, err)
}

func TestWhatIsRemovedComesBackUntilItIsGone(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Publish(topic, 0, "kept")
	a := topic.Address()
	said, err := n.Manage.RemoveChannel(accesstest.Owner(t), "owner", a, true)
	require.NoError(t, err)
	assert.EqualValues(t, 1, said.Messages)
	assert.Contains(t, said.Effects[0], "ferry remove coldchain/readings -undo brings all back until")
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	_, err = n.Parts.Channel(a)
	assert.Error(t, err)
	n.Manage.Purge(accesstest.Owner(t), time.Now()) // its way back is open
	require.NoError(t, n.Manage.RestoreChannel(accesstest.Owner(t), "owner", a))
	topic, err = n.Parts.Channel(a)
	require.NoError(t, err)
	n.Parts.WaitReady(accesstest.Owner(t), topic)
	p, err := topic.Partition(0)
	require.NoError(t, err)
	one, err := logs.Message(accesstest.Owner(t), n.Parts, p, 0, false)
	require.NoError(t, err)
	assert.Equal(t, "kept", string(one.Body))

	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	n.Channel(setting.Queue, "coldchain/readings", nil)
	assert.ErrorContains(t, n.Manage.RestoreChannel(accesstest.Owner(t), "owner", a), "the name was used again")
	n.Manage.Purge(accesstest.Owner(t), time.Now().Add(2*time.Hour))
	assert.Empty(t, n.Catalog.View().Removed)
	_, err = n.Manage.RemoveChannel(accesstest.Owner(t), "owner", a, false)
	require.NoError(t, err)
	n.Manage.Purge(accesstest.Owner(t), time.Now().Add(2*time.Hour))
	assert.ErrorContains(t, n.Manage.RestoreChannel(accesstest.Owner(t), "owner", a), "no removed channel coldchain/readings is kept")
}

func TestSpaces(t *testing.T) {
	n := nodetest.Open(t)
	ctx := accesstest.Owner(t)
	assert.ErrorContains(t, n.Manage.NewSpace(ctx, "owner", "coldchain", nil), "exists already")
	assert.ErrorContains(t, n.Manage.NewSpace(ctx, "owner", "Cold Chain", nil), "a-z 0-9")
	_, err := n.Manage.SetSpace(ctx, "owner", "coldchain", setting.Change{"description": "boxes", "labels": map[string]string{"team": "logistics"}}, false)
	require.NoError(t, err)
	s, err := n.Parts.Space("coldchain")
	require.NoError(t, err)
	assert.Equal(t, "boxes", s.Description)
	assert.Equal(t, "logistics", s.Labels["team"])
	n.Channel(setting.Topic, "coldchain/readings", nil)
	assert.ErrorContains(t, n.Manage.RemoveSpace(ctx, "owner", "coldchain"), "still has 1 channel, the first is coldchain/readings")
	_, err = n.Manage.RemoveChannel(ctx, "owner", address.Channel("coldchain", "readings"), false)
	require.NoError(t, err)
	require.NoError(t, n.Manage.RemoveSpace(ctx, "owner", "coldchain"))
	_, err = n.Manage.NewChannel(ctx, "owner", setting.Topic, address.Channel("coldchain", "x"), nil)
	assert.ErrorContains(t, err, "make it first with: ferry new space coldchain")
}

func TestWhatATopicWillHold(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	n.Publish(topic, part.AnyPartition, "x")
	f := n.Manage.Forecast(accesstest.Owner(t), topic, time.Now())
	assert.GreaterOrEqual(t, f.MessagesPerSecond, 0.0)
	assert.NotEmpty(t, f.LimitedBy)
}
