package routes_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/node/nodetest"
)

// Whoever sets a route and then publishes has the new settings hold for that, however
// soon it comes.
func TestSettingsHoldFromWhenTheyAreSet(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", nil)
	warm := n.Channel(setting.Topic, "coldchain/warm", nil)
	route(t, n, "coldchain/readings@warm", "end", setting.Change{"to": "coldchain/warm", "where": "body.celsius > 8.0"})
	n.Publish(readings, 0, celsius(9)...)
	arrive(t, n, warm, celsius(9)...)
	a, want := at(t, "coldchain/readings@warm"), []float64{9}
	for limit := 20.0; limit < 40; limit++ { // only what is at the limit comes
		_, err := n.Routes.Set(accesstest.Owner(t), "owner", a, setting.Change{"where": fmt.Sprintf("body.celsius == %.1f", limit)}, false)
		require.NoError(t, err)
		n.Publish(readings, 0, celsius(limit, limit-1, limit+1)...)
		want = append(want, limit)
	}
	arrive(t, n, warm, celsius(want...)...)
	p, err := n.Routes.Set(accesstest.Owner(t), "owner", a, setting.Change{"where": "body.celsius == 90.0"}, true)
	require.NoError(t, err)
	n.Publish(readings, 0, celsius(90, 39)...)
	assert.NotEmpty(t, p.After)
	arrive(t, n, warm, celsius(append(want, 39)...)...)
}
