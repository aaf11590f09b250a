package declares_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/node/nodetest"
	"steadyferry/internal/service/queues"
)

// last is the newest entry of an address with an action.
func last(t *testing.T, n *nodetest.Node, at, action string) *logbook.Row {
	t.Helper()
	rows, err := logbook.Entries(t.Context(), n.Catalog, logbook.Asked{Address: at, Action: action, Outcome: catalog.Done, Limit: 1})
	require.NoError(t, err)
	require.Len(t, rows, 1, "%s of %s", action, at)
	return &rows[0]
}

// What an entry tells is taken back: settings are as they were, also labels, and what was removed is
// there again. Each is an entry of its own, and can be taken back again.
func TestWhatAnEntryTellsIsTakenBack(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	ctx := accesstest.Owner(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", setting.Change{"labels": map[string]string{"team": "logistics"}})
	n.Publish(topic, 0, "{}", "{}")
	undo := func(at, action string) {
		t.Helper()
		e := last(t, n, at, action)
		require.True(t, n.Declares.HasWayBack(e))
		p, err := n.Declares.Undo(ctx, "owner", e.ID, true)
		require.NoError(t, err)
		require.NotEmpty(t, len(p.After)+len(p.Effects), "it says before what it does")
		_, err = n.Declares.Undo(ctx, "owner", e.ID, false)
		require.NoError(t, err)
	}
	record := func() *catalog.Channel { return n.Catalog.View().Channels["coldchain/readings"] }

	_, err := n.Manage.SetChannel(ctx, "owner", topic.Address(), setting.Change{"paused": true, "maxBody": int64(1 << 10), "labels": map[string]string{"team": "", "of": "boxes"}}, nil, false)
	require.NoError(t, err)
	preview, err := n.Declares.Undo(ctx, "owner", last(t, n, "coldchain/readings", "set topic").ID, true)
	require.NoError(t, err)
	assert.Equal(t, false, preview.After["paused"])
	assert.True(t, record().Paused, "a preview does nothing")
	undo("coldchain/readings", "set topic")
	assert.False(t, record().Paused)
	assert.Equal(t, map[string]string{"team": "logistics"}, record().Labels)
	undo("coldchain/readings", "set topic")
	assert.Equal(t, map[string]string{"of": "boxes"}, record().Labels, "and that again")

	_, err = n.Manage.RemoveChannel(ctx, "owner", topic.Address(), false)
	require.NoError(t, err)
	undo("coldchain/readings", "remove topic")
	back, err := n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	assert.EqualValues(t, 2, back.Partitions()[0].Replica().End(), "with its messages")

	_, err = n.Manage.SetSpace(ctx, "owner", "coldchain", setting.Change{"mostChannels": 7, "description": "boxes"}, false)
	require.NoError(t, err)
	undo("coldchain", "set space")
	assert.Equal(t, setting.Room{}, n.Catalog.View().Spaces["coldchain"].Room)

	watch := address.Channel("coldchain", "silent")
	_, err = n.Watches.New(ctx, "owner", watch, setting.Change{"of": "coldchain/*", "value": "silent-for", "warn": "10m"})
	require.NoError(t, err)
	was := n.Catalog.View().Watches["coldchain/silent"].Watch
	_, err = n.Watches.Remove(ctx, "owner", watch, false)
	require.NoError(t, err)
	undo("coldchain/silent", "remove watch")
	assert.Equal(t, was, n.Catalog.View().Watches["coldchain/silent"].Watch)

	require.NoError(t, n.Access.NewPrincipal(ctx, "owner", "ines", setting.Change{"kind": setting.Person}))
	_, err = n.Access.SetPrincipal(ctx, "owner", "ines", setting.Change{"paused": true}, false)
	require.NoError(t, err)
	undo("principals/ines", "set person")
	assert.False(t, n.Catalog.View().Principal("ines").Paused)
	require.NoError(t, n.Access.NewRole(ctx, "owner", "packer", setting.Change{"verbs": []string{"publish", "lease"}}))
	require.NoError(t, n.Access.RemoveRole(ctx, "owner", "packer"))
	undo("roles/packer", "remove role")
	assert.Equal(t, []string{"publish", "lease"}, n.Catalog.View().Roles["roles/packer"].Verbs)
}

// Nothing is taken back that was set again since, that has no way back, or for which whoever asks has
// not the rights; and of entries that may not be seen it is not told that they are there.
func TestNotEverythingIsTakenBack(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	ctx := accesstest.Owner(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	set := func(description string) int64 {
		_, err := n.Manage.SetChannel(ctx, "owner", topic.Address(), setting.Change{"description": description}, nil, false)
		require.NoError(t, err)
		return last(t, n, "coldchain/readings", "set topic").ID
	}
	first, second := set("boxes"), set("warm boxes")
	_, err := n.Declares.Undo(ctx, "owner", first, true)
	assert.ErrorContains(t, err, `description of coldchain/readings was set again since entry`)
	made := last(t, n, "coldchain/readings", "new topic")
	assert.False(t, n.Declares.HasWayBack(made))
	_, err = n.Declares.Undo(ctx, "owner", made.ID, false)
	assert.ErrorContains(t, err, "there is no way back from entry")
	assert.ErrorContains(t, err, "ferry remove coldchain/readings takes away what was made")
	_, err = n.Declares.Undo(ctx, "owner", 1<<40, false)
	assert.ErrorContains(t, err, "there is no entry")

	person := setting.Principal{Kind: setting.Person}
	ines, lana := n.Somebody("ines", person, "viewer", "coldchain"), n.Somebody("lana", person, "viewer", "depot")
	_, err = n.Declares.Undo(ines, "ines", second, false)
	assert.ErrorContains(t, err, "ines may not set coldchain/readings")
	_, err = n.Declares.Undo(lana, "lana", second, false)
	assert.ErrorContains(t, err, "there is no entry")
	_, err = n.Manage.RemoveChannel(ctx, "owner", topic.Address(), false)
	require.NoError(t, err)
	_, err = n.Declares.Undo(ines, "ines", last(t, n, "coldchain/readings", "remove topic").ID, false)
	assert.ErrorContains(t, err, "ines may not undo coldchain/readings")
	_, err = n.Declares.Undo(ctx, "owner", second, false)
	assert.ErrorContains(t, err, "was deleted meanwhile")
	for _, e := range []*logbook.Row{{Action: "set topic", Outcome: catalog.Refused, Before: []byte(`{"paused":true}`)}, {Action: "set topic", Outcome: catalog.Done, Before: []byte(`null`)}, {Action: "", Outcome: catalog.Done}, {Action: "discard dead letters", Outcome: catalog.Done}} {
		assert.False(t, n.Declares.HasWayBack(e), "%+v", e)
	}
}

// What was discarded is brought back from its entry: what that tells, and nothing else; once.
func TestADiscardIsTakenBackFromItsEntry(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	ctx := accesstest.Owner(t)
	q := n.DeadLetters(6)
	discard := func(where string) *logbook.Row {
		t.Helper()
		r, err := n.Queues.Act(ctx, q, queues.Selection{States: []queue.State{queue.Dead}, Where: where}, queues.Action{Op: queue.OpDiscard, Who: "owner", Why: "drill"}, false)
		require.NoError(t, err)
		require.EqualValues(t, 2, r.Messages)
		return last(t, n, "coldchain/inspections", "discard messages")
	}
	first, second := discard(`int(body.box) < 2`), discard(`int(body.box) in [3, 5]`)
	assert.JSONEq(t, `{"0":"3 5"}`, string(fieldOf(t, second, "meant")))
	require.EqualValues(t, 2, n.Queues.Counts(q).Dead)
	require.True(t, n.Declares.HasWayBack(second))
	p, err := n.Declares.Undo(ctx, "owner", second.ID, true)
	require.NoError(t, err)
	assert.EqualValues(t, 2, p.Messages)
	assert.NotEmpty(t, p.Effects)
	require.EqualValues(t, 2, n.Queues.Counts(q).Dead, "a preview does nothing")
	_, err = n.Declares.Undo(ctx, "owner", second.ID, false)
	require.NoError(t, err)
	require.EqualValues(t, 4, n.Queues.Counts(q).Dead)
	_, err = n.Declares.Undo(ctx, "owner", second.ID, false)
	assert.ErrorContains(t, err, "can be brought back: they were already")

	person := setting.Principal{Kind: setting.Person}
	_, err = n.Declares.Undo(n.Somebody("vera", person, "viewer", "coldchain"), "vera", first.ID, false)
	assert.ErrorContains(t, err, "vera may not undo coldchain/inspections")
	_, err = n.Declares.Undo(ctx, "owner", first.ID, false)
	require.NoError(t, err)
	require.EqualValues(t, 6, n.Queues.Counts(q).Dead)

	first.After = []byte(`{"messages":20000,"meant":{"0":"0-9999","more":true}}`)
	assert.False(t, n.Declares.HasWayBack(first), "it does not tell of all")
}

// fieldOf is what an entry tells under a name, as JSON.
func fieldOf(t *testing.T, e *logbook.Row, name string) json.RawMessage {
	t.Helper()
	all := map[string]json.RawMessage{}
	require.NoError(t, json.Unmarshal(e.After, &all))
	return all[name]
}
