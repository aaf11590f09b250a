package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"sync"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/words"
)

// Publisher gathers messages to batches and sends each batch until it is
// known to be kept, exactly once: a batch carries the publisher's id and a
// sequence, by which the service recognises it when it comes again. A batch
// whose outcome is not known when an error is returned stays with the
// publisher: the next Add or Flush sends the same bytes again first, so that
// it is kept once, and no other batch takes its sequence. It is for one
// goroutine.
type Publisher struct {
	// Patience is how long a batch is tried again while no server takes it.
	Patience time.Duration
	// Waiting, if set, is told of each pause before another try.
	Waiting func(err error, wait time.Duration)

	client      *Client
	address     address.Address
	compression message.Compression
	lanes       []*lane
	turn        int
}

// lane is the way to one partition.
type lane struct {
	builder  message.Builder
	id       uuid.UUID // of the publisher there
	sequence uint64
	unclear  []byte // a batch that was sent, and of which it is not known whether it is kept
	count    int    // messages in it
}

// Bounds of a batch.
const (
	publishCount = 5000
	publishBytes = 512 << 10
)

// NewPublisher returns a publisher to a topic.
func (c *Client) NewPublisher(ctx context.Context, a address.Address, compression message.Compression) (*Publisher, error) {
	var t Channel
	if err := c.Call(ctx, http.MethodGet, ChannelPath(a), nil, nil, &t); err != nil {
		return nil, err
	}
	p := &Publisher{Patience: 30 * time.Second, client: c, address: a, compression: compression, lanes: make([]*lane, t.Partitions)}
	for i := range p.lanes {
		p.lanes[i] = &lane{id: uuid.New(), sequence: 1}
	}
	p.turn = rand.IntN(len(p.lanes))
	return p, nil
}

// AnyPartition leaves the choice of a partition to the key, or to the publisher.
const AnyPartition = -1

// Add puts a message into a batch: into that of the partition, when it is not
// negative, of its key's partition, or else of one that changes with every
// batch. A batch that is full is sent.
func (p *Publisher) Add(ctx context.Context, m *message.Message, partition int) error {
	if err := m.Check(message.MaxBody); err != nil {
		return err
	}
	keyless := false
	switch {
	case partition >= len(p.lanes):
		return fmt.Errorf("%s has no partition %d; allowed: 0 to %d", p.address, partition, len(p.lanes)-1)
	case partition < 0 && m.Key != "":
		partition = message.PartitionOf(m.Key, len(p.lanes))
	case partition < 0:
		partition, keyless = p.turn, true
	}
	l := p.lanes[partition]
	l.builder.Add(m)
	if l.builder.Count() < publishCount && l.builder.Size() < publishBytes {
		return nil
	}
	if keyless {
		p.turn = (p.turn + 1) % len(p.lanes)
	}
	return p.send(ctx, partition)
}

// Flush sends what has been gathered.
func (p *Publisher) Flush(ctx context.Context) error {
	p.turn = (p.turn + 1) % len(p.lanes)
	var wg sync.WaitGroup
	errs := make([]error, len(p.lanes))
	for i, l := range p.lanes {
		if l.builder.Count() > 0 || l.unclear != nil {
			wg.Go(func() { errs[i] = p.send(ctx, i) })
		}
	}
	wg.Wait()
	return errors.Join(errs...)
}

// Unclear returns how many messages were sent of which it is not known whether
// they are kept.
func (p *Publisher) Unclear() (n int) {
	for _, l := range p.lanes {
		n += l.count
	}
	return n
}

func (p *Publisher) send(ctx context.Context, partition int) error {
	l := p.lanes[partition]
	if l.unclear != nil {
		if err := p.try(ctx, partition, l.unclear, l.count, true); err != nil {
			return err
		}
		l.unclear, l.count = nil, 0
	}
	n := l.builder.Count()
	if n == 0 {
		return nil
	}
	return p.try(ctx, partition, l.builder.Build(p.compression, &message.Publisher{ID: l.id, Sequence: l.sequence}), n, false)
}

// try sends a batch until it is kept or refused, for as long as the publisher
// has patience. unclear says that it may be kept already.
func (p *Publisher) try(ctx context.Context, partition int, batch []byte, n int, unclear bool) error {
	l := p.lanes[partition]
	deadline := time.Now().Add(p.Patience)
	pause := 50 * time.Millisecond
	for {
		_, err := p.client.Publish(ctx, p.address, partition, BatchType, nil, batch)
		if err == nil {
			l.sequence += uint64(n)
			return nil
		}
		var refused *Problem
		if errors.As(err, &refused) && refused.Status != http.StatusServiceUnavailable && refused.Status != http.StatusTooManyRequests {
			if unclear {
				// An earlier try may have been kept: what follows goes under
				// another id, so that it is not taken for it.
				l.id, l.sequence, l.unclear, l.count = uuid.New(), 1, nil, 0
				return fmt.Errorf("%s not known to be kept: %w", words.Many(n, "message is", "messages are"), err)
			}
			return err
		}
		wait := pause/2 + rand.N(pause)
		if refused != nil && refused.Status == http.StatusTooManyRequests {
			wait = max(wait, time.Duration(refused.RetryAfter)*time.Second)
		} else {
			unclear = true
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			if l.unclear == nil {
				l.unclear, l.count = bytes.Clone(batch), n
			}
			return err
		}
		if p.Waiting != nil {
			p.Waiting(err, wait)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		pause = min(2*pause, 2*time.Second)
	}
}
