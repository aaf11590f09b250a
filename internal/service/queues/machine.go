package queues

import (
	"encoding/binary"
	"errors"
	"log/slog"
	"math/rand/v2"
	"sync"
	"sync/atomic"

	"github.com/google/uuid"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/service/queues/presence"
	"steadyferry/internal/service/queues/turns"
)

// queueMachine is what a queue's partition derives from its log: what a
// topic's does, and where every message is.
type queueMachine struct {
	*part.Machine

	mu    sync.RWMutex // guards queue and calls
	queue *queue.Queue
	calls map[uint64]*queueCall

	nextDue  atomic.Int64 // when time changes something, microseconds; 0: never
	ready    atomic.Int64 // messages that could be leased
	waiters  turns.Waiters
	presence presence.Presence
	contents contents
	// The record from which a detail was read last: details of one call lie in
	// one record.
	lastDetail atomic.Pointer[message.Record]
	tidied     int64       // bytes of the log when it was looked at last
	ticking    atomic.Bool // a command for the time is under way
	carrying   atomic.Bool // messages are being written again
}

// queueCall is a command on its way through the log, and what it brought
// about.
type queueCall struct {
	command *queue.Command
	result  queue.Result
}

func newQueueMachine(m *part.Machine) *queueMachine {
	q := &queueMachine{Machine: m, queue: queue.New(), calls: map[uint64]*queueCall{}}
	m.Routes().TakenBy(q)
	return q
}

// NextNumber, Copied, Sent and Ended are what routes have to do with the queue.
func (m *queueMachine) NextNumber(route uuid.UUID) (next int64) {
	m.look(func(q *queue.Queue) { next = q.NextNumber(route) })
	return next
}

func (m *queueMachine) Copied(route uuid.UUID, all bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.queue.Copy(route, all)
}

func (m *queueMachine) Sent(route uuid.UUID, number int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.queue.Sent(route, number)
	m.tellChange()
}

func (m *queueMachine) Ended(route uuid.UUID) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.queue.EndRoute(route)
	m.tellChange()
}

// machineOf returns what this node knows of a queue's partition, or nil when it
// does not hold it.
func machineOf(p *part.Partition) *queueMachine {
	m, _ := p.Machine().(*queueMachine)
	return m
}

// queueKind is how queues differ from topics.
func (qs *Queues) kind() *part.Kind {
	return &part.Kind{
		Machine:   func(base *part.Machine) replica.Machine { return newQueueMachine(base) },
		Retention: &retain,
		Tidy:      qs.tidyQueue,
		Summary:   func(p *part.Partition, g *replica.Group) *queue.Summary { return machineOf(p).status(g) },
	}
}

// nonces tell a node's commands from those of others and of its past.
var nonces = func() *atomic.Uint64 {
	var n atomic.Uint64
	n.Store(rand.Uint64())
	return &n
}()

func (m *queueMachine) Prepare(p *replica.Proposal, next message.Stamp) (replica.Result, bool) {
	call, ok := p.Info.(*queueCall)
	if p.Routes {
		return m.Machine.Prepare(p, next)
	}
	if !m.configured() && (!ok || call.command.Op != queue.OpConfigure) {
		// The node brings the settings as soon as it leads.
		return replica.Result{Err: replica.ErrNotLeading}, true
	}
	if !ok {
		return m.Machine.Prepare(p, next)
	}
	m.mu.Lock()
	m.calls[call.command.Nonce] = call
	m.mu.Unlock()
	return replica.Result{}, false
}

func (m *queueMachine) configured() bool {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return m.queue.Configured()
}

func (m *queueMachine) Apply(r message.Record, fresh bool) {
	if r.Kind == message.KindBatch {
		m.Machine.Apply(r, fresh)
		if batch, err := r.Batch(); err == nil {
			m.mu.Lock()
			m.queue.Publish(r.Stamp(), batch)
			m.tellChange()
			m.mu.Unlock()
		}
		return
	}
	if r.Kind == message.KindRoutes {
		m.Machine.Apply(r, fresh)
		return
	}
	c, err := queue.Decode(r.Data[message.StampSize:], message.StampSize)
	if err != nil {
		slog.Error("a command in the log cannot be read; it is left out", "partition", m.Partition.Address(), "error", err)
		return
	}
	m.mu.Lock()
	result := m.queue.Apply(r.Index, r.Stamp(), c)
	call := m.calls[c.Nonce]
	if call != nil {
		call.result = result
		delete(m.calls, c.Nonce)
	}
	m.tellChange()
	m.mu.Unlock()
	if call != nil { // the other replicas did not hand it out
		out := len(result.Handed)
		if c.Op == queue.OpTake {
			out = result.Changed
		}
		m.Partition.CountOut(out, 0)
	}
}

// tellChange tells those who wait what has changed. mu is held.
func (m *queueMachine) tellChange() {
	m.nextDue.Store(m.queue.NextDue())
	ready := m.queue.Ready()
	m.ready.Store(ready)
	if ready > 0 {
		m.waiters.Wake(ready)
	}
}

// forget lets go of a command whose proposer no longer waits.
func (m *queueMachine) forget(nonce uint64) {
	m.mu.Lock()
	delete(m.calls, nonce)
	m.mu.Unlock()
}

// look runs f on the state.
func (m *queueMachine) look(f func(q *queue.Queue)) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	f(m.queue)
}

func (m *queueMachine) Save() []byte {
	m.mu.RLock()
	defer m.mu.RUnlock()
	base := m.Machine.Save()
	state := m.queue.Encode()
	b := make([]byte, 0, 4+len(base)+len(state))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(base)))
	return append(append(b, base...), state...)
}

func (m *queueMachine) Load(b []byte) error {
	var base, state []byte
	if len(b) > 0 {
		if len(b) < 4 || int(binary.LittleEndian.Uint32(b)) > len(b)-4 {
			return errors.New("the state of a queue is cut off")
		}
		n := binary.LittleEndian.Uint32(b)
		base, state = b[4:4+n], b[4+n:]
	}
	if err := m.Machine.Load(base); err != nil {
		return err
	}
	q, err := queue.Load(state)
	if err != nil {
		return err
	}
	m.mu.Lock()
	m.queue = q
	m.tellChange()
	m.mu.Unlock()
	return nil
}

// fairShare is how many of the ready messages one of those who wait may take.
func (m *queueMachine) fairShare(most int) int {
	others := m.waiters.Count()
	if others == 0 {
		return most
	}
	return min(most, max(int((m.ready.Load()+others)/(others+1)), turns.Chunk))
}
