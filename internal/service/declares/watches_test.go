package declares_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/node/nodetest"
)

// byHand is what is there, but for what came by itself and is as it came.
func byHand(n *nodetest.Node) []declare.Thing {
	return slices.DeleteFunc(n.Declares.There(everything), func(t declare.Thing) bool { return t.Itself })
}

// Watches are declared like all else; those that came by themselves stay as long as nobody
// says otherwise, and are written when they are not as they came.
func TestWatchesAreDeclared(t *testing.T) {
	n := nodetest.Open(t)
	require.Eventually(t, func() bool { return n.Catalog.View().Watches["nodes/disks"] != nil }, 10*time.Second, 10*time.Millisecond)
	assert.NotContains(t, declare.Write("northlight", n.Declares.There(everything), false)["coldchain.yaml"], "watches")

	mine := thing("watch", "coldchain/dead-inspections", map[string]any{"of": "coldchain/*", "value": "dead", "warn": "5", "alarm": "10"})
	space := thing("space", "coldchain", nil)
	disks := thing("watch", "nodes/disks", map[string]any{"warn": "20GiB"})
	p := apply(t, n, "northlight", "1", space, mine, disks)
	assert.Contains(t, what(p), "done create coldchain/dead-inspections")
	assert.Contains(t, what(p), "done set nodes/disks")
	assert.Empty(t, plan(t, n, "northlight", space, mine, disks).Changes)

	files := declare.Write("northlight", n.Declares.There(everything), false)
	assert.Contains(t, files["coldchain.yaml"], "watches:\n  dead-inspections:\n    of: \"coldchain/*\"")
	assert.NotContains(t, files["coldchain.yaml"], "old-work")
	assert.Contains(t, files["nodes.yaml"], "watches:\n  disks:\n")
	read, issues, err := declare.Read(inMemory(files), func(string) (string, bool) { return "", false })
	require.NoError(t, err)
	assert.Empty(t, issues)
	assert.Equal(t, len(byHand(n)), len(read.Things))

	for wanted, one := range map[string]form.Thing{
		"there is no value":    thing("watch", "coldchain/w", map[string]any{"of": "coldchain/*", "value": "deaf", "warn": "5"}),
		"it has no level":      thing("watch", "coldchain/w", map[string]any{"of": "coldchain/*", "value": "dead"}),
		"the watch is of":      thing("watch", "coldchain/w", map[string]any{"of": "depot/*", "value": "dead", "warn": "5"}),
		"and none is declared": thing("watch", "depot/w", map[string]any{"of": "depot/*", "value": "dead", "warn": "5"}),
	} {
		_, err := n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: []form.Thing{space, one}}, nobody)
		assert.ErrorContains(t, err, wanted)
	}

	// What is declared no longer goes, and what came by itself stays.
	_, err = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: []form.Thing{space}, Revision: "2", Remove: true}, nobody)
	require.NoError(t, err)
	_, err = n.Watches.Of(accesstest.Owner(t), address.Channel("coldchain", "dead-inspections"))
	assert.Error(t, err)
	_, err = n.Watches.Of(accesstest.Owner(t), address.Channel("coldchain", "old-work"))
	assert.NoError(t, err)
	_, err = n.Watches.Set(accesstest.Owner(t), "owner", address.Channel("coldchain", "old-work"), setting.Change{"warn": "20m"}, false)
	require.NoError(t, err)
	assert.Contains(t, declare.Write("northlight", n.Declares.There(everything), false)["coldchain.yaml"], "old-work")
}
