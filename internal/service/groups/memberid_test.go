package groups_test

import (
	"context"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// The id of a member is good for whom it was given to: others, who may read in the group too, can
// neither read nor commit with it, nor have the member leave.
func TestAMemberBelongsToWhoHasJoined(t *testing.T) {
	n, _ := reading(t)
	for _, name := range []string{"lana", "other"} {
		require.NoError(t, n.Catalog.NewRights(t.Context(), nil, catalog.Rights{Principals: []*catalog.Principal{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: name}}},
			Grants: []*catalog.Grant{{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Name: "g-" + name}, Grant: setting.Grant{To: name, Role: "consumer", On: "coldchain"}}}}))
	}
	as := func(name string) context.Context { return access.As(t.Context(), n.Access.Named(name)) }
	m, err := n.Groups.Join(as("lana"), "lana", a, nil, 5*time.Second, "w")
	require.NoError(t, err)
	id, err := uuid.Parse(m.MemberID)
	require.NoError(t, err)
	assert.Equal(t, uuid.RFC4122, id.Variant())
	assert.EqualValues(t, 8, id.Version())
	forged := id
	forged[15] ^= 1
	try := func(who, member string) map[string]error {
		_, beat := n.Groups.Beat(as(who), a, member, m.Round, false, nil, 0)
		_, next := n.Groups.Next(as(who), a, member, 1, 0, group.UpTo{}, false)
		commit := n.Groups.Commit(as(who), a, member, m.Round, []form.OffsetOf{})
		return map[string]error{"beat": beat, "next": next, "commit": commit}
	}
	for name, c := range map[string][2]string{"another": {"other", m.MemberID}, "a forged id": {"lana", forged.String()}, "no id": {"lana", "w"}} {
		for what, err := range try(c[0], c[1]) {
			var p *problem.Problem
			if assert.ErrorAs(t, err, &p, "%s: %s", name, what) {
				assert.Equal(t, problem.NoMember, p.Kind, "%s: %s", name, what)
			}
		}
		assert.Error(t, n.Groups.Leave(as(c[0]), a, c[1]), name)
	}
	for what, err := range try("lana", m.MemberID) {
		assert.NoError(t, err, what)
	}
	assert.NoError(t, n.Groups.Leave(as("lana"), a, m.MemberID))
}
