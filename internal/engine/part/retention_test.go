package part_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/node/nodetest"
)

// Retention takes what is too old or too much, whole segments at a time; what is
// said before is what goes, and a group that it waits for holds it back.
func TestRetentionTakesWhatItSaid(t *testing.T) {
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"retainBytes": int64(8 << 20)})
	p := readings.Partitions()[0]
	body := strings.Repeat("x", 64<<10)
	fill := func() {
		for range 3 {
			for range 64 {
				n.Publish(readings, 0, body)
			}
			require.NoError(t, p.Replica().Do(accesstest.Owner(t), (*journal.Journal).Roll))
		}
	}
	bounds := func() journal.Bounds { return p.Replica().Journal().Bounds() }
	fill()
	said := topic.LossOf(p.Replica().Journal(), readings.Retention())
	assert.InDelta(t, 64, said.Messages, 8, "12 MiB are there, in segments of half a MiB")
	assert.InDelta(t, 4<<20, said.Bytes, 1<<19)
	n.Parts.Retain(accesstest.Owner(t), time.Now())
	assert.Equal(t, said.Messages, bounds().First)
	assert.Zero(t, topic.LossOf(p.Replica().Journal(), readings.Retention()).Messages)
	n.Parts.Retain(accesstest.Owner(t), time.Now())
	assert.Equal(t, said.Messages, bounds().First, "once is enough")

	group := readings.Address()
	group.Group = "compliance"
	_, err := n.Groups.New(accesstest.Owner(t), "owner", group, address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", readings.Address(), setting.Change{"hold": []string{"compliance"}, "holdBytes": int64(24 << 20)}, nil, false)
	require.NoError(t, err)
	at := bounds().First
	fill()
	n.Parts.Retain(accesstest.Owner(t), time.Now())
	assert.Equal(t, at, bounds().First, "the group has not read it")
	fill()
	fill()
	n.Parts.Retain(accesstest.Owner(t), time.Now())
	assert.Greater(t, bounds().First, at, "it waits for so many bytes and no more")
	assert.Less(t, bounds().First, bounds().Next-5*64)

	// What is old goes too, also what is still written to.
	n.Parts.Retain(accesstest.Owner(t), time.Now().Add(1000*24*time.Hour))
	held := bounds().First
	_, err = n.Manage.SetChannel(accesstest.Owner(t), "owner", readings.Address(), setting.Change{"hold": []string{}}, nil, false)
	require.NoError(t, err)
	n.Publish(readings, 0, "the last one")
	n.Parts.Retain(accesstest.Owner(t), time.Now().Add(1000*24*time.Hour))
	assert.Greater(t, bounds().First, held)
	assert.Equal(t, bounds().Next, bounds().First)
}
