package watches_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/postgres/testdb"
)

const manyThings = 5000

// BenchmarkJudge judges 5,000 groups once: all in order, or all of them wavering about the
// level, so that each is recorded each time.
func BenchmarkJudge(b *testing.B) {
	for _, c := range []struct {
		name    string
		figures []float64
	}{{"calm", []float64{1, 2}}, {"wavering", []float64{1, 12}}} {
		b.Run(c.name, func(b *testing.B) {
			p := newPlace(b)
			testdb.Exec(b, p.database, fmt.Sprintf(`INSERT INTO groups (channel_id, name) SELECT %d, 'g-' || n FROM generate_series(1, %d) n`, p.queue, manyThings))
			require.NoError(b, p.records.Reload(accesstest.Owner(b)))
			j := p.onDuty()
			w := &catalog.Watch{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: "behind"}, Watch: setting.Watch{Of: "coldchain/*@*", Value: "lag", Warn: "10", Alarm: "100", ForMS: 3_600_000}}
			w.SpaceID.Int64, w.SpaceID.Valid = p.records.View().Spaces["coldchain"].ID, true
			require.NoError(b, j.records.NewWatch(accesstest.Owner(b), w, nil))
			all := [2]map[sample.Thing][]float64{{}, {}}
			for id := range j.records.View().GroupIDs {
				for n, x := range c.figures {
					all[n][sample.Thing{Kind: sample.Group.Name, ID: id}] = measuredOf(sample.Group, map[string]float64{"lag": x})
				}
			}
			require.Len(b, all[0], manyThings)
			n := 0
			for b.Loop() {
				p.now = p.now.Add(step)
				j.Judge(accesstest.Owner(b), p.now, all[n%2])
				n++
			}
			b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/step.Seconds()*100, "%-of-a-core")
		})
	}
}
