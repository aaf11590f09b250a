package groups

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// The dead letters of a group of a topic are kept in a queue of the group's
// own, made when the first one comes. A message goes there whole, so that
// retention cannot take it; what returns is leased by the group's members.

// DeadQueue returns the queue of a group, and makes it if there is none.
func (gs *Groups) DeadQueue(ctx context.Context, a address.Address) (*part.Channel, error) {
	t, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	name := a.QueuePart().String()
	if q, err := gs.parts.Named(a, name); err == nil {
		return q, nil
	}
	of := t.Record()
	ch := &catalog.Channel{SpaceID: of.SpaceID, Space: of.Space, Name: strings.TrimPrefix(name, of.Space+"/"), Kind: catalog.KindQueue, GroupID: sql.NullInt64{Int64: g.ID, Valid: true}}
	queues.SetDefaults(&ch.Channel)
	ch.Replicas, ch.MaxBody, ch.Description = of.Replicas, of.MaxBody, "dead letters of the group "+g.Name
	placed, err := gs.cluster.Choose(name, 1, min(ch.Replicas, max(gs.cluster.Usable(), 1)))
	if err != nil {
		return nil, err
	}
	err = gs.catalog.NewChannel(ctx, ch, placed, &catalog.Entry{Who: "ferryd", Action: "new dead letters", Address: name + "/dead", After: map[string]any{"since": "a member rejected its first message"}})
	if err != nil && !errors.Is(err, catalog.ErrExists) {
		return nil, part.Explain(err, name)
	}
	ctx, cancel := context.WithTimeout(ctx, part.ReadyTime)
	defer cancel()
	for {
		q, err := gs.parts.Named(a, name)
		if err == nil {
			gs.parts.WaitReady(ctx, q)
			return q, nil
		}
		if ctx.Err() != nil {
			return nil, err
		}
		gs.catalog.Refresh(ctx)
		select {
		case <-ctx.Done():
		case <-time.After(10 * time.Millisecond):
		}
	}
}

// RejectRead makes a dead letter of the group of a message that a member has
// read. The group goes on; to do it twice keeps it once. It returns the
// address of the dead letter.
func (gs *Groups) RejectRead(ctx context.Context, a address.Address, member string, partition int, offset int64, reason, detail string) (string, error) {
	if err := access.Check(ctx, access.Settle, a.QueuePart().String()); err != nil {
		return "", err
	}
	if reason == "" {
		return "", problem.New(problem.Invalid, "a reason is missing").Field("reason").Allowed("a short code, such as bad-celsius")
	}
	if err := message.CheckReason(reason, detail); err != nil {
		return "", problem.New(problem.TooLarge, "%v", err).Field("detail")
	}
	t, _, err := gs.parts.Group(a)
	if err != nil {
		return "", err
	}
	p, err := t.Partition(partition)
	if err != nil {
		return "", err
	}
	if offset < 0 {
		return "", problem.New(problem.Invalid, "offset %d", offset).Field("offset").Allowed("a whole number from 0")
	}
	s, err := logs.Message(ctx, gs.parts, p, offset, false)
	if err != nil {
		return "", err
	}
	q, err := gs.DeadQueue(ctx, a)
	if err != nil {
		return "", err
	}
	from := t.Address().At(partition, offset).String()
	buried := s.Message
	buried.Terms = &message.Terms{Reason: reason, Detail: detail, By: member, From: from}
	var b message.Builder
	b.Add(&buried)
	to, err := q.Partition(0)
	if err != nil {
		return "", err
	}
	r, err := gs.parts.AppendBuilt(ctx, to, &b, nil)
	if err != nil {
		return "", err
	}
	// The first one counts, if there is one.
	return q.Address().At(0, gs.queues.Origin(ctx, to, from, r.Offset)).String(), nil
}
