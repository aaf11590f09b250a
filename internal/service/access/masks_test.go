package access_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

func boxes(on string, roles ...string) setting.Change {
	return setting.Change{"on": on, "fields": []string{"key", "/box"}, "for": roles}
}

func TestMasksAreMadeAndTakenAway(t *testing.T) {
	n := desk(t)
	owner := accesstest.Owner(t)
	n.Channel(setting.Topic, "coldchain/readings", nil)
	lead := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "lead"}))
	help := access.As(t.Context(), come(t, n, catalog.Secret{Principal: "desk-1"}))
	sees := func(who string) []string {
		return n.Access.Named(who).Rights().Sight(access.SeeContent, "coldchain/readings").Names()
	}
	for name, c := range map[string]struct {
		ctx    context.Context
		name   string
		change setting.Change
		says   string
	}{
		"a help desk":              {help, "boxes", boxes("coldchain/*", "viewer"), "desk-1 may not access coldchain/*"},
		"a team owner elsewhere":   {lead, "boxes", boxes("*", "viewer"), "lead may not access *"},
		"no name":                  {owner, "", boxes("coldchain/*", "viewer"), "name"},
		"no pattern":               {owner, "boxes", boxes("", "viewer"), "it is empty"},
		"no roles":                 {owner, "boxes", boxes("coldchain/*"), "from which roles"},
		"no fields":                {owner, "boxes", setting.Change{"on": "coldchain/*", "for": []string{"viewer"}}, "hides nothing"},
		"a role that is not there": {owner, "boxes", boxes("coldchain/*", "veiwer"), "did you mean viewer?"},
		"the owner":                {owner, "boxes", boxes("coldchain/*", "owner"), "the role owner sees everything"},
	} {
		_, err := n.Access.NewMask(c.ctx, "x", c.name, c.change, false)
		assert.ErrorContains(t, err, c.says, name)
	}
	p, err := n.Access.NewMask(lead, "lead", "boxes", boxes("coldchain/*", "team-owner", "packer", "help-desk"), true)
	require.NoError(t, err)
	assert.Equal(t, []string{"build-42 does not see key, /box of coldchain/* any more: it is hidden", "lead does not see key, /box of coldchain/* any more: it is hidden"}, p.Effects, "the desk sees no contents anyway")
	assert.Empty(t, sees("lead"), "a preview changes nothing")
	_, err = n.Access.NewMask(owner, "owner", "boxes", boxes("coldchain/*", "team-owner", "packer"), false)
	require.NoError(t, err)
	assert.Equal(t, []string{"boxes"}, sees("lead"))
	assert.Empty(t, sees("owner"))
	_, err = n.Access.NewMask(owner, "owner", "boxes", boxes("coldchain/*", "viewer"), false)
	assert.ErrorContains(t, err, "boxes exists already")

	// Who is under the mask does not come from under it.
	give := func(role string) error {
		_, err := n.Access.NewGrant(lead, "lead", setting.Change{"to": "lead", "role": role, "on": "coldchain"}, true)
		return err
	}
	assert.NoError(t, give("publisher"), "what shows nothing can be given")
	assert.ErrorContains(t, give("consumer"), "a mask hides fields from lead on coldchain")
	_, err = n.Access.NewToken(lead, "lead", catalog.Secret{Principal: "box-7", Role: "consumer", Pattern: "coldchain/readings"}, 0)
	assert.ErrorContains(t, err, "a mask hides fields from lead")
	_, err = n.Access.RemoveMask(lead, "lead", "boxes", false)
	assert.ErrorContains(t, err, "a mask hides fields from lead")
	_, err = n.Access.NewMask(lead, "lead", "more", boxes("coldchain/*", "viewer"), false)
	assert.ErrorContains(t, err, "a mask hides fields from lead")
	scoped := come(t, n, catalog.Secret{Principal: "owner", Role: "team-owner", Pattern: "coldchain"})
	assert.Equal(t, []string{"boxes"}, scoped.Rights().Sight(access.SeeContent, "coldchain/readings").Names(), "a token for the role is under it too")

	// What is told: who is under a mask sees that there is one, and nobody its key.
	all := n.Access.Masks(lead)
	require.Len(t, all, 1)
	assert.Equal(t, []string{"key", "/box"}, all[0].Fields)
	assert.Empty(t, n.Access.Masks(help))
	may, err := n.Access.May(owner, "lead", access.SeeContent, "coldchain/readings")
	require.NoError(t, err)
	assert.Contains(t, may.Says, "mask boxes hides something of it")

	// Another role that shows all frees from it.
	_, err = n.Access.NewGrant(owner, "owner", setting.Change{"to": "lead", "role": "operator", "on": "coldchain"}, false)
	require.NoError(t, err)
	assert.Empty(t, sees("lead"))
	p, err = n.Access.RemoveMask(owner, "owner", "boxes", true)
	require.NoError(t, err)
	assert.Equal(t, []string{"build-42 sees key, /box of coldchain/*, which is hidden now"}, p.Effects)
	_, err = n.Access.RemoveMask(owner, "owner", "boxes", false)
	require.NoError(t, err)
	_, err = n.Access.RemoveMask(owner, "owner", "boxes", false)
	assert.ErrorContains(t, err, "there is no mask boxes")
}
