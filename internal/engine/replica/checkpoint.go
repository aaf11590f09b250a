package replica

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"go.etcd.io/raft/v3/raftpb"
	"google.golang.org/protobuf/proto"

	"steadyferry/internal/core/message"
)

// checkpoint is the state of a replica at one point of its log: what a start
// or a replica that was left behind goes on from.
type checkpoint struct {
	index   uint64
	term    uint64
	end     int64  // offset after the last message up to the index
	time    int64  // stamp of the last batch up to the index
	epoch   uint64 // of the partition, see Options
	members *raftpb.ConfState
	state   []byte // of the machine
}

// Beside the segments lie "checkpoint", from which a start goes on,
// "checkpoint-N" with the state before each segment that begins with record N,
// which goes to replicas that were left behind, and "restart" while such a
// replica begins anew. All have this form, little endian: 4 bytes CRC32C of
// the rest, 8 bytes each of index, term, end, time and epoch, 4 bytes length
// of the members, the members (raftpb.ConfState), the machine's state.
const (
	checkpointName = "checkpoint"
	restartName    = "restart"
	checkpointHead = 4 + 5*8 + 4
)

func segmentCheckpoint(base uint64) string { return fmt.Sprintf("%s-%016x", checkpointName, base) }

var errNoCheckpoint = errors.New("no whole checkpoint")

func (c *checkpoint) encode() []byte {
	members, err := proto.Marshal(c.members)
	if err != nil {
		panic(err) // numbers
	}
	b := make([]byte, 4, checkpointHead+len(members)+len(c.state))
	for _, v := range []uint64{c.index, c.term, uint64(c.end), uint64(c.time), c.epoch} {
		b = binary.LittleEndian.AppendUint64(b, v)
	}
	b = binary.LittleEndian.AppendUint32(b, uint32(len(members)))
	b = append(append(b, members...), c.state...)
	binary.LittleEndian.PutUint32(b, message.Checksum(b[4:]))
	return b
}

func decodeCheckpoint(b []byte) (*checkpoint, error) {
	if len(b) < checkpointHead || binary.LittleEndian.Uint32(b) != message.Checksum(b[4:]) {
		return nil, errNoCheckpoint
	}
	at := func(i int) uint64 { return binary.LittleEndian.Uint64(b[4+8*i:]) }
	c := &checkpoint{index: at(0), term: at(1), end: int64(at(2)), time: int64(at(3)), epoch: at(4), members: &raftpb.ConfState{}}
	length := int(binary.LittleEndian.Uint32(b[checkpointHead-4:]))
	if length > len(b)-checkpointHead {
		return nil, errNoCheckpoint
	}
	if err := proto.Unmarshal(b[checkpointHead:checkpointHead+length], c.members); err != nil {
		return nil, err
	}
	c.state = b[checkpointHead+length:]
	return c, nil
}

func readCheckpoint(dir, name string) (*checkpoint, error) {
	b, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return nil, err
	}
	return decodeCheckpoint(b)
}

// writeCheckpoint replaces the file as a whole; durable makes it outlive a
// crash of the machine.
func writeCheckpoint(dir, name string, c *checkpoint, durable bool) error {
	path := filepath.Join(dir, name)
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(c.encode())
	if err == nil && durable {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(path+".new", path)
	}
	if err == nil && durable {
		err = syncDir(dir)
	}
	return err
}

func syncDir(dir string) error { return syncFile(dir) }

func syncFile(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}
