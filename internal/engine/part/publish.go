package part

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/route"
)

// Bounds of the bytes of batches that a node has in hand at once; publishers
// wait beyond them.
const (
	publishBytes   = 192 << 20
	publishReserve = 32 << 20  // of them for small requests
	publishShare   = 128 << 20 // for the large requests of one caller
)

// Bounds of what is on its way into logs while several spaces publish through this node, and for how
// long a space counts that publishes no more. The smaller the room, the less is before what
// another space brings; a disk still has always something to do.
const (
	fairRoom  = 512 << 10
	fairLeast = 32 << 10
	fairFor   = 4 * time.Second
)

// AnyPartition leaves the choice of the partition to the service: by the key,
// or in turn.
const AnyPartition = -1

// Receipt is the answer to a published batch.
type Receipt struct {
	Partition int
	Offset    int64 // of the first message; -1 for a repeat too old to be remembered
	Count     int   // messages in the log, without dropped repeats
	Time      time.Time
	Repeat    bool // the batch was in the log already
	Dropped   int  // messages left out because their id came before

	// Of a batch that a route sends: nothing of it was kept.
	Behind *route.NotBehind `json:",omitempty"` // it does not belong behind what is there
	Ended  bool             `json:",omitempty"` // the route has ended
}

// Accepts says why the topic takes no messages now.
func (reg *Registry) Accepts(t *Channel) error {
	if t.Record().Paused {
		return problem.New(problem.Paused, "%s is paused: nothing can be published, reading goes on", t.Address()).Next("end the pause with: ferry set %s -paused=false", t.Address())
	}
	if !reg.Serving() {
		return problem.New(problem.Unavailable, "the node is stopping").Next("try again in a moment")
	}
	return nil
}

// Hold is what a request has in hand of what a caller sends.
type Hold struct{ *admit.Hold }

// Hold begins to count the bytes that a request of a caller has in hand.
func (reg *Registry) Hold(who string) Hold { return Hold{reg.inHand.Hold(who)} }

// Grow waits until the request may have so many bytes more in hand.
func (h Hold) Grow(ctx context.Context, bytes int64) error {
	if h.GrowNow(bytes) {
		return nil // without the cost of a deadline
	}
	ctx, cancel := context.WithTimeout(ctx, holdTime)
	defer cancel()
	if h.Hold.Grow(ctx, bytes) != nil {
		return problem.New(problem.Unavailable, "the node has too much in hand for %d bytes more", bytes).Next("try again in a moment; smaller requests find room sooner")
	}
	return nil
}

// holdTime is how long a request waits for the node to have room for it.
const holdTime = 10 * time.Second

// verify checks a batch. What it has before compression counts as in hand
// meanwhile.
func (reg *Registry) verify(ctx context.Context, hold Hold, batch message.Batch, maxBody int64) error {
	if batch.Compression() != message.Plain {
		whole := Hold{hold.Also()}
		if err := whole.Grow(ctx, int64(batch.RawSize())); err != nil {
			return err
		}
		defer whole.Release()
	}
	return batch.Verify(maxBody)
}

// PublishBatch appends a batch as it was encoded, which the hold has in hand.
// Data has message.StampSize bytes of room before the batch.
func (reg *Registry) PublishBatch(ctx context.Context, t *Channel, partition int, data []byte, hold Hold) (Receipt, error) {
	batch, err := reg.checked(ctx, t, data, hold)
	if err != nil {
		return Receipt{}, err
	}
	if partition == AnyPartition {
		partition = t.NextTurn()
	}
	p, err := t.Partition(partition)
	if err != nil {
		return Receipt{}, err
	}
	return reg.Append(ctx, p, data, batch)
}

// PublishCopy appends a batch that a route of another cluster sends, as PublishBatch
// does, if it belongs directly behind what the partition has from there. Else behind
// tells what it has.
func (reg *Registry) PublishCopy(ctx context.Context, t *Channel, partition int, data []byte, sent *message.Route, hold Hold) (behind *route.NotBehind, err error) {
	batch, err := reg.checked(ctx, t, data, hold)
	if err != nil {
		return nil, err
	}
	p, err := t.Partition(partition)
	if err != nil {
		return nil, err
	}
	return reg.AppendRouted(ctx, p, batch, sent)
}

