package node

import (
	"context"
	"errors"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
)

// Resolve returns the offset that a position stands for in the partition. The
// offset may be behind the end or before the first kept one when the position
// names it.
func (p *Partition) Resolve(pos address.Position, now time.Time) (int64, error) {
	switch pos.Kind {
	case address.First:
		return p.First(), nil
	case address.Last:
		return p.End(), nil
	case address.AtOffset:
		return pos.Offset, nil
	case address.OfGroup:
		return 0, problem(NotFound, "%s has no group %s", p.topic.Address(), pos.Group).field("position").allowed("first, last, offset:N, time:T, ago:D")
	}
	at, _ := pos.TimeAt(now)
	offset, err := p.group.Load().Journal().OffsetAt(at.UnixMicro())
	return min(offset, p.End()), err
}

// Fetched is a stretch of records of one partition.
type Fetched struct {
	Records []byte // as they are stored; empty at the end
	Next    int64  // offset from which to go on
	First   int64  // oldest kept offset
	End     int64  // offset after the last committed message
	Count   int    // messages in Records from the asked offset on
}

// Fetch reads committed records from an offset on into a part of dst, waiting
// up to wait for the first one.
func (n *Node) Fetch(ctx context.Context, p *Partition, offset int64, dst []byte, wait time.Duration) (Fetched, error) {
	g := p.group.Load()
	c := g.Journal().CursorAt(offset)
	chunk, err := c.Read(dst, g.Committed())
	if err == nil && len(chunk) == 0 && wait > 0 && offset <= g.End() {
		signal := make(chan struct{}, 1)
		stop := g.Watch(signal)
		defer stop()
		deadline := time.NewTimer(wait)
		defer deadline.Stop()
		for waiting := true; waiting && len(chunk) == 0 && err == nil; {
			if chunk, err = c.Read(dst, g.Committed()); len(chunk) > 0 || err != nil {
				break
			}
			select {
			case <-signal:
			case <-deadline.C:
				waiting = false
			case <-ctx.Done():
				return Fetched{}, ctx.Err()
			case <-g.Done():
				return Fetched{}, problem(NotFound, "%s was removed", p.topic.Address())
			}
		}
	}
	f := Fetched{Records: chunk, First: p.First(), End: g.End()}
	if err != nil {
		return f, p.readProblem(err)
	}
	f.Next = c.Offset()
	if len(chunk) > 0 {
		f.Count = int(f.Next - offset)
		p.countOut(f.Count, len(chunk))
	} else if offset > f.End {
		return f, problem(Invalid, "%s: offset %d is behind the end", p.Address(), offset).field("from").allowed("up to offset:" + itoa(f.End))
	}
	return f, nil
}

func (p *Partition) countOut(messages, bytes int) {
	p.counters.MessagesOut.Add(int64(messages))
	p.counters.BytesOut.Add(int64(bytes))
}

func (p *Partition) readProblem(err error) error {
	var gone *journal.Gone
	var damage *journal.Damage
	switch {
	case errors.As(err, &gone):
		return problem(Gone, "%s: retention has passed this offset", p.Address()).field("from").allowed("from offset:" + itoa(gone.First) + " on")
	case errors.As(err, &damage):
		at := p.topic.Address().At(p.Number, damage.From)
		return problem(Damaged, "%s: %v", at, damage).next("go on reading from offset:%d", damage.To)
	}
	return err
}

// Message returns one message.
func (n *Node) Message(p *Partition, offset int64) (*message.Stored, error) {
	if end := p.End(); offset >= end {
		allowed := "none: nothing was published yet"
		if end > 0 {
			allowed = itoa(p.First()) + " to " + itoa(end-1)
		}
		return nil, problem(NotFound, "%s has no offset %d yet", p.Address(), offset).field("offset").allowed(allowed)
	}
	g := p.group.Load()
	c := g.Journal().CursorAt(offset)
	chunk, err := c.Read(make([]byte, 64<<10), g.Committed())
	if err != nil {
		return nil, p.readProblem(err)
	}
	var found *message.Stored
	eachRecord(chunk, func(r message.Record) bool {
		if r.Stamp().End() <= offset {
			return true
		}
		err = r.Stored(p.Number, func(s *message.Stored) bool {
			if s.Offset == offset {
				found = keep(s)
				return false
			}
			return true
		})
		return false
	})
	if err == nil && found == nil {
		return nil, problem(NotFound, "%s has no offset %d", p.Address(), offset)
	}
	return found, err
}

// keep copies what a message shares with the buffer it was read from.
func keep(s *message.Stored) *message.Stored {
	k := *s
	k.Body = append([]byte(nil), s.Body...)
	k.Headers = append([]message.Header(nil), s.Headers...)
	return &k
}
