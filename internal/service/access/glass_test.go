package access_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/service/samples"
)

// Who was given that may see contents for an hour, with a reason, and not more; it shows, is
// recorded, and ends by itself.
func TestTheGlassIsBrokenForAWhile(t *testing.T) {
	n := desk(t)
	owner := accesstest.Owner(t)
	help := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"}))
	scoped := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1", Role: "help-desk", Pattern: "coldchain"}))
	sees := func() bool {
		return n.Access.Named("desk-1").Rights().May(access.SeeContent, "coldchain/inspections")
	}
	smash := func(ctx context.Context, on, why string, preview bool) error {
		_, err := n.Access.BreakGlass(ctx, on, why, preview)
		return err
	}
	assert.ErrorContains(t, smash(help, "coldchain/inspections", "a box is lost", false), "desk-1 may not break the glass on coldchain/inspections", "it was not given")
	p, err := n.Access.NewGrant(owner, "owner", setting.Change{"to": "team:desk", "role": "help-desk", "on": "coldchain/inspections", "opens": true}, false)
	require.NoError(t, err)
	assert.Contains(t, p.Effects, "team:desk may have itself see what is in messages of coldchain/inspections for an hour, with a reason that is told")
	assert.Equal(t, []string{"coldchain/inspections"}, n.Access.MayBreakGlass("desk-1"))
	assert.Empty(t, n.Access.MayBreakGlass("lead"))

	assert.ErrorContains(t, access.Check(help, access.SeeContent, "coldchain/inspections"), "with a reason that is told, you may: ferry access break-glass coldchain/inspections -why TEXT")
	_, err = n.Access.NewGrant(owner, "owner", setting.Change{"to": "desk-1", "role": "break-glass", "on": "coldchain"}, false)
	assert.ErrorContains(t, err, "nobody gives the role break-glass")
	assert.ErrorContains(t, smash(help, "coldchain", "a box is lost", false), "may not break the glass on coldchain", "nor more than was given")
	assert.ErrorContains(t, smash(scoped, "coldchain/inspections", "a box is lost", false), "may not break the glass", "a token for a role is for that")
	assert.ErrorContains(t, smash(help, "coldchain/inspections", "  ", false), "why contents are opened is missing")
	assert.ErrorContains(t, smash(help, "coldchain/inspections", "a\x00b", false), "U+0000")
	require.NoError(t, smash(help, "coldchain/inspections", "a box is lost", true))
	assert.False(t, sees(), "a preview changes nothing")
	assert.Zero(t, samples.Opened(n.Catalog.View(), time.Now()))
	require.NoError(t, smash(help, "coldchain/inspections", "a box is lost", false))
	assert.True(t, sees())
	assert.False(t, n.Access.Named("desk-1").Rights().May(access.SeeContent, "coldchain/readings"))
	assert.Equal(t, 1, samples.Opened(n.Catalog.View(), time.Now()))
	assert.Zero(t, samples.Opened(n.Catalog.View(), time.Now().Add(61*time.Minute)), "it ends by itself")
	rows, err := logbook.Entries(owner, n.Catalog, logbook.Asked{Action: "break the glass", Limit: 5})
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.Equal(t, "desk-1", rows[0].Who)
	assert.Contains(t, string(rows[0].After), "a box is lost")

	// Nobody lets others do it who does not see contents, and a mask holds for it when it says so.
	_, err = n.Access.NewGrant(access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"})), "x", setting.Change{"to": "desk-1", "role": "help-desk", "on": "coldchain", "opens": true}, false)
	assert.Error(t, err)
	_, err = n.Access.NewMask(owner, "owner", "boxes", boxes("coldchain/*", "break-glass", "help-desk"), false)
	require.NoError(t, err)
	assert.Equal(t, []string{"boxes"}, n.Access.Named("desk-1").Rights().Sight(access.SeeContent, "coldchain/inspections").Names())
	assert.False(t, n.Access.Named("desk-1").Rights().May(access.Access, "coldchain"))
}

// Who is under a mask does not take it away while the glass is broken.
func TestABrokenGlassFreesFromNoMask(t *testing.T) {
	n := desk(t)
	owner := accesstest.Owner(t)
	_, err := n.Access.NewGrant(owner, "owner", setting.Change{"to": "lead", "role": "viewer", "on": "coldchain", "opens": true}, false)
	require.NoError(t, err)
	_, err = n.Access.NewMask(owner, "owner", "boxes", boxes("coldchain/*", "team-owner"), false)
	require.NoError(t, err)
	lead := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "lead"}))
	_, err = n.Access.BreakGlass(lead, "coldchain", "a box is lost", false)
	require.NoError(t, err)
	assert.Empty(t, n.Access.Named("lead").Rights().Sight(access.SeeContent, "coldchain/readings").Names(), "all is seen")
	_, err = n.Access.RemoveMask(lead, "lead", "boxes", false)
	assert.ErrorContains(t, err, "a mask hides fields from lead")
	_, err = n.Access.NewGrant(lead, "lead", setting.Change{"to": "lead", "role": "consumer", "on": "coldchain"}, false)
	assert.ErrorContains(t, err, "a mask hides fields from lead")
}
