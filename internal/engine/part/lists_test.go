package part_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/node/nodetest"
)

// The channels of a space are those below its name, and not those of spaces
// whose names begin with it.
func TestChannelsOfASpace(t *testing.T) {
	n := nodetest.Open(t)
	for _, space := range []string{"cold", "cold-chain", "cold.", "cold0"} {
		require.NoError(t, n.Manage.NewSpace(accesstest.Owner(t), "owner", space, nil))
	}
	for _, name := range []string{"cold/b", "cold-chain/a", "cold./c", "cold0/d", "cold/a", "coldchain/x"} {
		n.Channel(setting.Topic, name, nil)
	}
	assert.Equal(t, []string{"cold/a", "cold/b"}, addresses(n.Parts.ChannelsOf("cold")))
	assert.Equal(t, []string{"cold-chain/a"}, addresses(n.Parts.ChannelsOf("cold-chain")))
	assert.Equal(t, []string{"cold0/d"}, addresses(n.Parts.ChannelsOf("cold0")))
	assert.Empty(t, n.Parts.ChannelsOf("col"))
	assert.Len(t, n.Parts.ChannelsOf(""), 6)
	assert.Empty(t, n.Parts.OfKind(setting.Queue))
}
