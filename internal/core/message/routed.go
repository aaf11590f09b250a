package message

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/cespare/xxhash/v2"
	"github.com/google/uuid"
)

// Headers that a route gives to what it sends.
const (
	HeaderRoute     = "ferry-route"      // address of the route that sent it last
	HeaderRouteFrom = "ferry-route-from" // address of the message from which that made it
	HeaderHops      = "ferry-hops"       // routes that it came through
	HeaderReason    = "ferry-reason"     // of the dead letter that a route copied
	HeaderDetail    = "ferry-detail"     // the same: the beginning of its detail
)

// Headers that a replay gives to what it sends again.
const (
	HeaderReplay     = "ferry-replay"      // number of the replay
	HeaderReplayFrom = "ferry-replay-from" // address from which it was taken
)

// origins are the headers that tell where a message came from, which is no content.
var origins = []string{HeaderRoute, HeaderRouteFrom, HeaderHops, HeaderReplay, HeaderReplayFrom}

// markCount is how many of them every message gets.
const markCount = 3

// placesSize is what the places of a route take.
const placesSize = 7 * 8

// atAddress is where the address of a route is that sent a batch as it was.
const atAddress = BatchHeaderSize + placesSize + 3

// Route returns what a batch that a route sent tells of itself, or nil.
func (b Batch) Route() *Route {
	if b.raw[atFlags]&flagRoute == 0 {
		return nil
	}
	at := func(i int) uint64 { return le.Uint64(b.raw[BatchHeaderSize+8*i:]) }
	r := &Route{ID: uuid.UUID(b.raw[atPublisher:atSequence]), Partition: uint32(le.Uint64(b.raw[atSequence:])),
		After: Place{at(0), at(1), int64(at(2))}, UpTo: Place{at(3), at(4), int64(at(5))}, Recovered: at(6)}
	if b.raw[atFlags]&flagWhole != 0 {
		r.Hops, r.Address = int(b.raw[atAddress-3]), string(b.raw[atAddress:b.head()])
	}
	return r
}

// RoutedSize is at most the bytes of a batch as a route sends it.
func RoutedSize(b Batch, r *Route) int { return atAddress + len(r.Address) + len(b.raw) - b.head() }

// AppendRouted appends to buf the batch as a route sends it: its messages keep
// their ids, and it is no publisher's any more. The address has at most 64 KiB.
func (b Batch) AppendRouted(buf []byte, r *Route) []byte {
	begin := len(buf)
	payload := b.raw[b.head():]
	buf = slices.Grow(buf, RoutedSize(b, r))
	buf = append(buf, b.raw[:BatchHeaderSize]...)
	for _, v := range []uint64{r.After.Epoch, r.After.Cut, uint64(r.After.Offset), r.UpTo.Epoch, r.UpTo.Cut, uint64(r.UpTo.Offset), r.Recovered} {
		buf = le.AppendUint64(buf, v)
	}
	flags := byte(flagRoute)
	if r.Address != "" {
		flags |= flagWhole
		buf = le.AppendUint16(append(buf, byte(r.Hops)), uint16(len(r.Address)))
		buf = append(buf, r.Address...)
	}
	buf = append(buf, payload...)
	out := buf[begin:]
	le.PutUint32(out[atSize:], uint32(len(out)-BatchHeaderSize))
	copy(out[atPublisher:], r.ID[:])
	le.PutUint64(out[atSequence:], uint64(r.Partition))
	out[atFlags] = out[atFlags]&flagTerms | flags
	le.PutUint32(out[atChecksum:], batchChecksum(out))
	return buf
}

// marks are the headers that a route gives to the messages of a batch which it sends as it
// is: each is made of the batch and of the message's place in it.
type marks struct {
	route, hops, from string // from: what comes before the offset
	first             int64  // offset of the first message
}

// marks returns those of the batch; without true its messages have their own.
func (b Batch) marks() (m marks, whole bool) {
	if b.raw[atFlags]&flagWhole == 0 {
		return m, false
	}
	r := b.Route()
	channel := r.Address
	if i := strings.LastIndexByte(channel, '@'); i >= 0 {
		channel = channel[:i]
	}
	return marks{r.Address, strconv.Itoa(r.Hops), fmt.Sprintf("%s#%d:", channel, r.Partition), r.UpTo.Offset - int64(b.Count())}, true
}

func (m *marks) add(headers []Header, place int) []Header {
	return append(headers, Header{HeaderRoute, m.route}, Header{HeaderRouteFrom, m.from + strconv.FormatInt(m.first+int64(place), 10)}, Header{HeaderHops, m.hops})
}

// InOnePartition reports whether all messages of the batch belong to one partition of a
// channel, of so many, and can be sent there as they are: none has terms, a header that a
// route gives, no room for those, or a body that is too long. Those without a key belong to another partition
// that is given. The messages are not decoded; scratch is for the payload.
func (b Batch) InOnePartition(count, without int, maxBody int64, scratch *[]byte) (partition int, ok bool) {
	if b.HasTerms() {
		return 0, false
	}
	payload, err := b.Payload(*scratch)
	if err != nil {
		return 0, false
	}
	if b.Compression() != Plain {
		*scratch = payload
	}
	r := reader{rest: payload}
	r.bytes()
	partition = -1
	for range b.Count() {
		at, plain := r.place(count, without, maxBody)
		if r.failed || !plain || partition >= 0 && at != partition {
			return 0, false
		}
		partition = at
	}
	return partition, len(r.rest) == 0
}

// place reads a message as far as InOnePartition asks.
func (r *reader) place(count, without int, maxBody int64) (partition int, plain bool) {
	parts := r.parts()
	partition = without
	if parts&hasKey != 0 {
		if key := r.bytes(); len(key) > 0 && count > 1 {
			partition = int(xxhash.Sum64(key) % uint64(count))
		} else if len(key) > 0 {
			partition = 0
		}
	}
	if parts&hasTime != 0 {
		r.varint()
	}
	fits := true
	if parts&hasHeaders != 0 {
		count, size := 0, 0
		r.passHeaders(func(name, value []byte) {
			count, size = count+1, size+len(name)+len(value)
			fits = fits && !isMark(name)
		})
		// With those of the route it must be a message that can be read.
		fits = fits && count+markCount <= MaxHeaders && size <= MaxHeaderBytes/2
	}
	body := r.passToBody(parts)
	return partition, fits && parts&hasTerms == 0 && int64(len(body)) <= maxBody
}

func isMark(name []byte) bool {
	switch string(name) {
	case HeaderRoute, HeaderRouteFrom, HeaderHops:
		return true
	}
	return false
}
