// Package nodetest opens whole nodes within a test, beside the code of the
// services that they are made of.
package nodetest

import (
	"context"
	"encoding/base64"
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/signin"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/outside"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/postgres/testdb"
	"steadyferry/internal/node"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/queues"
)

// Node is a node within a test.
type Node struct {
	*node.Node
	t      testing.TB
	config node.Config
	peers  string // where others reach it; empty: it stays alone
	closed bool
}

// Open opens a node that stays alone, on records of its own, and a space,
// coldchain. It is closed at the end of the test.
func Open(t testing.TB) *Node {
	t.Helper()
	return OpenTo(t, Outside(t))
}

// Cluster opens so many nodes on one set of records, which know each other, and
// a space, coldchain.
func Cluster(t testing.TB, count int) []*Node {
	t.Helper()
	_, database := testdb.New(t)
	nodes := make([]*Node, count)
	for i := range nodes {
		name := "node-" + string(rune('a'+i))
		n := &Node{t: t, config: node.Config{Name: name, Zone: name, Dir: t.TempDir(), DatabaseURL: database, KeepRemoved: time.Hour, DiskReserve: 1 << 20, Version: "test", Outside: Outside(t)}, peers: "127.0.0.1:0"}
		n.open()
		t.Cleanup(n.Close)
		nodes[i] = n
	}
	require.Eventually(t, nodes[0].watched, 20*time.Second, 5*time.Millisecond, "the nodes get their watches")
	require.NoError(t, nodes[0].Manage.NewSpace(accesstest.Owner(t), "owner", "coldchain", nil))
	require.Eventually(t, func() bool {
		for _, n := range nodes {
			all := n.Cluster.Nodes(time.Now()).Nodes
			up := 0
			for _, one := range all {
				if one.Up {
					up++
				}
			}
			if up < count || n.Catalog.View().Spaces["coldchain"] == nil {
				return false
			}
		}
		return true
	}, 20*time.Second, 20*time.Millisecond, "every node hears every other")
	return nodes
}

// Outside is where nodes of tests deliver: to this machine alone.
func Outside(t testing.TB) endpoints.Config {
	t.Helper()
	networks, err := endpoint.ParseNetworks(endpoint.Loopback)
	require.NoError(t, err)
	keys, err := seal.Parse([]byte(base64.StdEncoding.EncodeToString(make([]byte, 32))))
	require.NoError(t, err)
	return endpoints.Config{Config: outside.Config{Networks: networks, Origin: "localhost", Agent: "steady-ferry/test"}, Schemes: []string{"http", "https", "postgresql", "ferry+http", "ferry+https"}, Keys: keys}
}

func (n *Node) open() {
	n.t.Helper()
	if n.peers != "" {
		listener, err := net.Listen("tcp", n.peers)
		require.NoError(n.t, err)
		n.peers = listener.Addr().String() // the same again
		n.config.PeerListener, n.config.PeerAdvertise = listener, n.peers
	}
	opened, err := node.Open(context.Background(), n.config)
	require.NoError(n.t, err)
	n.Node, n.closed = opened, false
}

