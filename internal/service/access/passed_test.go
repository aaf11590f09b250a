package access_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/node/nodetest"
)

// The leader asks again what whoever sends to another node may: that node may know it wrongly.
func TestTheLeaderAsksAgain(t *testing.T) {
	nodes := nodetest.Cluster(t, 2)
	ctx := accesstest.Owner(t)
	_, err := nodes[0].Manage.NewChannel(ctx, "owner", catalog.KindTopic, address.Channel("coldchain", "readings"), setting.Change{"replicas": 1})
	require.NoError(t, err)
	machine := &catalog.Principal{Owned: owned("box"), Principal: setting.Principal{Kind: setting.Machine}}
	require.NoError(t, nodes[0].Catalog.NewRights(ctx, nil, catalog.Rights{Principals: []*catalog.Principal{machine}, Grants: []*catalog.Grant{grant("box", "publisher", "coldchain/readings")}}))
	var other *nodetest.Node
	require.Eventually(t, func() bool {
		for _, n := range nodes {
			ch, err := n.Parts.Channel(address.Channel("coldchain", "readings"))
			if err != nil || n.Catalog.View().Principal("box") == nil {
				return false
			}
			if p, err := ch.Partition(0); err == nil && !n.Parts.Leads(p) && n.Parts.LeaderOf(p) != 0 {
				other = n
			}
		}
		return other != nil
	}, 20*time.Second, 10*time.Millisecond)
	ch, err := other.Parts.Channel(address.Channel("coldchain", "readings"))
	require.NoError(t, err)
	p, err := ch.Partition(0)
	require.NoError(t, err)
	as := func(s catalog.Secret) context.Context { return access.As(t.Context(), come(t, other, s)) }
	send := func(ctx context.Context) error {
		var b message.Builder
		b.Add(&message.Message{Body: []byte("{}")})
		encoded := b.Build(message.Plain, nil)
		data := append(make([]byte, message.StampSize), encoded...)
		batch, err := message.OpenBatch(data[message.StampSize:])
		require.NoError(t, err)
		_, err = other.Parts.Append(ctx, p, data, batch) // past the check of this node
		return err
	}
	require.NoError(t, send(as(catalog.Secret{Principal: "box"})))
	for _, s := range []catalog.Secret{{Principal: "box", Role: "publisher", Pattern: "coldchain/journeys"}, {Principal: "box", Role: "viewer", Pattern: "*"}} {
		var refused *problem.Problem
		require.ErrorAs(t, send(as(s)), &refused)
		assert.Equal(t, problem.Refused, refused.Kind)
		assert.Contains(t, refused.Error(), "box may not publish coldchain/readings; this token is for the role "+s.Role)
	}
	assert.ErrorContains(t, send(t.Context()), "nobody asks for publish of coldchain/readings")
}
