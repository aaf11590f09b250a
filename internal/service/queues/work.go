package queues

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/lease"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/proof"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

const timeForm = time.RFC3339Nano

func parseStored(text string) time.Time {
	at, _ := time.Parse(timeForm, text)
	return at.UTC()
}

// Lease names a member's hold on a message.
type Lease = lease.ID

// Settle is the end of a lease, or its extension.
type Settle struct {
	Lease     Lease
	Outcome   queue.Outcome
	After     time.Duration // of a release: the delay, or queue.Auto; of an extension: the time from now on
	Untouched bool
	Reason    string
	Detail    string
}

// Settled is what became of a Settle.
type Settled struct {
	Lease    Lease
	Status   queue.Status
	State    queue.State
	Deadline time.Time
}

// Work is what a member asks of a queue: to settle leases, and to lease more.
type Work struct {
	Member    string
	Partition int // AnyPartition, or the only one to lease from
	Settle    []Settle
	Max       int
	For       time.Duration // of the leases; 0: as the queue is set
	AtOnce    bool          // accept on delivery
	Wait      time.Duration // for the first message
	Raw       bool          // the answer may have records of the log instead of messages
}

// Done is the answer to Work.
type Done struct {
	Settled []Settled // in the order of Work.Settle
	Leased  []lease.Delivery
	Records []lease.Record // of Work.Raw: with the messages that Leased does not have
}

// Encode writes the answer in binary form.
func (d *Done) Encode() []byte {
	w := lease.Reply{Settled: make([]queue.Settled, len(d.Settled)), Leased: d.Leased, Records: d.Records}
	size := 64 + 8*len(d.Settled) + 32*len(d.Leased)
	for i, s := range d.Settled {
		w.Settled[i] = queue.Settled{Status: s.Status, State: s.State}
		if !s.Deadline.IsZero() {
			w.Settled[i].Deadline = s.Deadline.UnixMicro()
		}
	}
	for _, r := range d.Records {
		size += len(r.Bytes) + 16
	}
	return w.Encode(make([]byte, 0, size))
}

// Limits of work.
const (
	MaxLease      = 1000   // messages of one call
	MaxSettle     = 10_000 // outcomes of one call
	MaxLeaseTime  = 24 * time.Hour
	maxLeaseBytes = 32 << 20 // of bodies handed out at once
)

func (w *Work) check() error {
	switch {
	case w.Max < 0 || w.Max > MaxLease:
		return problem.New(problem.Invalid, "%d messages", w.Max).Field("max").Allowed(fmt.Sprintf("1 to %d", MaxLease))
	case len(w.Settle) > MaxSettle:
		return problem.New(problem.Invalid, "%d outcomes", len(w.Settle)).Field("settle").Allowed(fmt.Sprintf("up to %d in one call", MaxSettle))
	case w.For < 0 || w.For > MaxLeaseTime || w.For > 0 && w.For < time.Second/10:
		return problem.New(problem.Invalid, "a lease of %s", w.For).Field("for").Allowed("100ms to 24h")
	case len(w.Member) > message.MaxKey:
		return problem.New(problem.Invalid, "a member's name of %d bytes", len(w.Member)).Field("member").Allowed(fmt.Sprintf("up to %d bytes", message.MaxKey))
	}
	for i := range w.Settle {
		s := &w.Settle[i]
		switch {
		case s.Outcome == queue.Reject && s.Reason == "":
			return problem.New(problem.Invalid, "lease %s is rejected without a reason", s.Lease).Field("reason").Allowed("a short code, such as bad-celsius")
		case s.After < 0 && s.After != queue.Auto || s.After > queue.MaxDelay:
			return problem.New(problem.Invalid, "lease %s: after %s", s.Lease, s.After).Field("after").Allowed("0s to 365d")
		case s.Outcome == queue.Extend && s.After > MaxLeaseTime:
			return problem.New(problem.Invalid, "lease %s is extended by %s", s.Lease, s.After).Field("after").Allowed("up to 24h")
		}
		if err := message.CheckReason(s.Reason, s.Detail); err != nil {
			return problem.New(problem.TooLarge, "lease %s: %v", s.Lease, err).Field("detail")
		}
	}
	return nil
}

