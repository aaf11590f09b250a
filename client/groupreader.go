package client

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"sync"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
)

// GroupReader reads a topic as a member of a group: it keeps the membership,
// reads the partitions of its share straight from their leaders, and gives a
// partition up only when what it handed out of it is committed.
type GroupReader struct {
	client  *Client
	address address.Address
	options ReadOptions
	member  *Member
	events  chan Batch

	mu    sync.Mutex
	made  bool
	parts map[int]*readPart
	err   error
	dirty chan struct{}
	stop  context.CancelFunc
	wg    sync.WaitGroup
}

// ReadOptions of a GroupReader.
type ReadOptions struct {
	JoinGroup
	Timeout  time.Duration     // 15s
	MaxBytes int               // of one fetch; 1 MiB
	Changed  func(*Membership) // is told each share; may be nil
	// Refused is told of partitions whose commit was refused, since others
	// read them now; may be nil.
	Refused func(partition int, err error)
}

// Batch is a stretch of one partition. Call Done or Commit when it is processed.
type Batch struct {
	Partition int
	Records   []byte // as they are stored: see message.ReadRecord
	Next      int64  // offset after the last message
	From      int64  // messages below it, at the start of Records, belong to the batch before
	Lost      int64  // messages before it that retention took unread
	// Delivery is set for one message that came back from the dead letters of
	// the group, or was sent again to the group alone. The rest is empty then.
	Delivery *Delivery
	part     *readPart
}

// readPart is a partition that is being read.
type readPart struct {
	number int
	round  uint64
	cancel context.CancelFunc
	out    int   // batches that are handed out and not done
	done   int64 // offset up to which batches are processed
	saved  int64 // of it, what is committed or refused
	left   bool  // to be given up once nothing is out
}

// MemberTimeout is the timeout of a member that asks for none.
const MemberTimeout = 15 * time.Second

// ReadGroup joins a group and begins to read.
func (c *Client) ReadGroup(ctx context.Context, a address.Address, o ReadOptions) (*GroupReader, error) {
	if o.Timeout == 0 {
		o.Timeout = MemberTimeout
	}
	if o.MaxBytes == 0 {
		o.MaxBytes = 2 << 20
	}
	o.JoinGroup.Timeout = o.Timeout.String()
	r := &GroupReader{client: c, address: a, options: o, events: make(chan Batch), parts: map[int]*readPart{}, dirty: make(chan struct{}, 1)}
	var err error
	if r.member, err = c.Join(ctx, a, o.JoinGroup); err != nil {
		return nil, err
	}
	r.made = r.member.Share().Made
	run, stop := context.WithCancel(context.WithoutCancel(ctx))
	r.stop = stop
	r.follow(run)
	r.wg.Go(func() { r.beat(run) })
	r.wg.Go(func() { r.commits(run) })
	r.wg.Go(func() { r.returned(run) })
	return r, nil
}

// Made reports whether joining made the group.
func (r *GroupReader) Made() bool { return r.made }

// Next returns the next batch of any partition.
func (r *GroupReader) Next(ctx context.Context) (Batch, error) {
	select {
	case b, ok := <-r.events:
		if !ok {
			return Batch{}, r.failure()
		}
		return b, nil
	case <-ctx.Done():
		return Batch{}, ctx.Err()
	}
}

func (r *GroupReader) failure() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// Commit records that a batch is processed, and waits for it. It is refused when
// the partition was taken away meanwhile (Is "not-held", "old-round" or
// "no-member"): others read those messages again.
func (r *GroupReader) Commit(ctx context.Context, b Batch) error {
	if b.Delivery != nil {
		return r.settle(ctx, Settlement{Lease: b.Delivery.Lease, Outcome: OutcomeAccept})
	}
	err := r.member.CommitAs(ctx, b.part.round, []OffsetOf{{Partition: b.Partition, Offset: b.Next}})
	r.finish(b, true)
	return err
}

// Done says that a batch is processed. With commit it is recorded soon, together
// with others, while the next ones are being read.
func (r *GroupReader) Done(b Batch, commit bool) {
	if b.Delivery != nil {
		if commit {
			r.wg.Go(func() {
				ctx, cancel := context.WithTimeout(context.Background(), settleTime)
				defer cancel()
				r.settle(ctx, Settlement{Lease: b.Delivery.Lease, Outcome: OutcomeAccept})
			})
		}
		return
	}
	r.finish(b, !commit)
	select {
	case r.dirty <- struct{}{}:
	default:
	}
}

