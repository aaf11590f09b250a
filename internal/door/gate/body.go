package gate

import (
	"context"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/engine/part"
)

// ReadBody reads a body of up to limit bytes into a buffer with room in front.
// What has come counts as in hand, not what is announced, so that a stalled
// body holds little; one that stalls for long is given up.
func ReadBody(ctx context.Context, c *gin.Context, hold part.Hold, room int, limit int64) ([]byte, error) {
	length := c.Request.ContentLength
	if length > limit {
		return nil, TooLarge(limit)
	}
	if length < 0 {
		length = limit + 1
	}
	buffer := bodyBuffer{whole: room + int(length)}
	defer buffer.giveBack()
	for {
		came := len(buffer.data) - room
		if len(buffer.data) == cap(buffer.data) {
			if int64(came) == length {
				if length > limit {
					return nil, TooLarge(limit)
				}
				return buffer.data, nil
			}
			size := buffer.next()
			if err := hold.Grow(ctx, int64(size-cap(buffer.data))); err != nil {
				return nil, err
			}
			if buffer.grow(size); came < 0 {
				buffer.data, came = buffer.data[:room], 0
			} else {
				control := http.NewResponseController(c.Writer)
				control.SetReadDeadline(time.Now().Add(BodyStall))
				control.SetWriteDeadline(time.Now().Add(BodyStall + AnswerTime))
			}
		}
		n, err := c.Request.Body.Read(buffer.data[len(buffer.data):cap(buffer.data)])
		buffer.data = buffer.data[:len(buffer.data)+n]
		came += n
		switch {
		case err == io.EOF && (c.Request.ContentLength < 0 || int64(came) == length):
			if int64(came) > limit {
				return nil, TooLarge(limit)
			}
			return buffer.keep(), nil
		case err == io.EOF:
			return nil, io.ErrUnexpectedEOF
		case err != nil:
			return nil, err
		}
	}
}

// bodySteps are the buffers in which a body gathers before so much of it has
// come that room for more is due. They are used again: a large body costs the
// room of its own, and no garbage on the way there.
var bodySteps = [...]bodyStep{newBodyStep(16 << 10), newBodyStep(16 << 10 * bodyGrowth)}

type bodyStep struct {
	size int
	pool *sync.Pool // of *[]byte
}

func newBodyStep(size int) bodyStep {
	return bodyStep{size, &sync.Pool{New: func() any { b := make([]byte, size); return &b }}}
}

// bodyGrowth is how many times as much room a body gets each time it has filled
// what it had: what is copied stays small beside what came, and what is held
// beside what could come.
const bodyGrowth = 8

// bodyBuffer is a body of which a part has come.
type bodyBuffer struct {
	whole int     // bytes when all has come, or more
	data  []byte  // what has come
	lent  *[]byte // the step's buffer that data lies in; nil when it is the body's own
	pool  *sync.Pool
}

// next returns how many bytes of room come after those that are full.
func (b *bodyBuffer) next() int {
	return min(b.whole, max(bodySteps[0].size, bodyGrowth*cap(b.data)))
}

// grow moves what has come to larger room.
func (b *bodyBuffer) grow(size int) {
	larger := bodyBuffer{whole: b.whole}
	for _, step := range bodySteps {
		if step.size == size && size < b.whole {
			larger.pool, larger.lent = step.pool, step.pool.Get().(*[]byte)
			larger.data = *larger.lent
		}
	}
	if larger.lent == nil {
		larger.data = make([]byte, size)
	}
	larger.data = larger.data[:copy(larger.data, b.data)]
	b.giveBack()
	*b = larger
}

// keep returns what has come in a buffer that is the caller's.
func (b *bodyBuffer) keep() []byte {
	if b.lent == nil {
		return b.data
	}
	return append([]byte(nil), b.data...)
}

// giveBack lets others use the buffer, if it is one to be used again.
func (b *bodyBuffer) giveBack() {
	if b.lent != nil {
		b.pool.Put(b.lent)
		b.lent = nil
	}
}
