package scribe_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/scribe"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// told are the links that a topic has, in the order of their offsets.
func told(t *testing.T, n *nodetest.Node, topic *part.Channel) (all []logbook.Link) {
	t.Helper()
	s := look.Selection{Topic: topic, From: address.Position{Kind: address.First}, To: address.Position{Kind: address.End}, Limit: 10_000}
	err := n.Look.Browse(accesstest.Owner(t), s, func(e look.Event) error {
		if e.Message != nil {
			var l logbook.Link
			require.NoError(t, json.Unmarshal(e.Message.Body, &l))
			assert.Equal(t, l.Who, e.Message.Key)
			assert.Equal(t, 0, e.Message.Partition)
			all = append(all, l)
		}
		return nil
	})
	if err != nil {
		return nil // it has no leader yet
	}
	return all
}

// whole says that links follow each other without gaps, each once, and prove each other.
func whole(t *testing.T, all []logbook.Link) {
	t.Helper()
	for i := 1; i < len(all); i++ {
		require.Equal(t, all[i-1].Seq+1, all[i].Seq)
		former, err := hex.DecodeString(all[i-1].Hash)
		require.NoError(t, err)
		sum := sha256.Sum256(append(former, all[i].Chained...))
		require.Equal(t, all[i].Hash, hex.EncodeToString(sum[:]), "entry %d", all[i].Seq)
	}
}

func ends(t *testing.T, n *nodetest.Node) int64 {
	t.Helper()
	seq, err := catalog.One[int64](t.Context(), n.Catalog, `SELECT seq FROM logbook_ends`)
	require.NoError(t, err)
	return *seq
}

// come waits until a topic has the logbook as it is, and returns it.
func come(t *testing.T, n *nodetest.Node, topic *part.Channel) (all []logbook.Link) {
	t.Helper()
	require.Eventually(t, func() bool {
		all = told(t, n, topic)
		return len(all) > 0 && all[len(all)-1].Seq == ends(t, n)
	}, 20*time.Second, 50*time.Millisecond)
	whole(t, all)
	return all
}

func note(t *testing.T, n *nodetest.Node, from, count int) {
	t.Helper()
	for i := from; i < from+count; i++ {
		require.NoError(t, n.Catalog.Note(t.Context(), &catalog.Entry{Who: "owner", Action: "test", Address: fmt.Sprint("coldchain/", i), After: map[string]any{"n": i, "text": "ä  <b>\u2028"}}))
	}
}

func set(t *testing.T, n *nodetest.Node, to string) error {
	t.Helper()
	_, err := n.Cluster.Set(accesstest.Owner(t), "owner", setting.Change{"logbookTo": to}, false)
	return err
}

// From when it is set on, each entry is a message once, in order, whatever ends meanwhile.
func TestEachEntryIsAMessageOnce(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/record", nil)
	note(t, n, 0, 5)
	p, err := n.Cluster.Set(accesstest.Owner(t), "owner", setting.Change{"logbookTo": "coldchain/recrod"}, true)
	require.NoError(t, err)
	assert.Contains(t, p.Effects, "there is no topic coldchain/recrod: nothing goes there until there is")
	n.Channel(setting.Queue, "coldchain/boxes", nil)
	assert.ErrorContains(t, set(t, n, "coldchain/boxes"), "coldchain/boxes is a queue")
	require.NoError(t, set(t, n, "coldchain/record"))
	require.Eventually(t, func() bool { return sentTo(t, n, topic) > 0 }, 20*time.Second, 20*time.Millisecond, "it begins")
	began := ends(t, n)
	note(t, n, 5, 450)
	all := come(t, n, topic)
	assert.GreaterOrEqual(t, all[0].Seq, began-1, "and not before")
	assert.JSONEq(t, `{"n":454,"text":"ä  <b>\u2028"}`, string(all[len(all)-1].After))

	// What was sent and not noted is not sent twice.
	n.Exec(`UPDATE logbook_sent SET sent = began`)
	note(t, n, 455, 3)
	n.Reopen()
	reopened, err := n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	assert.Len(t, come(t, n, reopened), int(ends(t, n)-all[0].Seq+1))

	// Two nodes that both think it is theirs do no harm.
	other := scribe.New(n.Parts, n.Catalog)
	for range 2 {
		go other.Run(t.Context())
	}
	note(t, n, 458, 100)
	come(t, n, reopened)

	require.NoError(t, set(t, n, ""))
	last := len(told(t, n, reopened))
	note(t, n, 558, 3)
	time.Sleep(2500 * time.Millisecond)
	assert.Len(t, told(t, n, reopened), last, "it has ended")
}

func sentTo(t *testing.T, n *nodetest.Node, topic *part.Channel) int64 {
	rows, err := catalog.List[int64](t.Context(), n.Catalog, `SELECT sent FROM logbook_sent WHERE channel_id = $1`, topic.Record().ID)
	require.NoError(t, err)
	if len(rows) == 0 {
		return 0
	}
	return rows[0]
}

// While the topic takes nothing, entries wait; where it has forgotten how far it came, it goes on
// there.
func TestEntriesWaitForTheirTopic(t *testing.T) {
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/record", nil)
	require.NoError(t, set(t, n, "coldchain/record"))
	require.Eventually(t, func() bool { return sentTo(t, n, topic) > 0 }, 20*time.Second, 20*time.Millisecond)
	note(t, n, 0, 3)
	come(t, n, topic)
	pause := func(on bool) {
		_, err := n.Manage.SetChannel(accesstest.Owner(t), "owner", topic.Address(), setting.Change{"paused": on}, nil, false)
		require.NoError(t, err)
	}
	pause(true)
	note(t, n, 3, 5)
	time.Sleep(1500 * time.Millisecond)
	before := told(t, n, topic)
	assert.Less(t, before[len(before)-1].Seq, ends(t, n))
	pause(false)
	come(t, n, topic)

	n.Exec(`UPDATE logbook_sent SET began = began - 1`) // as if it was another job
	note(t, n, 8, 3)
	come(t, n, topic)
}

// It takes to read all of the logbook, and to publish there, beside looking after the nodes.
func TestWhoHasTheLogbookSent(t *testing.T) {
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/record", nil)
	person := setting.Principal{Kind: setting.Person}
	keeper := &catalog.Role{Owned: catalog.Owned{Name: "keeper"}, Role: setting.Role{Verbs: []string{"nodes", "see-counts"}}}
	for name, c := range map[string]struct{ role, on, says string }{
		"vera": {"viewer", "*", "vera may not nodes nodes"},
		"kim":  {"keeper", "*", "kim may not logbook *"},
		"olga": {"operator", "*", ""},
	} {
		var made []*catalog.Role
		if c.role == "keeper" {
			made = append(made, keeper)
		}
		_, err := n.Cluster.Set(n.Somebody(name, person, c.role, c.on, made...), name, setting.Change{"logbookTo": "coldchain/record"}, true)
		if c.says == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.says, name)
		}
	}
}