// Reject sets a message of a batch aside as a dead letter of the group: its
// content waits there, and the group goes on. The batch is done as any other.
func (r *GroupReader) Reject(ctx context.Context, b Batch, offset int64, reason, detail string) error {
	if b.Delivery != nil {
		return r.settle(ctx, Settlement{Lease: b.Delivery.Lease, Outcome: OutcomeReject, Reason: reason, Detail: detail})
	}
	return r.member.Reject(ctx, Reject{Partition: b.Partition, Offset: offset, Reason: reason, Detail: detail})
}

const (
	settleTime   = 15 * time.Second
	noDeadLetter = 5 * time.Second // after which it is asked again whether the group has dead letters
)

func (r *GroupReader) settle(ctx context.Context, s Settlement) error {
	_, err := r.client.Work(ctx, r.address, WorkRequest{Member: r.name(), Settle: []Settlement{s}})
	return err
}

// returned leases what came back to the group, one message at a time.
func (r *GroupReader) returned(ctx context.Context) {
	for ctx.Err() == nil {
		pause := noDeadLetter
		if !r.member.Share().Paused {
			answer, err := r.client.Work(ctx, r.address, WorkRequest{Member: r.name(), Max: 1, Wait: "25s"})
			if err == nil {
				pause = 0
				for i := range answer.Leased {
					d := form.DeliveryOf(r.address, &answer.Leased[i])
					select {
					case r.events <- Batch{Partition: d.Partition, Delivery: &d}:
					case <-ctx.Done():
						return
					}
				}
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

func (r *GroupReader) finish(b Batch, saved bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	b.part.out--
	b.part.done = max(b.part.done, b.Next)
	if saved {
		b.part.saved = b.part.done
	}
}

// commits records what is done, again and again.
func (r *GroupReader) commits(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.dirty:
		case <-time.After(200 * time.Millisecond): // what failed before
		}
		r.commitDone(ctx)
	}
}

// commitDone records what is done and not yet recorded.
func (r *GroupReader) commitDone(ctx context.Context) error {
	r.mu.Lock()
	parts := map[uint64][]*readPart{} // by the round in which they were given
	offsets := map[*readPart]int64{}
	for _, p := range r.parts {
		if p.done > p.saved {
			parts[p.round] = append(parts[p.round], p)
			offsets[p] = p.done
		}
	}
	r.mu.Unlock()
	var errs []error
	for round, list := range parts {
		commit := make([]OffsetOf, len(list))
		for i, p := range list {
			commit[i] = OffsetOf{Partition: p.number, Offset: offsets[p]}
		}
		err := r.member.CommitAs(ctx, round, commit)
		if refused(err) && len(list) > 1 {
			// One that is refused must not take the others with it.
			for i, p := range list {
				r.saved(p, offsets[p], r.member.CommitAs(ctx, round, commit[i:i+1]))
			}
			continue
		}
		for _, p := range list {
			r.saved(p, offsets[p], err)
		}
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}

// saved notes that an offset is recorded, or refused for good.
func (r *GroupReader) saved(p *readPart, offset int64, err error) {
	if problem, ok := asProblem(err); err != nil && (!ok || problem.Status >= 500) {
		return // it is tried again
	}
	r.mu.Lock()
	p.saved = max(p.saved, offset)
	r.mu.Unlock()
	if err != nil && r.options.Refused != nil {
		r.options.Refused(p.number, err)
	}
}

func refused(err error) bool {
	return Is(err, "not-held") || Is(err, "old-round") || Is(err, "no-member")
}

// Close leaves the group.
func (r *GroupReader) Close(ctx context.Context) error {
	r.stop()
	go func() {
		for range r.events { // whoever hands out a batch ends
		}
	}()
	r.wg.Wait()
	committed := r.commitDone(ctx)
	err := r.member.Leave(ctx)
	if Is(err, "no-member") {
		err = nil
	}
	if refused(committed) {
		committed = nil // was told
	}
	return errors.Join(committed, err)
}

// beat keeps the membership and follows its share.
func (r *GroupReader) beat(ctx context.Context) {
	defer func() {
		r.mu.Lock()
		for _, p := range r.parts {
			p.cancel()
		}
		r.mu.Unlock()
		go func() {
			r.wg.Wait()
			close(r.events)
		}()
	}()
	for {
		wait := r.options.Timeout / 4
		r.mu.Lock()
		var holds []int
		leaving := false
		for n, p := range r.parts {
			holds = append(holds, n)
			leaving = leaving || p.left
		}
		r.mu.Unlock()
		if leaving {
			wait = leavingWait // what it gives up others wait for
		}
		// A node that was stopped in its tracks says nothing: another one is
		// asked while the timeout lasts.
		asking, cancel := context.WithTimeout(ctx, wait+r.options.Timeout/4)
		err := r.member.Beat(asking, holds, wait)
		if asking.Err() != nil && ctx.Err() == nil {
			r.client.failed(r.client.Server(), "")
		}
		cancel()
		switch {
		case ctx.Err() != nil:
			r.fail(context.Canceled)
			return
		case Is(err, "no-member"):
			// What it held belongs to others now.
			r.dropAll()
			member, joinErr := r.client.Join(ctx, r.address, r.options.JoinGroup)
			if joinErr != nil {
				if p, ok := asProblem(joinErr); ok && p.Status < 500 && p.Status != http.StatusTooManyRequests {
					r.fail(joinErr)
					return
				}
				pause(ctx, 200*time.Millisecond)
				continue
			}
			r.member.take(member.Share())
		case err != nil:
			if p, ok := asProblem(err); ok && p.Status < 500 && p.Status != http.StatusTooManyRequests {
				r.fail(err)
				return
			}
			pause(ctx, 100*time.Millisecond)
			continue
		}
		r.follow(ctx)
	}
}

// leavingWait is how often a member says what it still holds of what it is to
// give up.
const leavingWait = 100 * time.Millisecond

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

func asProblem(err error) (*Problem, bool) {
	var p *Problem
	ok := errors.As(err, &p)
	return p, ok
}

func (r *GroupReader) fail(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.err == nil {
		r.err = err
	}
}

// follow begins and ends the reading of partitions by the share.
func (r *GroupReader) follow(ctx context.Context) {
	r.mu.Lock()
	defer r.mu.Unlock()
	m := r.member.Share()
	if r.options.Changed != nil {
		r.options.Changed(&m)
	}
	have := map[int]Held{}
	for _, h := range m.Partitions {
		if !m.Paused {
			have[h.Partition] = h
		}
	}
	for n, p := range r.parts {
		if h, ok := have[n]; ok && h.Round == p.round && !p.left {
			delete(have, n)
			continue
		}
		if !p.left {
			p.left = true
			p.cancel()
		}
		if _, again := have[n]; !again && !slices.Contains(m.Leaving, n) || p.out == 0 && p.done == p.saved {
			delete(r.parts, n) // taken away, or nothing of it is in hand
		} else {
			delete(have, n) // not again before what is in hand is done
		}
	}
	for n, h := range have {
		run, cancel := context.WithCancel(ctx)
		p := &readPart{number: n, round: h.Round, cancel: cancel, done: h.Offset, saved: h.Offset}
		r.parts[n] = p
		r.wg.Go(func() { r.read(run, p, h.Offset) })
	}
}

// dropAll ends the reading of all partitions.
func (r *GroupReader) dropAll() {
	r.mu.Lock()
	defer r.mu.Unlock()
	for n, p := range r.parts {
		p.left = true
		p.cancel()
		delete(r.parts, n)
	}
}

// fetchWait is how long one fetch waits for messages.
const fetchWait = 5 * time.Second

// read hands out a partition from an offset on.
func (r *GroupReader) read(ctx context.Context, p *readPart, from int64) {
	next, lost := from, int64(0)
	for ctx.Err() == nil {
		f, err := r.client.Fetch(ctx, r.address, p.number, address.Position{Kind: address.AtOffset, Offset: next}, r.options.MaxBytes, fetchWait, nil)
		if Is(err, "gone") {
			// Retention was faster.
			if f, err = r.client.Fetch(ctx, r.address, p.number, address.Position{Kind: address.First}, r.options.MaxBytes, 0, nil); err == nil {
				lost += f.First - next
				next = f.First
			}
		}
		if forGood(err) {
			r.fail(err)
			r.stop()
			return
		}
		if err != nil {
			pause(ctx, 100*time.Millisecond)
			continue
		}
		if len(f.Records) == 0 {
			next = max(next, f.First)
			continue
		}
		r.mu.Lock()
		if p.left {
			r.mu.Unlock()
			return
		}
		p.out++
		r.mu.Unlock()
		select {
		case r.events <- Batch{Partition: p.number, Records: f.Records, Next: f.Next, From: next, Lost: lost, part: p}:
			next, lost = f.Next, 0
		case <-ctx.Done():
			r.mu.Lock()
			p.out--
			r.mu.Unlock()
			return
		}
	}
}

// forGood reports whether an answer will be the same the next time: what was
// asked for is wrong, or the caller is not let in.
func forGood(err error) bool {
	p, ok := asProblem(err)
	return ok && slices.Contains([]int{400, 401, 403, 413, 421}, p.Status)
}

// name is what the group's own queue knows this member by.
func (r *GroupReader) name() string {
	if r.options.Member != "" {
		return r.options.Member
	}
	return r.member.Share().MemberID
}
