package trace

import (
	"context"
	"fmt"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/routes"
)

// maxHops bounds how far a message is followed, in either direction.
const maxHops = routes.MaxHops

// cameFrom follows a message back through the routes that sent it, as far as what
// they sent it from is kept.
func (ts *Traces) cameFrom(ctx context.Context, tr *Story, m *message.Stored) {
	for range maxHops {
		if m == nil {
			return
		}
		from, routed := m.Header(message.HeaderRouteFrom)
		if !routed {
			return
		}
		tr.Copies = append(tr.Copies, from)
		a, err := address.Parse(from)
		if err != nil {
			return
		}
		t, err := ts.parts.Channel(a)
		if err != nil {
			return
		}
		p, err := t.Partition(a.Partition)
		if err != nil {
			return
		}
		if m, err = logs.Message(ctx, ts.parts, p, a.Offset, false); err != nil {
			return // it is gone
		}
		publisher, err := ts.publisherOf(ctx, p, a.Offset)
		if err != nil {
			return
		}
		at := &Story{Address: from}
		at.published(access.Sight(ctx, access.SeeContent, t.Record().Address()).Show(m), ts.publishers.By(ctx, m), publisher)
		tr.Steps = append(tr.Steps, at.Steps...)
	}
}

// goesTo follows a message on through routes.
func (ts *Traces) goesTo(ctx context.Context, t *part.Channel, tr *Story, m *message.Stored, depth int) {
	ctx, cancel := context.WithTimeout(ctx, copyTime)
	defer cancel()
	hops, err := ts.routes.Follow(ctx, t, m)
	if err != nil || depth == 0 {
		return
	}
	from := t.Address().At(m.Partition, m.Offset).String()
	whole := access.Sight(ctx, access.SeeContent, t.Record().Address()).Whole()
	for _, h := range hops {
		s := Step{Address: from, Event: h.Outcome, Who: h.Route.String()}
		if whole { // why an edit does not fit tells of the message
			s.Reason = h.Why
		}
		copied := ts.copyOf(ctx, h, from, m)
		if copied == nil {
			tr.Steps = append(tr.Steps, s)
			continue
		}
		if h.Outcome == routes.Outside {
			if s.Event = routes.Buried; copied.Terms != nil {
				s.Reason = copied.Terms.Reason
			}
		}
		s.At, s.Address = copied.StoredAt, h.To.Channel.Address().At(copied.Partition, copied.Offset).String()
		tr.Copies = append(tr.Copies, s.Address)
		tr.Steps = append(tr.Steps, s)
		if h.Outcome == routes.Sent && !h.To.Channel.IsQueue() {
			ts.goesTo(ctx, h.To.Channel, tr, copied, depth-1)
		}
	}
}

// mostCopies bounds the copies of a dead letter that are looked for: one each time that it
// became one.
const mostCopies = 20

// sentOn tells where routes of a queue have sent a message of it: that which took it, and
// those that copied it when it became a dead letter.
func (ts *Traces) sentOn(ctx context.Context, t *part.Channel, tr *Story, m *message.Stored) {
	if m == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, copyTime)
	defer cancel()
	for _, g := range ts.catalog.View().Routes[t.ID] {
		target := ts.parts.ByID(g.Route.Target)
		if target == nil {
			continue // it leads to an endpoint
		}
		by := part.GroupAddress(t, g.Name).String()
		where := fmt.Sprintf("headers[%q] == %q && headers[%q] == %q", message.HeaderRouteFrom, tr.Address, message.HeaderRoute, by)
		for _, c := range ts.find(ctx, look.Selection{Topic: target, Limit: mostCopies}, m.StoredAt.Add(-time.Minute), where) {
			tr.copied(target, c, Step{Event: routes.Sent, Who: by})
		}
	}
}

// find returns the messages of a selection that are stored since a time and match a
// condition. What is not found before ctx ends, or what is not kept any more, is left out.
func (ts *Traces) find(ctx context.Context, sel look.Selection, since time.Time, condition string) (found []*message.Stored) {
	where, err := expr.Compile(condition)
	if err != nil {
		return nil
	}
	sel.From, sel.To, sel.Where = address.Position{Kind: address.AtTime, Time: since}, address.Position{Kind: address.End}, where
	// Where copies are is no content: those that may not be seen are left out of the story.
	_ = ts.look.Browse(access.As(ctx, access.Node("trace")), sel, func(e look.Event) error {
		if e.Message != nil {
			found = append(found, logs.Keep(e.Message))
		}
		return nil
	})
	return found
}

// copied adds a copy of the message to its story, with the step that made it.
func (tr *Story) copied(target *part.Channel, m *message.Stored, s Step) {
	s.At, s.Address = m.StoredAt, target.Address().At(m.Partition, m.Offset).String()
	tr.Copies, tr.Steps = append(tr.Copies, s.Address), append(tr.Steps, s)
}

// copyOf finds what a route has made of the message at an address; nil when it is
// not found in time, or not kept any more.
func (ts *Traces) copyOf(ctx context.Context, h routes.Hop, from string, m *message.Stored) *message.Stored {
	if h.To == nil || h.Outcome == routes.Outside && m.ID == "" {
		return nil
	}
	condition := fmt.Sprintf("headers[%q] == %q", message.HeaderRouteFrom, from)
	if h.Outcome != routes.Sent {
		condition = fmt.Sprintf("id == %q", m.ID)
	}
	for _, c := range ts.find(ctx, look.Selection{Topic: h.To.Channel, Partitions: []int{h.To.Number}, Limit: 1}, m.StoredAt.Add(-time.Minute), condition) {
		return c
	}
	return nil
}