// At returns the queue with the address; for that of a group the queue
// that holds its dead letters.
func (qs *Queues) At(a address.Address) (*part.Channel, error) {
	whole := a.QueuePart()
	t, err := qs.parts.Named(whole, whole.String())
	if err != nil && a.Group != "" {
		_, g, groupErr := qs.parts.Group(whole)
		if groupErr != nil {
			return nil, groupErr
		}
		comes := "when a member rejects a message"
		if g.Route != nil {
			comes = "when the route cannot send a message, because an edit does not apply or the target does not take it"
		}
		return nil, problem.New(problem.NotFound, "%s has no dead letters", whole).Next("they come %s", comes)
	}
	if err == nil && !t.IsQueue() {
		return nil, problem.New(problem.Invalid, "%s is a topic: its messages are read, not leased", whole).Field("address").Next("the dead letters of a group of it are at %s@GROUP/dead; a queue is made with: ferry new queue SPACE/NAME", whole)
	}
	return t, err
}

// Work settles and leases. The outcomes of a batch are judged one by one: those
// of leases that ran out change nothing, and say so.
func (qs *Queues) Work(ctx context.Context, t *part.Channel, w Work) (*Done, error) {
	if len(w.Settle) > 0 {
		if err := access.Check(ctx, access.Settle, at(t)); err != nil {
			return nil, err
		}
	}
	if w.Max > 0 {
		if err := access.Check(ctx, access.Lease, at(t)); err != nil {
			return nil, err
		}
	}
	if err := w.check(); err != nil {
		return nil, err
	}
	if w.Max == 0 {
		return qs.work(ctx, t, w)
	}
	sight := access.Sight(ctx, access.Lease, at(t))
	if !sight.Whole() {
		w.Raw = false
	}
	out, err := qs.work(ctx, t, w)
	if out != nil && !sight.Whole() {
		for i := range out.Leased {
			out.Leased[i].Message = sight.Show(out.Leased[i].Message)
		}
	}
	return out, err
}

func (qs *Queues) work(ctx context.Context, t *part.Channel, w Work) (*Done, error) {
	parts := t.Partitions()
	out := &Done{Settled: make([]Settled, len(w.Settle))}
	by := map[int][]int{} // places of settlements by partition
	given := map[int]*proof.Given{}
	for i, s := range w.Settle {
		if s.Lease.Partition < len(parts) && given[s.Lease.Partition] == nil {
			given[s.Lease.Partition] = qs.given(ctx, parts[s.Lease.Partition])
		}
		// A lease of somebody else is as good as none: whether there is such a one is not told.
		if s.Lease.Partition >= len(parts) || !given[s.Lease.Partition].Is(s.Lease.Proof, uint64(s.Lease.Offset), s.Lease.Serial) {
			out.Settled[i] = Settled{Lease: s.Lease, Status: queue.Unknown}
			continue
		}
		by[s.Lease.Partition] = append(by[s.Lease.Partition], i)
	}
	if len(parts) == 1 || w.Partition != part.AnyPartition {
		number := max(w.Partition, 0)
		p, err := t.Partition(number)
		if err != nil {
			return nil, err
		}
		for other, places := range by {
			if other != number {
				if err := qs.settleAt(ctx, parts[other], &w, places, out); err != nil {
					return nil, err
				}
			}
		}
		return out, qs.workAt(ctx, p, &w, by[number], w.Max, w.Wait, out)
	}
	for number, places := range by {
		if err := qs.settleAt(ctx, parts[number], &w, places, out); err != nil {
			return nil, err
		}
	}
	if w.Max == 0 {
		return out, nil
	}
	return out, qs.leaseAny(ctx, t, &w, out)
}

// given proves leases of a partition that are given to whoever asks. All tokens of a principal hold
// its leases: one takes the place of another.
func (qs *Queues) given(ctx context.Context, p *part.Partition) *proof.Given {
	return qs.leases().Given(access.Holder(ctx), uint64(p.Channel.ID), uint64(p.Number))
}

func (qs *Queues) settleAt(ctx context.Context, p *part.Partition, w *Work, places []int, out *Done) error {
	return qs.workAt(ctx, p, w, places, 0, 0, out)
}

// leaseAny leases from whichever partition has messages, beginning with the
// next in turn, so that none is left behind.
func (qs *Queues) leaseAny(ctx context.Context, t *part.Channel, w *Work, out *Done) error {
	parts := t.Partitions()
	begin := t.NextTurn()
	deadline := time.Now().Add(w.Wait)
	var failed error
	for {
		failed = nil
		for i := range parts {
			p := parts[(begin+i)%len(parts)]
			if m := machineOf(p); m != nil && qs.parts.Leads(p) && m.ready.Load() == 0 && len(parts) > 1 && i < len(parts)-1 {
				continue
			}
			if err := qs.workAt(ctx, p, w, nil, w.Max-len(out.Leased), 0, out); err != nil {
				failed = err
			}
			if len(out.Leased) >= w.Max {
				return nil
			}
		}
		if len(out.Leased) > 0 {
			return nil
		}
		left := time.Until(deadline)
		if left <= 0 {
			return failed
		}
		if err := qs.awaitAny(ctx, parts, w.Member, w.Max, left); err != nil {
			return err
		}
	}
}

