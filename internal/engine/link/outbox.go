package link

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"sync"

	"google.golang.org/grpc/mem"
)

// outbox is what waits to be sent on a stream.
type outbox struct {
	most int

	mu      sync.Mutex
	changed *sync.Cond
	packets []Packet
	frames  []mem.BufferSlice
	bytes   int
	closed  bool
}

func newOutbox(most int) *outbox {
	o := &outbox{most: most}
	o.changed = sync.NewCond(&o.mu)
	return o
}

// offer adds a packet unless too much waits.
func (o *outbox) offer(p Packet) {
	size := p.size()
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed || o.bytes+size > o.most && len(p.Message.GetEntries()) > 0 {
		return
	}
	o.packets = append(o.packets, p)
	o.bytes += size
	o.changed.Broadcast()
}

func (o *outbox) offerFrame(f mem.BufferSlice) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.closed || o.bytes > o.most {
		return
	}
	o.frames = append(o.frames, f)
	o.bytes += f.Len()
	o.changed.Broadcast()
}

// put adds a frame, and waits for room first. It reports whether it could.
func (o *outbox) put(ctx context.Context, f mem.BufferSlice) bool {
	stop := context.AfterFunc(ctx, func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.changed.Broadcast()
	})
	defer stop()
	o.mu.Lock()
	defer o.mu.Unlock()
	for o.bytes > o.most && !o.closed && ctx.Err() == nil {
		o.changed.Wait()
	}
	if o.closed || ctx.Err() != nil {
		return false
	}
	o.frames = append(o.frames, f)
	o.bytes += f.Len()
	o.changed.Broadcast()
	return true
}

func (o *outbox) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = true
	o.packets, o.frames = nil, nil
	o.changed.Broadcast()
}

// run sends what comes in, packets that wait together in one frame, until the
// stream fails or the box is closed.
func (o *outbox) run(st stream) error {
	for {
		o.mu.Lock()
		for len(o.packets) == 0 && len(o.frames) == 0 && !o.closed {
			o.changed.Wait()
		}
		if o.closed {
			o.mu.Unlock()
			return io.EOF
		}
		var frame mem.BufferSlice
		sent := 0
		if n := len(o.frames); n > 0 {
			frame, o.frames = o.frames[0], o.frames[1:]
			sent = frame.Len()
			o.mu.Unlock()
		} else {
			n := 0
			for n < len(o.packets) && sent < frameBytes {
				sent += o.packets[n].size()
				n++
			}
			taken := o.packets[:n:n]
			if o.packets = o.packets[n:]; len(o.packets) == 0 {
				o.packets = nil
			}
			o.mu.Unlock()
			frame = encodePackets(taken)
		}
		err := st.SendMsg(frame)
		o.mu.Lock()
		o.bytes -= sent
		o.changed.Broadcast()
		o.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

// rawCodec sends frames as they are.
type rawCodec struct{}

func (rawCodec) Name() string { return "raw" }

func (rawCodec) Marshal(v any) (mem.BufferSlice, error) {
	f, ok := v.(mem.BufferSlice)
	if !ok {
		return nil, fmt.Errorf("a frame is expected, not %T", v)
	}
	return f, nil
}

func (rawCodec) Unmarshal(data mem.BufferSlice, v any) error {
	to, ok := v.(*[]byte)
	if !ok {
		return fmt.Errorf("a frame is expected, not %T", v)
	}
	if len(data) == 1 {
		*to = bytes.Clone(data[0].ReadOnlyData())
		return nil
	}
	*to = data.Materialize()
	return nil
}
