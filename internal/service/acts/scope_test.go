package acts_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/node/nodetest"
	rights "steadyferry/internal/service/access"
)

// What somebody has done later with a token for less than they may is done with no more than the
// token is for: by a chore, and by what its runs begin.
func TestWhatANarrowTokenHasDoneIsNarrow(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	n.DeadLetters(4)
	tidy := &catalog.Role{Owned: catalog.Owned{Name: "tidy"}, Role: setting.Role{Verbs: []string{"chore", "discard", "see-counts", "see-causes"}}}
	whole := n.Somebody("lead", setting.Principal{Kind: setting.Person}, "team-owner", "coldchain", tidy)
	secret, err := n.Catalog.NewSecret(t.Context(), catalog.Secret{Principal: "lead", Kind: catalog.Token, Role: "tidy", Pattern: "coldchain"}, 0, nil)
	require.NoError(t, err)
	came, ok := n.Catalog.Known(catalog.Token, secret)
	require.True(t, ok)
	narrow := access.As(t.Context(), n.Access.Asker(came, rights.Coming{}))

	make := func(ctx context.Context, name string) *catalog.Chore {
		a := address.Channel("coldchain", name)
		_, err := n.Timetable.New(ctx, "lead", a, setting.Change{"at": "0 3 1 1 *", "do": setting.DoDiscard, "of": "coldchain/inspections", "limit": 1, "why": "they are known"}, false)
		require.NoError(t, err)
		c, err := n.Timetable.Of(accesstest.Owner(t), a)
		require.NoError(t, err)
		return c
	}
	byToken, byLead := make(narrow, "by-token"), make(whole, "by-lead")
	start := func(c *catalog.Chore) string {
		r, err := n.Timetable.Start(accesstest.Owner(t), "owner", c)
		require.NoError(t, err)
		return ended(t, n, r.Run).State
	}
	assert.Equal(t, "done", start(byToken))
	assert.Equal(t, "done", start(byLead))

	// The token is for less now; the lead still may.
	less := *n.Catalog.View().Roles["roles/tidy"]
	less.Verbs = []string{"chore", "see-counts", "see-causes"}
	require.NoError(t, n.Catalog.SetRole(accesstest.Owner(t), &less, nil))
	assert.NotEqual(t, "done", start(byToken))
	assert.Equal(t, "done", start(byLead))
	_, err = n.Timetable.Set(whole, "lead", address.Channel("coldchain", "by-token"), setting.Change{"limit": 2}, false)
	require.NoError(t, err)
	c, err := n.Timetable.Of(accesstest.Owner(t), address.Channel("coldchain", "by-token"))
	require.NoError(t, err)
	assert.Equal(t, "done", start(c), "whoever sets it last has it do what they may")
}

// A watch sets right what somebody else may set: so may whoever has it do that.
func TestAWatchKeepsWhatItsMakerMaySet(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	ines := n.Somebody("ines", setting.Principal{Kind: setting.Person}, "looks", "coldchain", &catalog.Role{Owned: catalog.Owned{Name: "looks"}, Role: setting.Role{Verbs: []string{"watch", "see-counts", "pause"}}})
	a := address.Channel("coldchain", "kept")
	keep := func(ctx context.Context, of, name, value string) error {
		_, err := n.Watches.New(ctx, "ines", a, setting.Change{"of": of, "keep": map[string]string{name: value}})
		return err
	}
	assert.ErrorContains(t, keep(ines, "coldchain/readings", "retain", "1h"), "ines may not set coldchain/readings")
	assert.Error(t, keep(ines, "coldchain/*", "retain", "1h"))
	require.NoError(t, keep(ines, "coldchain/readings", "paused", "false"))
	_, err := n.Watches.Set(ines, "ines", a, setting.Change{"keep": map[string]string{"retain": "1h"}}, false)
	assert.ErrorContains(t, err, "ines may not set coldchain/readings")
	_, err = n.Watches.Set(ines, "ines", a, setting.Change{"description": "as it was"}, false)
	assert.NoError(t, err, "what stays is not set")
	_, err = n.Watches.Set(accesstest.Owner(t), "owner", a, setting.Change{"keep": map[string]string{"retain": "1h"}}, false)
	assert.NoError(t, err)
}
