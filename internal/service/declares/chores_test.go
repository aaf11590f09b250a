package declares_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/node/nodetest"
)

// Chores are declared like all else, also with the endpoints that they tell.
func TestChoresAreDeclared(t *testing.T) {
	n := nodetest.Open(t)
	space := thing("space", "coldchain", nil)
	desk := thing("endpoint", "coldchain/desk", map[string]any{"url": "http://127.0.0.1:9/desk"})
	mine := thing("chore", "coldchain/nightly-return", map[string]any{"do": "return", "of": "coldchain/inspections", "at": "0 3 * * *", "zone": "Europe/Lisbon", "rate": 50.0, "tell": []any{"coldchain/desk"}})
	all := thing("chore", "nodes/weekly-verify", map[string]any{"do": "verify", "of": "coldchain/*", "at": "0 5 * * 7"})
	p := apply(t, n, "northlight", "1", space, desk, mine, all)
	assert.Contains(t, what(p), "done create coldchain/nightly-return")
	assert.Contains(t, what(p), "done create nodes/weekly-verify")
	assert.Empty(t, plan(t, n, "northlight", space, desk, mine, all).Changes)

	files := declare.Write("northlight", n.Declares.There(everything), false)
	assert.Contains(t, files["coldchain.yaml"], "chores:\n  nightly-return:\n    do: return")
	assert.Contains(t, files["nodes.yaml"], "chores:\n  weekly-verify:\n")
	read, issues, err := declare.Read(inMemory(files), func(string) (string, bool) { return "", false })
	require.NoError(t, err)
	assert.Empty(t, issues)
	assert.Equal(t, len(byHand(n)), len(read.Things))

	for wanted, one := range map[string]form.Thing{
		"needs why":              thing("chore", "coldchain/c", map[string]any{"do": "discard", "of": "coldchain/inspections", "every": "1h"}),
		"in 0 ways":              thing("chore", "coldchain/c", map[string]any{"do": "verify", "of": "coldchain/*"}),
		"the chore is of":        thing("chore", "coldchain/c", map[string]any{"do": "verify", "of": "depot/*", "every": "1h"}),
		"there is no endpoint":   thing("chore", "coldchain/c", map[string]any{"do": "verify", "of": "coldchain/*", "every": "1h", "tell": []any{"coldchain/office"}}),
		"exists as another kind": thing("watch", "coldchain/nightly-return", map[string]any{"of": "coldchain/*", "value": "dead", "warn": "5"}),
	} {
		_, err := n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: []form.Thing{space, one}}, nobody)
		assert.ErrorContains(t, err, wanted)
	}
	_, err = n.Declares.Apply(accesstest.Owner(t), "owner", "northlight", form.Declare{Things: []form.Thing{space}, Revision: "2", Remove: true}, nobody)
	require.NoError(t, err)
	_, err = n.Timetable.Of(accesstest.Owner(t), address.Channel("coldchain", "nightly-return"))
	assert.Error(t, err)
}