// Close closes the node, which Reopen opens again.
func (n *Node) Close() {
	if n.closed {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	require.NoError(n.t, n.Node.Close(ctx))
	n.closed = true
}

// Reopen closes the node and opens it anew on the same directory and records.
func (n *Node) Reopen() {
	n.t.Helper()
	n.Close()
	n.open()
}

// OpenTo opens a node as Open does, that delivers to places outside as told.
func OpenTo(t testing.TB, outside endpoints.Config) *Node {
	t.Helper()
	return alone(t, node.Config{Outside: outside})
}

// OpenAs opens a node as Open does, with ways to sign in.
func OpenAs(t testing.TB, signIn *signin.Config) *Node {
	t.Helper()
	return alone(t, node.Config{Outside: Outside(t), SignIn: signIn})
}

func alone(t testing.TB, config node.Config) *Node {
	t.Helper()
	_, database := testdb.New(t)
	config.Name, config.Dir, config.DatabaseURL, config.KeepRemoved, config.DiskReserve, config.Version = "node-a", t.TempDir(), database, time.Hour, 1<<20, "test"
	n := &Node{t: t, config: config}
	n.open()
	t.Cleanup(n.Close)
	require.Eventually(t, n.watched, 20*time.Second, 5*time.Millisecond, "the nodes get their watches")
	require.NoError(t, n.Manage.NewSpace(accesstest.Owner(t), "owner", "coldchain", nil))
	return n
}

// watched reports whether the nodes have got the watches that come by themselves, which is
// the last thing that a node records by itself at its first start.
func (n *Node) watched() bool { return n.Catalog.View().Cluster.Watched }

// Channel makes a topic or a queue.
func (n *Node) Channel(kind, name string, settings setting.Change) *part.Channel {
	n.t.Helper()
	a, err := address.ParseChannel(name)
	require.NoError(n.t, err)
	t, err := n.Manage.NewChannel(accesstest.Owner(n.t), "owner", kind, a, settings)
	require.NoError(n.t, err)
	return t
}

// Publish sends bodies without keys, to a partition or, with
// part.AnyPartition, in turn.
func (n *Node) Publish(t *part.Channel, partition int, bodies ...string) []part.Receipt {
	n.t.Helper()
	messages := make([]*message.Message, len(bodies))
	for i, body := range bodies {
		messages[i] = &message.Message{Body: []byte(body)}
	}
	receipts, err := n.Parts.PublishMessages(accesstest.Owner(n.t), t, partition, messages)
	require.NoError(n.t, err)
	return receipts
}

// PublishKey sends a body with a key to a partition of the service's choice.
func (n *Node) PublishKey(t *part.Channel, key, body string) {
	n.t.Helper()
	_, err := n.Parts.PublishMessages(accesstest.Owner(n.t), t, part.AnyPartition, []*message.Message{{Key: key, Body: []byte(body)}})
	require.NoError(n.t, err)
}

// Somebody makes a principal that is set so and has a role on a pattern, with those roles that are not built
// in, and returns the context of a test that they ask with.
func (n *Node) Somebody(name string, as setting.Principal, role, on string, made ...*catalog.Role) context.Context {
	n.t.Helper()
	owned := func(name string) catalog.Owned { return catalog.Owned{ID: catalog.NewOwnedID(), Name: name} }
	for _, r := range made {
		r.ID = catalog.NewOwnedID()
	}
	require.NoError(n.t, n.Catalog.NewRights(accesstest.Owner(n.t), nil, catalog.Rights{Roles: made,
		Principals: []*catalog.Principal{{Owned: owned(name), Principal: as}},
		Grants:     []*catalog.Grant{{Owned: owned("g-" + name), Grant: setting.Grant{To: name, Role: role, On: on}}}}))
	return access.As(n.t.Context(), n.Access.Named(name))
}

// Exec runs statements in the node's database, as a person would.
func (n *Node) Exec(statements ...string) {
	n.t.Helper()
	testdb.Exec(n.t, n.config.DatabaseURL, statements...)
}

// DeadLetters makes a queue, coldchain/inspections, all of whose messages are dead letters, of
// one cause.
func (n *Node) DeadLetters(count int) *part.Channel {
	n.t.Helper()
	q := n.Channel(setting.Queue, "coldchain/inspections", setting.Change{"attemptLimit": 1, "backoff": setting.Span{}})
	for i := range count {
		n.Publish(q, 0, fmt.Sprintf(`{"box":"%d"}`, i))
	}
	n.Reject(q, count)
	require.EqualValues(n.t, count, n.Queues.Counts(q).Dead)
	return q
}

// Dir is its data directory.
func (n *Node) Dir() string { return n.config.Dir }

// Reject leases up to so many messages of a queue and rejects them.
func (n *Node) Reject(q *part.Channel, count int) {
	n.t.Helper()
	done, err := n.Queues.Work(accesstest.Owner(n.t), q, queues.Work{Member: "lana", Partition: part.AnyPartition, Max: count, Wait: time.Second})
	require.NoError(n.t, err)
	w := queues.Work{Member: "lana", Partition: part.AnyPartition}
	for _, l := range done.Leased {
		w.Settle = append(w.Settle, queues.Settle{Lease: l.Lease, Outcome: queue.Reject, Reason: "bad-box"})
	}
	_, err = n.Queues.Work(accesstest.Owner(n.t), q, w)
	require.NoError(n.t, err)
}
