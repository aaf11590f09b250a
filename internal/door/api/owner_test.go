package api_test

import (
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/engine/catalog"
	services "steadyferry/internal/service/access"
	"steadyferry/test/doortest"
)

// Somebody who comes as the owner, when the first day is past, is told in the logbook and measured,
// so that a watch makes an incident of it.
func TestUseOfTheOwnerStandsOut(t *testing.T) {
	d := doortest.Open(t)
	measured := func(want float64) {
		t.Helper()
		require.Eventually(t, func() bool {
			used := 0.0
			for thing, values := range d.Samples.Now(accesstest.Owner(t)) {
				if thing.Kind == sample.Node.Name {
					used = max(used, values[sample.Node.Place("owner-used")])
				}
			}
			return used == want
		}, 20*time.Second, 50*time.Millisecond)
	}
	asked := url.Values{"action": {services.UsesOwner}}
	come := func() {
		r, _ := d.Do("GET", "/api/v1/spaces", "", "")
		require.Equal(t, 200, r.StatusCode)
		d.Access.NoteUses(t.Context())
		d.Access.NoteGathered(t.Context(), false)
	}
	come()
	measured(0) // things are set up
	d.Exec(`UPDATE principals SET created_at = now() - interval '25 h' WHERE name = 'owner'`)
	require.NoError(t, d.Catalog.Refresh(t.Context()))
	assert.Empty(t, entries(t, d, asked))
	measured(1)
	// It is told anew when it is used again.
	d.Exec(`UPDATE secrets SET used_at = now() - interval '11 minutes'`)
	measured(0)
	r, body := d.Do("POST", "/api/v1/session", "application/json", `{"token":"`+d.Token+`"}`, "Authorization", "")
	require.Equal(t, 200, r.StatusCode, body)
	token, err := d.Access.NewToken(accesstest.Owner(t), "owner", catalog.Secret{Principal: catalog.Owner, Label: "second"}, 0)
	require.NoError(t, err)
	r, _ = d.Do("GET", "/api/v1/spaces", "", "", "Authorization", "Bearer "+token)
	require.Equal(t, 200, r.StatusCode)
	come()
	all := entries(t, d, asked)
	require.Len(t, all, 1, "%v", all)
	assert.Contains(t, all[0], "done|owner|token|127.0.0.1|use the owner's rights|")
	measured(1)
}