// checked reads a batch that a caller has sent to a channel, and says why it is not
// taken.
func (reg *Registry) checked(ctx context.Context, t *Channel, data []byte, hold Hold) (message.Batch, error) {
	if err := access.Check(ctx, access.Publish, t.Record().Address()); err != nil {
		return message.Batch{}, err
	}
	if err := reg.Accepts(t); err != nil {
		return message.Batch{}, err
	}
	batch, err := message.OpenBatch(data[message.StampSize:])
	if err == nil {
		err = reg.verify(ctx, hold, batch, t.Record().MaxBody)
	}
	if err == nil && batch.HasTerms() {
		err = t.termsOf(batch)
	}
	if err == nil && (batch.Route() != nil || batch.Publisher() != nil && batch.Publisher().Origin) {
		err = fmt.Errorf("%w: flags 4 and 8 are for jobs and routes of the service", message.ErrBatch)
	}
	if err != nil {
		if errors.Is(err, message.ErrTooLarge) {
			return batch, Explain(err, t.Address().String())
		}
		if errors.As(err, new(*problem.Problem)) {
			return batch, err
		}
		return batch, problem.New(problem.Invalid, "%v", err).Field("batch").Next("nothing of it was kept; docs/formats.md describes a batch")
	}
	return batch, nil
}

// PublishMessages appends messages: those with a key to its partition, the
// others together to the partition named or the next in turn. It returns how
// many of them, counted from the first, are kept; with an error later ones
// may be kept too, in other partitions.
func (reg *Registry) PublishMessages(ctx context.Context, t *Channel, partition int, messages []*message.Message) ([]Receipt, error) {
	if err := access.Check(ctx, access.Publish, t.Record().Address()); err != nil {
		return nil, err
	}
	if err := reg.Accepts(t); err != nil {
		return nil, err
	}
	count := len(t.Partitions())
	if partition != AnyPartition {
		if _, err := t.Partition(partition); err != nil {
			return nil, err
		}
	}
	maxBody := t.Record().MaxBody
	builders := map[int]*message.Builder{}
	keyless := AnyPartition
	for i, m := range messages {
		if err := m.Check(maxBody); err != nil {
			if errors.Is(err, message.ErrTooLarge) {
				return nil, Explain(fmt.Errorf("message %d: %w", i+1, err), t.Address().String())
			}
			return nil, problem.New(problem.Invalid, "message %d: %v", i+1, err)
		}
		if err := t.allows(m); err != nil {
			return nil, err
		}
		to := partition
		if to == AnyPartition {
			if m.Key != "" {
				to = message.PartitionOf(m.Key, count)
			} else {
				if keyless == AnyPartition {
					keyless = t.NextTurn()
				}
				to = keyless
			}
		}
		b := builders[to]
		if b == nil {
			b = &message.Builder{}
			builders[to] = b
		}
		b.Add(m)
	}
	return reg.appendAll(ctx, t, builders)
}

// AppendBuilt appends what a builder has, of a publisher (nil: of none), as Append does.
func (reg *Registry) AppendBuilt(ctx context.Context, p *Partition, b *message.Builder, of *message.Publisher) (Receipt, error) {
	encoded := b.Build(message.Plain, of)
	data := append(make([]byte, message.StampSize, message.StampSize+len(encoded)), encoded...)
	batch, err := message.OpenBatch(data[message.StampSize:])
	if err != nil {
		return Receipt{}, err
	}
	return reg.Append(ctx, p, data, batch)
}

// appendAll appends one batch to each of several partitions at once.
func (reg *Registry) appendAll(ctx context.Context, t *Channel, builders map[int]*message.Builder) ([]Receipt, error) {
	var (
		wg       sync.WaitGroup
		mu       sync.Mutex
		receipts []Receipt
		errs     []error
	)
	for number, b := range builders {
		p, err := t.Partition(number)
		if err != nil {
			return nil, err
		}
		one := func() {
			r, err := reg.AppendBuilt(ctx, p, b, nil)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				errs = append(errs, err)
			} else {
				receipts = append(receipts, r)
			}
		}
		if len(builders) == 1 {
			one()
		} else {
			wg.Go(one)
		}
	}
	wg.Wait()
	if len(errs) > 0 {
		return receipts, errs[0]
	}
	return receipts, nil
}
