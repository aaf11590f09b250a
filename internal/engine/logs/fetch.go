package logs

import (
	"context"
	"errors"
	"strconv"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/part"
)

// Resolve returns the offset that a position stands for in the log. The
// offset may be behind the end or before the first kept one when the position
// names it.
func Resolve(ctx context.Context, reg *part.Registry, p *part.Partition, l Log, pos address.Position, now time.Time) (int64, error) {
	switch pos.Kind {
	case address.First:
		return l.First(), nil
	case address.End:
		return l.End(), nil
	case address.AtOffset:
		return pos.Offset, nil
	case address.OfGroup:
		offsets, err := reg.OffsetsOf(ctx, p.Channel, pos.Group)
		return max(offsets[p.Number], l.First()), err
	}
	at, _ := pos.TimeAt(now)
	return l.OffsetAt(at.UnixMicro())
}

// Fetched is a stretch of records of one partition.
type Fetched struct {
	Records []byte // as they are stored; empty at the end
	Next    int64  // offset from which to go on
	First   int64  // oldest kept offset
	End     int64  // offset after the last committed message
	Count   int    // messages in Records from the asked offset on
}

// Fetch is a reading of one partition from a position on.
type Fetch struct {
	reg       *part.Registry
	partition *part.Partition
	log       Log
	offset    int64
}

// OpenFetch finds where a fetch begins; any lets it read from a replica that
// may be behind.
func OpenFetch(ctx context.Context, reg *part.Registry, p *part.Partition, from address.Position, any bool) (*Fetch, error) {
	l, err := Open(ctx, reg, p, any)
	if err != nil {
		return nil, err
	}
	offset, err := Resolve(ctx, reg, p, l, from, time.Now())
	return &Fetch{reg: reg, partition: p, log: l, offset: offset}, err
}

// Offset returns where the fetch begins.
func (f *Fetch) Offset() int64 { return f.offset }

// Read reads committed records into a part of dst, waiting up to wait for the
// first one.
func (f *Fetch) Read(ctx context.Context, dst []byte, wait time.Duration) (Fetched, error) {
	p, l := f.partition, f.log
	if wait > 0 && f.offset >= l.End() {
		err := l.Wait(ctx, f.offset, wait)
		if errors.Is(err, part.ErrMoved) {
			return Fetched{}, problem.New(problem.Unavailable, "%s: %v", p.Address(), err).Next("try again; if the topic was removed, that is said then")
		}
		if err != nil {
			return Fetched{}, err
		}
	}
	r := l.Reader(f.offset)
	chunk, err := r.Read(dst)
	out := Fetched{Records: chunk, First: l.First(), End: l.End(), Next: r.Offset()}
	if err != nil {
		return out, p.ReadProblem(err)
	}
	if len(chunk) > 0 {
		out.Count = int(out.Next - f.offset)
	} else if f.offset > out.End {
		return out, problem.New(problem.Invalid, "%s: offset %d is behind the end", p.Address(), f.offset).Field("from").Allowed("up to offset:" + strconv.FormatInt(out.End, 10))
	}
	return out, nil
}

// Delivered counts what was read and goes to the reader.
func (f *Fetch) Delivered(out Fetched) { f.partition.CountOut(out.Count, len(out.Records)) }

// Message returns one message.
func Message(ctx context.Context, reg *part.Registry, p *part.Partition, offset int64, any bool) (*message.Stored, error) {
	l, err := Open(ctx, reg, p, any)
	if err != nil {
		return nil, err
	}
	if end := l.End(); offset >= end {
		allowed := "none: nothing was published yet"
		if end > 0 {
			allowed = strconv.FormatInt(l.First(), 10) + " to " + strconv.FormatInt(end-1, 10)
		}
		return nil, problem.New(problem.NotFound, "%s has no offset %d yet", p.Address(), offset).Field("offset").Allowed(allowed)
	}
	chunk, err := l.Reader(offset).Read(make([]byte, 64<<10))
	if err != nil {
		return nil, p.ReadProblem(err)
	}
	var found *message.Stored
	_, err = EachMessage(ctx, chunk, p.Number, offset, reg.RoomToDecode, func(m *message.Stored) (bool, error) {
		if m.Offset == offset {
			found = Keep(m)
		}
		return false, nil
	})
	if err == nil && found == nil {
		return nil, problem.New(problem.NotFound, "%s has no offset %d", p.Address(), offset)
	}
	return found, err
}

// Keep copies what a message shares with the buffer it was read from.
func Keep(s *message.Stored) *message.Stored { return s.Shorten(len(s.Body)) }
