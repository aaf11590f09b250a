package queues

import (
	"context"

	"github.com/google/uuid"

	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// Letters returns dead letters that a route is to copy, as they were when they became such,
// by their numbers from one to another one, as far as they fit into an answer. It is asked
// where the partition is led.
func (qs *Queues) Letters(_ context.Context, p *part.Partition, route uuid.UUID, from, to int64) ([]Item, error) {
	m, g := machineOf(p), p.Replica()
	if m == nil || g == nil {
		return nil, peer.NotLed()
	}
	var letters []queue.Letter
	m.look(func(q *queue.Queue) { letters = q.Letters(route, from, to) })
	items := make([]Item, 0, len(letters))
	for size := 0; len(items) < len(letters) && size < itemBytes; {
		item, err := m.letter(g, &letters[len(items)])
		if err != nil {
			return nil, err
		}
		items = append(items, item)
		size += item.Size()
	}
	return items, nil
}

// letter reads what a route is to copy. Its history is the one event that made it a dead
// letter.
func (m *queueMachine) letter(g *replica.Group, l *queue.Letter) (item Item, err error) {
	item.Info = queue.Info{Offset: l.Offset, State: queue.Dead, Due: l.At, Attempts: l.Attempts, Reason: l.Reason, From: l.From, History: []queue.Event{{Kind: queue.Rejected, At: l.At, Reason: l.Reason, Detail: l.Detail}}}
	if l.Content.Index > 0 {
		content, err := m.text(g.Journal(), l.Content)
		if err != nil {
			return item, err
		}
		if item.Message, err = m.unpack(l.Offset, content); err != nil {
			return item, err
		}
	} else {
		item.Message = m.oneOf(g, bytesOf{l.Offset, l.Home, l.Edited})
	}
	item.Details = []string{m.detail(g.Journal(), l.Detail, item.Message)}
	return item, nil
}

// lettersAgain gathers the bytes of letters that are still to be copied.
func (m *queueMachine) lettersAgain(g *replica.Group, ids []queue.LetterID) ([]queue.Carried, error) {
	var out []queue.Carried
	for _, id := range ids {
		var letters []queue.Letter
		m.look(func(q *queue.Queue) { letters = q.Letters(id.Route, id.Number, id.Number+1) })
		if len(letters) == 0 {
			continue // it is sent
		}
		item, err := m.letter(g, &letters[0])
		if err != nil {
			return nil, err
		}
		if item.Message == nil {
			continue
		}
		one := queue.Carried{LetterID: id, Offset: letters[0].Offset, Content: Pack(item.Message)}
		if letters[0].Detail.Index > 0 {
			one.Details = [][]byte{[]byte(item.Details[0])}
		}
		out = append(out, one)
	}
	return out, nil
}
