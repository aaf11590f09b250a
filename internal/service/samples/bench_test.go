package samples_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/samples"
)

// BenchmarkMeasure measures 2,000 channels and 500 groups once, and records each minute of it.
func BenchmarkMeasure(b *testing.B) {
	n := nodetest.Open(b)
	for i := range 2000 {
		n.Channel(setting.Topic, fmt.Sprintf("coldchain/t-%d", i), nil)
	}
	for i := range 500 {
		a := address.Channel("coldchain", fmt.Sprintf("t-%d", i))
		a.Group = "compliance"
		_, err := n.Groups.New(accesstest.Owner(b), "owner", a, address.Position{}, nil)
		require.NoError(b, err)
	}
	now := time.Now().Truncate(time.Minute)
	for b.Loop() {
		now = now.Add(samples.Every)
		n.Samples.Measure(accesstest.Owner(b), now)
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/samples.Every.Seconds()*100, "%-of-a-core")
}