// workAt settles and leases at one partition, wherever it is led.
func (qs *Queues) workAt(ctx context.Context, p *part.Partition, w *Work, places []int, most int, wait time.Duration, out *Done) error {
	c := &queue.Command{Op: queue.OpWork, Who: w.Member, Max: most, For: w.For.Microseconds(), AtOnce: w.AtOnce}
	if len(places) > 0 {
		c.Settle = make([]queue.Settlement, len(places))
	}
	for i, at := range places {
		s := &w.Settle[at]
		c.Settle[i] = queue.Settlement{Offset: s.Lease.Offset, Serial: s.Lease.Serial, Outcome: s.Outcome, After: s.After.Microseconds(), Untouched: s.Untouched, Reason: s.Reason, Detail: s.Detail}
		if s.After == queue.Auto {
			c.Settle[i].After = queue.Auto
		}
	}
	if len(c.Settle) == 0 && c.Max == 0 {
		return nil
	}
	r, err := qs.workOnce(ctx, p, c, wait, w.Raw)
	if err != nil {
		return err
	}
	for i, at := range places {
		out.Settled[at] = Settled{Lease: w.Settle[at].Lease, Status: r.Settled[i].Status, State: r.Settled[i].State}
		if d := r.Settled[i].Deadline; d > 0 {
			out.Settled[at].Deadline = time.UnixMicro(d).UTC()
		}
	}
	var given *proof.Given
	if len(r.Handed) > 0 {
		given = qs.given(ctx, p)
	}
	for i := range r.Handed {
		h := &r.Handed[i]
		d := lease.Delivery{Lease: Lease{Partition: p.Number, Offset: h.Offset, Serial: h.Serial, Proof: given.Of(uint64(h.Offset), h.Serial)}, Attempt: h.Attempt, Returns: h.Returns, Message: r.Messages[i]}
		if h.Deadline > 0 {
			d.Deadline = time.UnixMicro(h.Deadline).UTC()
		}
		out.Leased = append(out.Leased, d)
	}
	for _, record := range r.Records {
		out.Records = append(out.Records, lease.Record{Partition: p.Number, Bytes: record})
	}
	return nil
}

// worked is the answer of one partition.
type worked struct {
	queue.Result
	Messages []*message.Stored // of Handed; nil: in Records
	Records  [][]byte
}

// workOnce runs a command at the partition's leader.
func (qs *Queues) workOnce(ctx context.Context, p *part.Partition, c *queue.Command, wait time.Duration, raw bool) (*worked, error) {
	return part.AtLeader(ctx, qs.parts, p, part.LeaderCall[*worked]{
		Here:  func() (*worked, error) { return qs.workHere(ctx, p, c, wait, raw) },
		There: func(leader uint64) (*worked, error) { return qs.workThere(ctx, p, leader, c, wait) },
		Unsure: func() error {
			return problem.New(problem.Unavailable, "%s: not known to be done", p.Address()).Next("what was leased comes again when its lease runs out; a settled lease says so when it is settled again")
		},
	})
}

// command proposes a command here.
func (qs *Queues) command(ctx context.Context, p *part.Partition, c *queue.Command) (queue.Result, error) {
	m, g := machineOf(p), p.Replica()
	if m == nil || g == nil {
		return queue.Result{}, peer.NotLed()
	}
	c.Nonce = nonces.Add(1)
	call := &queueCall{command: c}
	data := c.Encode(make([]byte, message.StampSize, message.StampSize+64+32*len(c.Settle)))
	result := g.Publish(ctx, &replica.Proposal{Data: data, Info: call})
	if result.Err == nil {
		return call.result, nil
	}
	m.forget(c.Nonce)
	switch {
	case errors.Is(result.Err, replica.ErrTime), errors.Is(result.Err, context.DeadlineExceeded), errors.Is(result.Err, context.Canceled):
		return queue.Result{}, &peer.NotDone{Reason: result.Err}
	case errors.Is(result.Err, replica.ErrLostEnd), errors.Is(result.Err, replica.ErrDiskFull) && p.Alone(), errors.Is(result.Err, replica.ErrFailed) && p.Alone():
		return queue.Result{}, part.Explain(result.Err, p.Address())
	}
	return queue.Result{}, &peer.NotDone{Reason: result.Err, Sure: true}
}

