package link

import (
	"context"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/protobuf/proto"
)

// deaf hears of nothing.
type deaf struct{}

func (deaf) Packet(uint64, Packet)                                        {}
func (deaf) Cast(uint64, string, []byte)                                  {}
func (deaf) NodeUp(uint64)                                                {}
func (deaf) NodeDown(uint64, bool)                                        {}
func (deaf) Call(context.Context, uint64, string, []byte) ([]byte, error) { return nil, nil }

// What comes from another node is read without trust: anything is a frame of
// packets, or is refused.
func FuzzPackets(f *testing.F) {
	whole := encodePackets([]Packet{
		{Kind: RaftPacket, Key: Key{Channel: 3, Partition: 7}, Epoch: 1, Message: appendMessage(1, 4, []byte("small"), make([]byte, 5000))},
		{Kind: HandOverPacket, Key: Key{Channel: 3, Partition: 7}, Message: &raftpb.Message{Context: []byte("why")}},
	}).Materialize()
	f.Add(whole)
	f.Add(whole[:len(whole)-4])
	f.Add([]byte{1, 0xff, 0xff})
	f.Fuzz(func(t *testing.T, b []byte) {
		var packets []Packet
		if decodePackets(b, func(p Packet) { packets = append(packets, p) }) != nil {
			return
		}
		// What was read is written and read again as the same.
		again := []Packet{}
		require.NoError(t, decodePackets(encodePackets(packets).Materialize(), func(p Packet) { again = append(again, p) }))
		require.Len(t, again, len(packets))
		for i, p := range packets {
			require.True(t, proto.Equal(p.Message, again[i].Message), "%v %v", p.Message, again[i].Message)
			require.Equal(t, p.Key, again[i].Key)
		}
	})
}

func appendMessage(from, index uint64, data ...[]byte) *raftpb.Message {
	m := &raftpb.Message{Type: raftpb.MsgApp.Enum(), From: &from, Index: &index}
	for _, d := range data {
		index++
		at := index
		m.Entries = append(m.Entries, &raftpb.Entry{Type: raftpb.EntryNormal.Enum(), Term: &from, Index: &at, Data: d})
	}
	return m
}

// Whoever has taken the address of a node learns nothing from the others.
func TestTheSecretIsNotToldToWhoeverListens(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	impostor := NewPeers(PeersConfig{Self: 2, Secret: "another-secret"}, &deaf{})
	defer impostor.Close()
	impostor.SetNodes([]Remote{{ID: 1, Name: "node-1", Addr: "127.0.0.1:1"}})
	go impostor.Serve(l)
	said := &recorded{to: l.Addr().String()}
	front, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer front.Close()
	go said.serve(front)

	h := &deaf{}
	p := NewPeers(PeersConfig{Self: 1, Secret: "the-secret-of-the-cluster"}, h)
	defer p.Close()
	p.SetNodes([]Remote{{ID: 2, Name: "node-2", Addr: front.Addr().String()}})
	require.Eventually(t, func() bool { return said.count() > 200 }, 20*time.Second, 10*time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	assert.False(t, p.Up(2), "it is not taken for the node")
	assert.False(t, impostor.Up(1))
	assert.NotContains(t, said.text(), "the-secret-of-the-cluster")
}

// recorded passes connections on and keeps what the dialing side says.
type recorded struct {
	to string
	mu sync.Mutex
	b  []byte
}

func (r *recorded) count() int   { r.mu.Lock(); defer r.mu.Unlock(); return len(r.b) }
func (r *recorded) text() string { r.mu.Lock(); defer r.mu.Unlock(); return string(r.b) }

func (r *recorded) serve(l net.Listener) {
	for {
		in, err := l.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("tcp", r.to)
		if err != nil {
			in.Close()
			continue
		}
		go func() { io.Copy(in, out); in.Close() }()
		go func() {
			defer out.Close()
			b := make([]byte, 4096)
			for {
				n, err := in.Read(b)
				r.mu.Lock()
				r.b = append(r.b, b[:n]...)
				r.mu.Unlock()
				if _, writeErr := out.Write(b[:n]); err != nil || writeErr != nil {
					return
				}
			}
		}()
	}
}
