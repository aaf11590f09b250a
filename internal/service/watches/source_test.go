package watches_test

import (
	"database/sql"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/postgres/testdb"
)

// measuredOf are measured values of a kind, the rest 0.
func measuredOf(k *sample.Kind, values map[string]float64) []float64 {
	all := make([]float64, len(k.Values))
	for name, x := range values {
		all[k.Place(name)] = x
	}
	return all
}

// What a node that is away brings about has the node as its source, and a route whose endpoint
// fails the endpoint; all else its channel.
func TestIncidentsOfOneCauseHaveOneSource(t *testing.T) {
	p := newPlace(t)
	testdb.Exec(t, p.database, `INSERT INTO nodes (id, directory, name) VALUES (7, gen_random_uuid(), 'node-b')`)
	space := p.records.View().Spaces["coldchain"].ID
	hook := &catalog.Endpoint{Owned: catalog.Owned{ID: catalog.NewOwnedID(), SpaceID: sql.NullInt64{Int64: space, Valid: true}, Name: "clinic-hook"}, Endpoint: setting.Endpoint{URL: "http://127.0.0.1:9/"}}
	require.NoError(t, p.records.NewEndpoint(accesstest.Owner(t), hook, nil))
	route := &catalog.Group{ChannelID: p.queue, Name: "hook", Route: &catalog.Route{ID: uuid.New(), Source: p.queue, Target: hook.ID, Outside: true}}
	require.NoError(t, p.records.NewRoute(accesstest.Owner(t), route, []int64{0}, nil))
	require.NoError(t, p.records.Reload(accesstest.Owner(t)))
	j := p.onDuty()
	for name, w := range map[string]setting.Watch{
		"replicas": {Of: "coldchain/*", Value: "replicas-missing", Warn: "1"},
		"routes":   {Of: "coldchain/*", Value: "route-waiting", Warn: "1m"},
		"hooks":    {Of: "coldchain/*", Value: "endpoint-failing", Warn: "1m"},
		"waiting":  {Of: "coldchain/*", Value: "waiting", Warn: "1"},
	} {
		one := &catalog.Watch{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}, Watch: w}
		one.SpaceID.Int64, one.SpaceID.Valid = space, true
		require.NoError(t, j.records.NewWatch(accesstest.Owner(t), one, nil))
	}
	judge := func(away, failing float64) map[string]string {
		p.now = p.now.Add(step)
		j.Judge(accesstest.Owner(t), p.now, map[sample.Thing][]float64{
			{Kind: "node", ID: 7}:           measuredOf(sample.Node, map[string]float64{"node-away": away}),
			{Kind: "endpoint", ID: hook.ID}: measuredOf(sample.Endpoint, map[string]float64{"endpoint-failing": failing}),
			{Kind: "group", ID: route.ID}:   measuredOf(sample.Group, map[string]float64{"route-waiting": 300}),
			{Kind: "channel", ID: p.queue}:  measuredOf(sample.Channel, map[string]float64{"replicas-missing": 1, "waiting": 5}),
		})
		sources := map[string]string{}
		for _, i := range p.incidents(j, true) {
			sources[i.Value] = i.Source
		}
		return sources
	}
	assert.Equal(t, map[string]string{"replicas-missing": "nodes/node-b", "waiting": "nodes/node-b", "route-waiting": "coldchain/clinic-hook", "endpoint-failing": "coldchain/clinic-hook"}, judge(60, 300))
	testdb.Exec(t, p.database, `DELETE FROM watch_states`)
	testdb.Exec(t, p.database, `DELETE FROM incidents`)
	j.stop()
	j.records.Close()
	j = p.onDuty()
	assert.Equal(t, map[string]string{"replicas-missing": "coldchain/inspections", "waiting": "coldchain/inspections", "route-waiting": "coldchain/inspections"}, judge(0, 0))
}
