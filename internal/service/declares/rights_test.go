package declares_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/node/nodetest"
)

func owned(name string) catalog.Owned { return catalog.Owned{ID: catalog.NewOwnedID(), Name: name} }

func TestRolesAndMasksAreDeclared(t *testing.T) {
	n := nodetest.Open(t)
	role := thing("role", "roles/packer", map[string]any{"verbs": []string{"publish", "lease"}})
	mask := thing("mask", "masks/boxes", map[string]any{"on": "coldchain/*", "fields": []string{"key", "/box"}, "show": "hashed", "for": []string{"packer"}})
	p := plan(t, n, "rights", mask, role)
	assert.Equal(t, []string{"planned create roles/packer", "planned create masks/boxes"}, what(p), "a mask may be for a role of the same files")
	apply(t, n, "rights", "1", mask, role)
	assert.Empty(t, plan(t, n, "rights", mask, role).Changes, "and then it is so")
	key := n.Catalog.View().Masks["masks/boxes"].Key
	require.Len(t, key, 32)

	// What is written declares the same.
	things := []declare.Thing{}
	for _, one := range n.Declares.There(everything) {
		if one.Kind == "role" || one.Kind == "mask" {
			things = append(things, one)
		}
	}
	files := declare.Write("rights", things, false)
	assert.Contains(t, files[declare.NodesFile], "roles:\n  packer:\n    verbs: [publish, lease]")
	assert.Contains(t, files[declare.NodesFile], "masks:\n  boxes:\n    \"on\": ")

	// Who has the role gains what is added to it, and that is said before.
	require.NoError(t, n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Principals: []*catalog.Principal{{Owned: owned("build-42")}},
		Grants: []*catalog.Grant{{Owned: owned("g"), Grant: setting.Grant{To: "build-42", Role: "packer", On: "coldchain"}}}}))
	role.Settings["verbs"], mask.Settings["show"] = []any{"publish", "see-content"}, "hidden"
	p = plan(t, n, "rights", mask, role)
	require.Len(t, p.Changes, 2)
	assert.Contains(t, p.Changes[0].Effects, "build-42 gains see-content on coldchain")
	assert.Contains(t, p.Changes[0].Effects, "build-42 loses lease on coldchain")
	apply(t, n, "rights", "2", mask, role)
	assert.Equal(t, key, n.Catalog.View().Masks["masks/boxes"].Key, "the key stays: hashes do")
	assert.Equal(t, []string{"boxes"}, n.Access.Of("build-42").Sight(access.SeeContent, "coldchain/readings").Names())

	for name, c := range map[string]struct {
		thing form.Thing
		says  string
	}{
		"a built-in role":          {thing("role", "roles/viewer", map[string]any{"verbs": []string{"publish"}}), "viewer exists already"},
		"a verb that there is not": {thing("role", "roles/x", map[string]any{"verbs": []string{"dig"}}), `there is no verb "dig"`},
		"a role elsewhere":         {thing("role", "coldchain/x", map[string]any{"verbs": []string{"publish"}}), "allowed: roles/NAME"},
		"a mask of no role":        {thing("mask", "masks/x", map[string]any{"on": "coldchain", "fields": []string{"key"}, "for": []string{"diver"}}), "there is no role diver"},
		"a mask of no field":       {thing("mask", "masks/x", map[string]any{"on": "coldchain", "fields": []string{"box"}, "for": []string{"viewer"}}), "no field"},
	} {
		says := ""
		p, err := n.Declares.Plan(accesstest.Owner(t), "owner", "other", form.Declare{Things: []form.Thing{c.thing}})
		if err != nil {
			says = err.Error()
		} else if len(p.Changes) > 0 {
			says = p.Changes[0].Problem
		}
		assert.Contains(t, says, c.says, name)
	}
}
