package access_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node/nodetest"
)

func TestMain(m *testing.M) { testdb.Main(m) }

// The owner's token lies in the directory, and another takes its place when it
// is revoked.
func TestTheOwnersToken(t *testing.T) {
	n := nodetest.Open(t)
	text, err := n.Access.WriteOwnerToken(accesstest.Owner(t))
	require.NoError(t, err)
	again, err := n.Access.WriteOwnerToken(accesstest.Owner(t))
	require.NoError(t, err)
	assert.Equal(t, text, again, "one in force stays")
	who, ok := n.Catalog.Known(catalog.Token, text)
	require.True(t, ok)
	assert.Equal(t, "owner", who.Name)
	_, err = n.Catalog.DropSecret(accesstest.Owner(t), catalog.Token, text)
	require.NoError(t, err)
	n.Access.KeepOwnerToken(accesstest.Owner(t))
	fresh, err := n.Access.WriteOwnerToken(accesstest.Owner(t))
	require.NoError(t, err)
	assert.NotEqual(t, text, fresh)
	_, ok = n.Catalog.Known(catalog.Token, text)
	assert.False(t, ok, "what was revoked is not made valid again")
	assert.False(t, strings.Contains(fresh, "\n"))
}
