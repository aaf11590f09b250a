package routes_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/node/nodetest"
)

func TestARouteIsTriedOnThePast(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	readings := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"partitionCount": 2})
	warm := n.Channel(setting.Topic, "coldchain/warm", nil)
	n.Publish(readings, 0, celsius(3, 9, 12)...)
	n.Publish(readings, 1, `{"celsius":20,"box":"b"}`, `{"box":"c"}`, `{"celsius":"warm"}`)
	try := func(name string, settings setting.Change) *form.RouteTrial {
		t.Helper()
		out, err := n.Routes.Try(accesstest.Owner(t), readings.Address().Reader(name), from(t, "first"), settings)
		require.NoError(t, err)
		return out
	}
	tr := try("", setting.Change{"to": "coldchain/warm", "where": "body.celsius > 8.0", "edits": []string{"rename /box=/id"}})
	assert.EqualValues(t, []int64{6, 6, 1, 3, 2}, []int64{tr.Total, tr.LookedAt, tr.Sent, tr.LeftOut, tr.Failed})
	require.Len(t, tr.Failures, 1)
	assert.Equal(t, "edit-failed", tr.Failures[0].Reason)
	assert.EqualValues(t, 2, tr.Failures[0].Count)
	assert.Equal(t, "coldchain/readings#0:1", tr.Failures[0].Example)
	require.Len(t, tr.Samples, 3)
	assert.Contains(t, tr.Samples[0].Failed, "edit-failed")
	assert.JSONEq(t, `{"celsius":20,"id":"b"}`, string(tr.Samples[2].After.Body))
	assert.Len(t, tr.Others, 3)
	assert.EqualValues(t, 1, tr.Unlike, "a text is not compared with a number")
	sent := int64(0)
	for _, s := range tr.Steps {
		sent += s.Sent
	}
	assert.EqualValues(t, 1, sent)
	assert.Greater(t, tr.Peak, 0.0)
	assert.Nil(t, tr.Was)
	assert.Empty(t, messages(t, n, warm), "nothing is sent")

	// Another setting of a route that is there is compared with what it has.
	route(t, n, "coldchain/readings@warm", "end", setting.Change{"to": "coldchain/warm", "where": "body.celsius > 10.0"})
	was := try("warm", setting.Change{"where": "body.celsius < 15.0"}).Was
	require.NotNil(t, was)
	assert.EqualValues(t, []int64{2, 1, 2, 0}, []int64{was.Sent, was.OnlyWas, was.OnlyNow, was.Other})
	was = try("warm", setting.Change{"edits": []string{"set header.a=b"}}).Was
	assert.EqualValues(t, []int64{2, 0, 0, 2}, []int64{was.Sent, was.OnlyWas, was.OnlyNow, was.Other})
	require.Len(t, was.Samples, 2)
	assert.Equal(t, "b", was.Samples[0].After.Headers["a"])
	assert.NotContains(t, was.Samples[0].Before.Headers, "a")

	for settings, says := range map[string]setting.Change{
		"leads nowhere":        {},
		"in a circle":          {"to": "coldchain/readings"},
		"no channel coldchain": {"to": "coldchain/none"},
		"has no expire":        {"to": "coldchain/warm", "expire": "1h"},
	} {
		_, err := n.Routes.Try(accesstest.Owner(t), readings.Address(), from(t, "first"), says)
		assert.ErrorContains(t, err, settings)
	}
	_, err := n.Routes.Try(accesstest.Owner(t), at(t, "coldchain/readings@none"), from(t, "first"), nil)
	assert.ErrorContains(t, err, "no group")
}
