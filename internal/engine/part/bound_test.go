package part_test

import (
	"context"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/access/accesstest"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/node/nodetest"
)

// A publisher's id belongs to the principal that brought it, also after a start: with another one's
// nobody goes on where that is, nor has its batches be taken for repeats.
func TestAPublisherBelongsToItsPrincipal(t *testing.T) {
	t.Parallel()
	n := nodetest.Open(t)
	topic := n.Channel(setting.Topic, "coldchain/readings", nil)
	machine := setting.Principal{Kind: setting.Machine}
	ann, bob := n.Somebody("build-1", machine, "publisher", "*"), n.Somebody("build-2", machine, "publisher", "*")
	id := uuid.New()
	send := func(ctx context.Context, sequence uint64, body string) (part.Receipt, error) {
		at, err := n.Parts.Channel(topic.Address())
		require.NoError(t, err)
		var b message.Builder
		b.Add(&message.Message{Body: []byte(body)})
		batch := b.Build(message.Plain, &message.Publisher{ID: id, Sequence: sequence})
		hold := n.Parts.Hold("test")
		defer hold.Release()
		return n.Parts.PublishBatch(ctx, at, 0, append(make([]byte, message.StampSize), batch...), hold)
	}
	for sequence := uint64(1); sequence <= 3; sequence++ {
		_, err := send(ann, sequence, "hers")
		require.NoError(t, err)
	}
	_, err := send(bob, 4, "his")
	assert.ErrorContains(t, err, "publisher "+id.String()+" is not known here")
	r, err := send(bob, 1, "his")
	require.NoError(t, err)
	assert.False(t, r.Repeat, "it is no repeat of hers")
	assert.EqualValues(t, 3, r.Offset)
	for _, again := range []bool{false, true} {
		if again {
			n.Reopen()
			ann, bob = access.As(t.Context(), n.Access.Named("build-1")), access.As(t.Context(), n.Access.Named("build-2"))
		}
		r, err = send(ann, 3, "hers")
		require.NoError(t, err)
		assert.True(t, r.Repeat)
		assert.EqualValues(t, 2, r.Offset)
		r, err = send(bob, 1, "his")
		require.NoError(t, err)
		assert.True(t, r.Repeat)
		assert.EqualValues(t, 3, r.Offset)
		_, err = send(ann, 9, "hers")
		assert.ErrorContains(t, err, "publisher "+id.String()+" sent sequence 9; the next one here is 4")
	}
	r, err = send(ann, 4, "hers")
	require.NoError(t, err)
	assert.False(t, r.Repeat)

	// Who has published stands with each message, also when they are gone.
	at, err := n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	by := func(offset int64) string {
		story, err := n.Traces.Of(accesstest.Owner(t), at, 0, offset)
		require.NoError(t, err)
		require.Equal(t, "published", story.Steps[0].Event)
		return story.Steps[0].Who
	}
	assert.Equal(t, "build-1", by(0))
	assert.Equal(t, "build-2", by(3))
	numbers := map[uint32]bool{n.Catalog.View().Principal("build-1").Number: true, n.Catalog.View().Principal("build-2").Number: true, n.Catalog.View().Principal("owner").Number: true}
	_, err = n.Access.RemovePrincipal(accesstest.Owner(t), "owner", "build-2", false)
	require.NoError(t, err)
	n.Reopen()
	n.Somebody("build-2", machine, "publisher", "*")
	assert.NotContains(t, numbers, n.Catalog.View().Principal("build-2").Number, "a number is never another's")
	at, err = n.Parts.Channel(topic.Address())
	require.NoError(t, err)
	assert.Equal(t, "build-2", by(3))
	n.Publish(at, 0, "of the service")
	assert.Empty(t, by(5))

	q := n.Channel(setting.Queue, "coldchain/inspections", nil)
	_, err = n.Parts.PublishMessages(access.As(t.Context(), n.Access.Named("build-1")), q, 0, []*message.Message{{Body: []byte("{}")}})
	require.NoError(t, err)
	story, err := n.Traces.Of(accesstest.Owner(t), q, 0, 0)
	require.NoError(t, err)
	assert.Equal(t, "build-1", story.Steps[0].Who)
}
