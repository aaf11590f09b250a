package part

import (
	"errors"
	"log/slog"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/pack"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/routed"
)

// Machine is what a topic's partition derives from its log: replica.Machine.
type Machine struct {
	Partition *Partition
	journal   func() *journal.Journal
	applied   *topic.Publishers
	ahead     *topic.Publishers // applied, and what this leader has proposed since
	ids       *topic.IDs        // nil without a window
	routes    *routed.State
}

// Base returns what every partition derives from its log, whatever the kind of its
// channel adds.
func (m *Machine) Base() *Machine { return m }

// Routes is what the log says of routes.
func (m *Machine) Routes() *routed.State { return m.routes }

// offer is what a proposal brings for the machine to judge.
type offer struct {
	publisher *message.Publisher
	route     *message.Route
	batch     message.Batch
}

// Lead begins with what is applied.
func (m *Machine) Lead() {
	m.ahead = m.applied.Clone()
	m.routes.Lead()
	m.loadIDs()
}

// loadIDs reads the ids of the window from the log, from its end backward.
func (m *Machine) loadIDs() {
	m.ids = nil
	window := m.Partition.Channel.idWindow()
	if window <= 0 {
		return
	}
	m.ids = topic.NewIDs(window)
	j := m.journal()
	b := j.Bounds()
	since := b.LastTime - window.Microseconds()
	from := b.Next
	for from > b.First && b.Next-from < topic.MaxIDs {
		from = j.BlockBefore(from)
		if at, err := firstTime(j, from, b.LastIdx); err != nil || at < since {
			break
		}
	}
	c := j.CursorAt(from)
	buffer := make([]byte, 256<<10)
	for {
		chunk, err := c.Read(buffer, b.LastIdx)
		if damage := (*journal.Damage)(nil); errors.As(err, &damage) {
			continue
		}
		if err != nil {
			slog.Warn("could not read back message ids; repeats from before the start may be kept", "partition", m.Partition.Address(), "error", err)
			return
		}
		if len(chunk) == 0 {
			return
		}
		message.EachRecord(chunk, func(r message.Record) bool {
			err = r.Stored(m.Partition.Number, func(s *message.Stored) bool {
				if t := s.StoredAt.UnixMicro(); t >= since {
					if _, known := m.ids.Offset(s.ID, t); !known {
						m.ids.Note(s.ID, s.Offset, t)
					}
				}
				return true
			})
			return err == nil
		})
	}
}

func firstTime(j *journal.Journal, offset int64, committed uint64) (int64, error) {
	chunk, err := j.CursorAt(offset).Read(make([]byte, 4096), committed)
	if err != nil || len(chunk) == 0 {
		return 0, err
	}
	r, _, err := message.PeekRecord(chunk)
	return r.Stamp().Time, err
}

// Prepare leaves out what the log has already.
func (m *Machine) Prepare(p *replica.Proposal, next message.Stamp) (replica.Result, bool) {
	o, isBatch := p.Info.(*offer)
	var sent *message.Route
	if isBatch {
		sent = o.route
	}
	if result, done, handled := m.routes.Prepare(p.Info, sent); handled {
		return result, done
	}
	if o.publisher != nil {
		offset, repeat, err := check(m.ahead, o.publisher, p.By, p.Count)
		if err != nil || repeat {
			return replica.Result{Offset: offset, Time: next.Time, Repeat: repeat, Err: err}, true
		}
		note(m.ahead, o.publisher, p.By, p.Count, next.Offset)
		return replica.Result{}, false
	}
	if int64(m.Partition.Channel.idWindow()) != m.window() {
		m.loadIDs()
	}
	if m.ids == nil {
		return replica.Result{}, false
	}
	return m.dropRepeats(p, o, next)
}

// dropRepeats leaves out the messages whose ids came within the window. The
// batch is encoded anew when some, but not all, are left out.
func (m *Machine) dropRepeats(p *replica.Proposal, o *offer, next message.Stamp) (replica.Result, bool) {
	var fresh message.Builder
	original := int64(-1)
	drops := 0
	offset := next.Offset
	for msg, err := range o.batch.Messages() {
		if err != nil {
			return replica.Result{Err: err}, true
		}
		if at, known := m.ids.Offset(msg.ID, next.Time); known {
			if drops == 0 {
				original = at
			}
			drops++
			continue
		}
		m.ids.Note(msg.ID, offset, next.Time)
		fresh.Add(msg)
		offset++
	}
	if fresh.Count() == 0 {
		return replica.Result{Offset: original, Time: next.Time, Repeat: true, Drops: drops}, true
	}
	if drops > 0 {
		p.Count = uint32(fresh.Count())
		batch := fresh.Build(o.batch.Compression(), nil)
		p.Data = append(make([]byte, message.StampSize, message.StampSize+len(batch)), batch...)
	}
	return replica.Result{Drops: drops}, false
}

func (m *Machine) window() (w int64) {
	if m.ids != nil {
		w = int64(m.ids.Window())
	}
	return w
}

// Apply notes what publishers and routes have sent.
func (m *Machine) Apply(r message.Record, fresh bool) {
	if r.Kind == message.KindRoutes {
		m.routes.Command(r, m.Partition.Address())
		return
	}
	batch, err := r.Batch()
	if err != nil {
		return // damaged on disk: readers report it
	}
	if fresh {
		// At every replica, so that the rates go on when another one leads.
		m.Partition.counters.MessagesIn.Add(int64(r.Stamp().Count))
		m.Partition.counters.BytesIn.Add(int64(len(batch.Bytes())))
	}
	if sent := batch.Route(); sent != nil {
		m.routes.Batch(sent)
	}
	if p := batch.Publisher(); p != nil {
		stamp := r.Stamp()
		note(m.applied, p, stamp.By, stamp.Count, stamp.Offset)
	}
}

func check(of *topic.Publishers, p *message.Publisher, by, count uint32) (offset int64, repeat bool, err error) {
	if p.Origin {
		return of.CheckOrigin(p.ID, p.Sequence)
	}
	offset, repeat, err = of.Check(topic.IDOf(p.ID, by), p.Sequence, count)
	var gap *topic.SequenceGap
	var unknown *topic.UnknownPublisher
	switch { // errors are about the id that was sent
	case errors.As(err, &gap):
		gap.Publisher = p.ID
	case errors.As(err, &unknown):
		unknown.Publisher = p.ID
	}
	return offset, repeat, err
}

func note(of *topic.Publishers, p *message.Publisher, by, count uint32, offset int64) {
	if p.Origin {
		of.NoteOrigin(p.ID, p.Sequence, offset)
		return
	}
	of.Note(topic.IDOf(p.ID, by), p.Sequence, count, offset)
}

// Save returns what is known of publishers and routes.
func (m *Machine) Save() []byte {
	plans, origins := m.routes.Save()
	b := pack.Text(nil, string(m.applied.Encode()))
	return pack.Text(pack.Text(b, string(plans)), string(origins))
}

// Load takes what Save returned.
func (m *Machine) Load(b []byte) (err error) {
	r := pack.Reader{Rest: b}
	var publishers, plans, origins []byte
	if len(b) > 0 {
		publishers, plans, origins = r.Bytes(), r.Bytes(), r.Bytes()
	}
	if !r.Whole() {
		return errors.New("the state of a partition is cut off")
	}
	if m.applied, err = topic.DecodePublishers(publishers); err != nil {
		return err
	}
	return m.routes.Load(plans, origins)
}
