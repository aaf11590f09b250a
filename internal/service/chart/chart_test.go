package chart_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/chart"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// depot is readings with a group, a route of them to inspections, and one to a place outside.
func depot(t *testing.T) *nodetest.Node {
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	n.DeadLetters(3)
	at := func(text string) address.Address {
		a, err := address.Parse(text)
		require.NoError(t, err)
		return a
	}
	_, err := n.Groups.New(accesstest.Owner(t), "owner", at("coldchain/readings@compliance"), address.Position{Kind: address.First}, nil)
	require.NoError(t, err)
	_, err = n.Endpoints.New(accesstest.Owner(t), "owner", at("coldchain/clinic-hook"), setting.Change{"url": "http://127.0.0.1:9/"}, nil)
	require.NoError(t, err)
	for name, to := range map[string]string{"warm": "coldchain/inspections", "hook": "coldchain/clinic-hook"} {
		_, err := n.Routes.New(accesstest.Owner(t), "owner", at("coldchain/readings@"+name), address.Position{Kind: address.End}, setting.Change{"to": to})
		require.NoError(t, err)
	}
	return n
}

func draw(t *testing.T, n *nodetest.Node, asked chart.Asked) *form.Chart {
	t.Helper()
	if asked.Most == 0 {
		asked.Most = 60
	}
	c, err := n.Charts.Draw(accesstest.Owner(t), asked)
	require.NoError(t, err)
	return c
}

func named(c *form.Chart, id string) *form.ChartThing {
	for i := range c.Things {
		if c.Things[i].ID == id {
			return &c.Things[i]
		}
	}
	return nil
}

func links(c *form.Chart) (all []string) {
	for _, l := range c.Links {
		all = append(all, l.From+" > "+l.To)
	}
	return all
}

func TestAChartHasAllThatHangsTogether(t *testing.T) {
	t.Parallel()
	n := depot(t)
	readings := n.Channel(setting.Topic, "coldchain/journeys", nil)
	n.Publishers.Of(readings.ID, "dispatch (owner)").Sent(5)
	c := draw(t, n, chart.Asked{Space: "coldchain"})
	assert.Equal(t, []string{"coldchain/readings > coldchain/readings@compliance", "coldchain/readings > coldchain/readings@hook", "coldchain/readings > coldchain/readings@warm",
		"coldchain/readings@hook > coldchain/clinic-hook", "coldchain/readings@warm > coldchain/inspections", "publisher:dispatch (owner) > coldchain/journeys"}, links(c))
	queue := named(c, "coldchain/inspections")
	require.NotNil(t, queue)
	assert.Equal(t, "dead", queue.State)
	assert.Equal(t, "0 messages wait, 3 dead letters", queue.Says)
	assert.Equal(t, "calm", queue.Level)
	assert.Equal(t, "endpoint", named(c, "coldchain/clinic-hook").Kind)

	near := draw(t, n, chart.Asked{Around: "coldchain/inspections", Steps: 1})
	assert.Len(t, near.Things, 2)
	_, err := n.Charts.Draw(accesstest.Owner(t), chart.Asked{Around: "coldchain/none", Most: 60})
	assert.ErrorContains(t, err, "coldchain/none is not on the chart")
	_, err = n.Charts.Draw(accesstest.Owner(t), chart.Asked{Space: "depot", Most: 60})
	assert.ErrorContains(t, err, "depot")
}

// What is out of order is marked with its incident, now and at a time that is past.
func TestTroubleIsMarkedWhenItWas(t *testing.T) {
	t.Parallel()
	n := depot(t)
	queue := n.Catalog.View().Channels["coldchain/inspections"]
	then := time.Now().Add(-2 * time.Hour).Truncate(10 * time.Second)
	values := make([]float64, len(sample.Channel.Values))
	values[sample.Channel.Place("dead")] = 41
	n.Samples.Put(accesstest.Owner(t), then, map[sample.Thing][]float64{{Kind: sample.Channel.Name, ID: queue.ID}: values})
	n.Exec(fmt.Sprintf(`INSERT INTO incidents (id, watch, kind, thing_id, address, source, facts, level, worst, begun_at, rang_at, ended_at, peak, peak_at, last)
		VALUES (gen_random_uuid(), 'coldchain/dead-letters', 'channel', %d, 'coldchain/inspections', 'coldchain/inspections', '{"value":"dead"}', 'calm', 'alarm', now() - interval '3 hours', now() - interval '3 hours', now() - interval '1 hour', 41, now() - interval '2 hours', 41)`, queue.ID))
	past := draw(t, n, chart.Asked{Space: "coldchain", At: then.Add(5 * time.Second)})
	assert.False(t, past.Now)
	was := named(past, "coldchain/inspections")
	assert.Equal(t, "alarm", was.Level)
	assert.Equal(t, "dead", was.State)
	assert.Contains(t, fmt.Sprint(was.Facts), "{dead 41}")
	assert.Equal(t, "calm", named(draw(t, n, chart.Asked{Space: "coldchain"}), "coldchain/inspections").Level, "it has ended since")
	assert.Equal(t, "calm", named(draw(t, n, chart.Asked{Space: "coldchain", At: time.Now().Add(-4 * time.Hour)}), "coldchain/inspections").Level, "it had not begun")
}