// workHere runs a command at this node, and reads what was leased. With
// nothing to lease it waits.
func (qs *Queues) workHere(ctx context.Context, p *part.Partition, c *queue.Command, wait time.Duration, raw bool) (*worked, error) {
	m := machineOf(p)
	if m == nil {
		return nil, peer.NotLed()
	}
	out := &worked{}
	most := c.Max
	if most > 0 {
		m.presence.Note(c.Who)
	}
	if g := p.Replica(); m.ready.Load() == 0 && (g == nil || !m.dueAt(g.Time())) {
		c.Max = 0 // it would find nothing
	} else {
		c.Max = m.fairShare(most)
	}
	if len(c.Settle) > 0 || c.Max > 0 {
		r, err := qs.command(ctx, p, c)
		if err != nil {
			return nil, err
		}
		out.Result = r
	}
	deadline := time.Now().Add(wait)
	for most > 0 && len(out.Handed) == 0 && time.Until(deadline) > 0 {
		if err := m.await(ctx, most, time.Until(deadline)); err != nil {
			return nil, err
		}
		if m.ready.Load() == 0 {
			continue
		}
		more := *c
		more.Settle, more.Max = nil, m.fairShare(most)
		r, err := qs.command(ctx, p, &more)
		if err != nil {
			if len(out.Settled) > 0 {
				break // what was settled is settled
			}
			return nil, err
		}
		out.Handed, out.Time = r.Handed, r.Time
	}
	if raw && len(out.Handed) > 1 && machineOf(p).readRecords(p.Replica(), out) {
		return out, nil
	}
	return out, qs.readHanded(ctx, p, c, out)
}

// dueAt reports whether time has brought about something that the next
// command will find.
func (m *queueMachine) dueAt(now int64) bool {
	at := m.nextDue.Load()
	return at > 0 && at <= now
}

// await waits until messages are ready.
func (m *queueMachine) await(ctx context.Context, messages int, most time.Duration) error {
	ready := make(chan struct{}, 1)
	one := m.waiters.Add(messages, ready)
	if m.ready.Load() > 0 { // they came between
		m.waiters.Remove(one)
		return nil
	}
	defer link.Pause(ctx)()
	timer := time.NewTimer(most)
	defer timer.Stop()
	select {
	case <-ready:
		return nil
	case <-timer.C:
		m.waiters.Remove(one)
		return nil
	case <-ctx.Done():
		m.waiters.Remove(one)
		return ctx.Err()
	}
}

// damagedAgain is after how long a message is tried again whose bytes another
// replica may have.
const damagedAgain = time.Second

// readHanded reads the messages that were leased. One that cannot be read is
// set aside, so that it holds nothing up; where there are other replicas, it is
// fetched from them and tried again first.
func (qs *Queues) readHanded(ctx context.Context, p *part.Partition, c *queue.Command, out *worked) error {
	if len(out.Handed) == 0 {
		return nil
	}
	m, g := machineOf(p), p.Replica()
	places := make([]bytesOf, len(out.Handed))
	for i, h := range out.Handed {
		places[i] = bytesOf{h.Offset, h.Home, h.Edited}
	}
	messages, err := m.read(g.Journal(), g.Committed(), places)
	if err == nil && allRead(messages) {
		out.Messages = messages
		return nil
	}
	var bad []queue.Settlement
	var good []queue.Handed
	out.Messages = nil
	for i, h := range out.Handed {
		one, err := m.read(g.Journal(), g.Committed(), places[i:i+1])
		if err != nil || one[0] == nil {
			slog.Warn("a message of a queue cannot be read", "partition", p.Address(), "offset", h.Offset, "error", err)
			s := queue.Settlement{Offset: h.Offset, Serial: h.Serial, Outcome: queue.Reject, Reason: "damaged", Detail: fmt.Sprintf("its bytes on the disk of %s cannot be read: %v", qs.parts.Name(), err)}
			if !p.Alone() {
				qs.parts.WantRepair(p)
				s.Outcome, s.After = queue.Release, damagedAgain.Microseconds()
			}
			bad = append(bad, s)
			continue
		}
		good = append(good, h)
		out.Messages = append(out.Messages, one[0])
	}
	out.Handed = good
	_, err = qs.command(ctx, p, &queue.Command{Op: queue.OpWork, Who: c.Who, Settle: bad})
	return err
}

func allRead(messages []*message.Stored) bool {
	for _, m := range messages {
		if m == nil {
			return false
		}
	}
	return true
}
