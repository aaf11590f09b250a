package link

import (
	"encoding/binary"
	"errors"
	"fmt"

	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/grpc/mem"
	"google.golang.org/protobuf/proto"
)

// Packet is what one replica of a group says to another.
type Packet struct {
	Kind    byte
	Key     Key
	Epoch   uint64
	Message *raftpb.Message
}

// Kinds of packets.
const (
	RaftPacket     = 1 // a message of Raft
	SleepPacket    = 2 // the leader has nothing to do: From, Term and Index (the last) are set
	HandOverPacket = 3 // the leadership is about to be handed over: Context is the reason
)

// A frame is a row of packets. A packet is, as unsigned varints: kind, channel,
// partition, epoch, type, to, from, term, logTerm, index, commit, reject (0 or
// 1), rejectHint, then with their lengths before them the context and the
// snapshot (raftpb.Snapshot), then the number of entries and for each its
// type, its term, its length and its data. The index of an entry is that of
// the one before it, and of the message for the first, plus one.
//
// The data of entries is not copied into the frame, but follows in slices of
// its own.

// size returns about how many bytes the packet takes.
func (p *Packet) size() int {
	n := 64 + len(p.Message.GetContext())
	for _, e := range p.Message.GetEntries() {
		n += 16 + len(e.GetData())
	}
	return n
}

// encodePackets puts packets into one frame.
func encodePackets(packets []Packet) mem.BufferSlice {
	var out mem.BufferSlice
	b := make([]byte, 0, 128*len(packets))
	cut := func() {
		if len(b) > 0 {
			out = append(out, mem.SliceBuffer(b))
			b = make([]byte, 0, 128)
		}
	}
	for _, p := range packets {
		m := p.Message
		reject := uint64(0)
		if m.GetReject() {
			reject = 1
		}
		for _, v := range []uint64{uint64(p.Kind), uint64(p.Key.Channel), uint64(p.Key.Partition), p.Epoch, uint64(m.GetType()), m.GetTo(), m.GetFrom(), m.GetTerm(),
			m.GetLogTerm(), m.GetIndex(), m.GetCommit(), reject, m.GetRejectHint(), uint64(len(m.GetContext()))} {
			b = binary.AppendUvarint(b, v)
		}
		b = append(b, m.GetContext()...)
		var snapshot []byte
		if m.Snapshot != nil {
			var err error
			if snapshot, err = proto.Marshal(m.Snapshot); err != nil {
				panic(err) // numbers and bytes
			}
		}
		b = append(binary.AppendUvarint(b, uint64(len(snapshot))), snapshot...)
		b = binary.AppendUvarint(b, uint64(len(m.Entries)))
		for _, e := range m.Entries {
			b = binary.AppendUvarint(b, uint64(e.GetType()))
			b = binary.AppendUvarint(b, e.GetTerm())
			b = binary.AppendUvarint(b, uint64(len(e.Data)))
			if len(e.Data) < 1<<10 {
				b = append(b, e.Data...)
				continue
			}
			cut()
			out = append(out, mem.SliceBuffer(e.Data))
		}
	}
	cut()
	return out
}

var errFrame = errors.New("a frame between nodes cannot be read")

// decodePackets reads a frame. The entries share its bytes.
func decodePackets(b []byte, yield func(Packet)) error {
	broken := false
	next := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			b, broken = nil, true
			return 0
		}
		b = b[n:]
		return v
	}
	bytes := func() ([]byte, bool) {
		n := next()
		if n > uint64(len(b)) {
			return nil, false
		}
		part := b[:n:n]
		b = b[n:]
		return part, true
	}
	for len(b) > 0 {
		p := Packet{Kind: byte(next()), Key: Key{Channel: int64(next()), Partition: int(next())}, Epoch: next()}
		m := &raftpb.Message{Type: raftpb.MessageType(next()).Enum()}
		for _, to := range []**uint64{&m.To, &m.From, &m.Term, &m.LogTerm, &m.Index, &m.Commit} {
			v := next()
			*to = &v
		}
		reject, hint := next() == 1, next()
		m.Reject, m.RejectHint = &reject, &hint
		context, ok := bytes()
		if !ok {
			return errFrame
		}
		if len(context) > 0 {
			m.Context = context
		}
		snapshot, ok := bytes()
		if !ok {
			return errFrame
		}
		if len(snapshot) > 0 {
			m.Snapshot = &raftpb.Snapshot{}
			if err := proto.Unmarshal(snapshot, m.Snapshot); err != nil {
				return errFrame
			}
		}
		count := next()
		if broken || count > uint64(len(b)) {
			return errFrame
		}
		index := m.GetIndex()
		m.Entries = make([]*raftpb.Entry, 0, count)
		for range count {
			e := &raftpb.Entry{Type: raftpb.EntryType(next()).Enum()}
			term := next()
			data, ok := bytes()
			if !ok {
				return errFrame
			}
			if len(data) > 0 {
				e.Data = data
			}
			index++
			at := index
			e.Term, e.Index = &term, &at
			m.Entries = append(m.Entries, e)
		}
		if broken {
			return errFrame
		}
		p.Message = m
		yield(p)
	}
	return nil
}

// Key names a group: the same at every member.
type Key struct {
	Channel   int64
	Partition int
}

// String returns the name of the group's journal.
func (k Key) String() string { return fmt.Sprintf("%d/%d", k.Channel, k.Partition) }
