package watches_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/node/nodetest"
)

var paused = address.Channel("coldchain", "never-paused")

// kept is a node with a group that shall not be paused.
func kept(t *testing.T) (*nodetest.Node, address.Address) {
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	a, err := address.Parse("coldchain/readings@compliance")
	require.NoError(t, err)
	_, err = n.Groups.New(accesstest.Owner(t), "owner", a, address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	_, err = n.Watches.New(accesstest.Owner(t), "owner", paused, setting.Change{"of": "coldchain/*@*", "keep": map[string]string{"paused": "false"}, "for": time.Duration(0)})
	require.NoError(t, err)
	require.Eventually(t, n.Watches.Knows, 10*time.Second, 10*time.Millisecond)
	return n, a
}

func isPaused(n *nodetest.Node) bool {
	ch := n.Catalog.View().Channels["coldchain/readings"]
	return n.Catalog.View().Groups[ch.ID]["compliance"].Paused
}

func open(t *testing.T, n *nodetest.Node) []form.Incident {
	t.Helper()
	all, err := n.Watches.Incidents(accesstest.Owner(t), ledger.IncidentsAsked{Open: true, Watch: paused.String(), Limit: 10})
	require.NoError(t, err)
	return all
}

// What shall not be paused goes on by itself; who pauses it a fourth time within an hour means
// it, and an incident tells.
func TestWhatIsKeptIsSetRightAndThenTold(t *testing.T) {
	n, a := kept(t)
	pause := func(on bool) {
		_, err := n.Groups.Set(accesstest.Owner(t), "lana", a, setting.Change{"paused": on}, false)
		require.NoError(t, err)
	}
	look := func() { n.Samples.Measure(accesstest.Owner(t), time.Now()) }
	for range 3 {
		pause(true)
		require.Eventually(t, func() bool { look(); return !isPaused(n) }, 20*time.Second, 50*time.Millisecond)
		assert.Empty(t, open(t, n))
	}
	entries, err := logbook.Entries(accesstest.Owner(t), n.Catalog, logbook.Asked{Limit: 1})
	require.NoError(t, err)
	assert.Equal(t, "watch coldchain/never-paused, after lana", entries[0].Who)
	assert.Equal(t, "coldchain/readings@compliance", entries[0].Address)

	pause(true)
	require.Eventually(t, func() bool { look(); return len(open(t, n)) == 1 }, 20*time.Second, 50*time.Millisecond)
	assert.True(t, isPaused(n), "it is left as somebody wants it")
	i := open(t, n)[0]
	assert.Equal(t, "coldchain/readings@compliance: 1 setting is not as it shall be, and set right 3 times within an hour: somebody means it", i.Says)
	assert.Equal(t, "alarm", i.State)
	w, err := n.Watches.Of(accesstest.Owner(t), paused)
	require.NoError(t, err)
	shown, err := n.Watches.Show(accesstest.Owner(t), w)
	require.NoError(t, err)
	assert.Equal(t, "paused=false", shown.Keeps)
	assert.Equal(t, "alarm", shown.State)

	pause(false)
	require.Eventually(t, func() bool { look(); return len(open(t, n)) == 0 }, 20*time.Second, 50*time.Millisecond)
}

func TestWhatCannotBeKeptIsRefused(t *testing.T) {
	n, _ := kept(t)
	at := address.Channel("coldchain", "kept")
	for says, settings := range map[string]setting.Change{
		"no kind of thing can be set so": {"of": "coldchain/*", "keep": map[string]string{"colour": "red"}},
		"and keeps something":            {"of": "coldchain/*", "value": "dead", "keep": map[string]string{"paused": "false"}},
		"partitionCount":                 {"of": "coldchain/*", "keep": map[string]string{"partitionCount": "many"}},
		"the watch is of coldchain":      {"of": "depot/*", "keep": map[string]string{"paused": "false"}},
	} {
		_, err := n.Watches.New(accesstest.Owner(t), "owner", at, settings)
		assert.ErrorContains(t, err, says)
	}
	_, err := n.Watches.CheckedTrial(accesstest.Owner(t), paused, nil, time.Hour)
	assert.ErrorContains(t, err, "has no past to be tried on")
}
