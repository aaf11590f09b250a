package client

import (
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
)

// Publisher gathers messages to batches and sends each batch until it is
// known to be kept, exactly once: a batch carries the publisher's id and a
// sequence, by which the service recognises it when it comes again. It is for
// one goroutine.
type Publisher struct {
	// Patience is how long a batch is tried again while no server takes it.
	Patience time.Duration
	// Waiting, if set, is told of each pause before another try.
	Waiting func(err error, wait time.Duration)

	client      *Client
	address     address.Address
	compression message.Compression
	id          uuid.UUID
	lanes       []*lane
	turn        int
}

// lane is the way to one partition.
type lane struct {
	builder  message.Builder
	sequence uint64
}

// Bounds of a batch.
const (
	publishCount = 5000
	publishBytes = 512 << 10
)

// NewPublisher returns a publisher to a topic.
func (c *Client) NewPublisher(ctx context.Context, a address.Address, compression message.Compression) (*Publisher, error) {
	var t Topic
	if err := c.Call(ctx, http.MethodGet, ChannelPath(a), nil, nil, &t); err != nil {
		return nil, err
	}
	p := &Publisher{Patience: 30 * time.Second, client: c, address: a, compression: compression, id: uuid.New(), lanes: make([]*lane, t.Partitions)}
	for i := range p.lanes {
		p.lanes[i] = &lane{sequence: 1}
	}
	p.turn = rand.IntN(len(p.lanes))
	return p, nil
}

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
		if l.builder.Count() > 0 {
			wg.Go(func() { errs[i] = p.send(ctx, i) })
		}
	}
	wg.Wait()
	return errors.Join(errs...)
}

func (p *Publisher) send(ctx context.Context, partition int) error {
	l := p.lanes[partition]
	n := l.builder.Count()
	batch := l.builder.Build(p.compression, &message.Publisher{ID: p.id, Sequence: l.sequence})
	deadline := time.Now().Add(p.Patience)
	pause := 50 * time.Millisecond
	for {
		_, err := p.client.Publish(ctx, p.address, partition, BatchType, nil, batch)
		if err == nil {
			l.sequence += uint64(n)
			return nil
		}
		var refused *Problem
		if ctx.Err() != nil || errors.As(err, &refused) && refused.Status != http.StatusServiceUnavailable || time.Now().After(deadline) {
			return err
		}
		wait := pause/2 + rand.N(pause)
		if p.Waiting != nil {
			p.Waiting(err, wait)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		pause = min(2*pause, 2*time.Second)
	}
}
