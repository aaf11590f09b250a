package gate

import (
	"net"
	"strconv"
	"sync"
	"time"

	"steadyferry/internal/core/admit"
)

// Bounds of connections, of one address and of all.
const (
	addressConnections = 12_000
	nodeConnections    = 16_000
)

// Listener bounds how many connections a listener has open. One too many is
// told so and closed.
func Listener(l net.Listener) net.Listener {
	return &listener{l, admit.NewSlots("connections", addressConnections, nodeConnections, 5*time.Second)}
}

type listener struct {
	net.Listener
	slots *admit.Slots
}

const tooManyConnections = "HTTP/1.1 429 Too Many Requests\r\nRetry-After: 5\r\nContent-Type: application/problem+json\r\nConnection: close\r\nContent-Length: "

// Accept implements net.Listener.
func (l *listener) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(c.RemoteAddr().String())
		leave, err := l.slots.Enter(host)
		if err == nil {
			return &counted{Conn: c, leave: leave}, nil
		}
		body := `{"type":"urn:steady-ferry:problem:busy","title":"Too much at once","status":429,"detail":"` + err.Error() + `","next":"try again in 5s","retryAfter":5}`
		c.SetWriteDeadline(time.Now().Add(100 * time.Millisecond))
		c.Write([]byte(tooManyConnections + strconv.Itoa(len(body)) + "\r\n\r\n" + body))
		c.Close()
	}
}

// counted is a connection that gives its slot back when it is closed.
type counted struct {
	net.Conn
	once  sync.Once
	leave func()

	mu      sync.Mutex
	writeBy time.Time // the deadline that was set last
}

// sameDeadline is how much later a deadline may be and still count as the same.
const sameDeadline = time.Second

// SetWriteDeadline implements net.Conn. The server sets a deadline for every
// request: one that is far and hardly later than the one before is not worth
// the cost of a timer.
func (c *counted) SetWriteDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if later := t.Sub(c.writeBy); later >= 0 && later < sameDeadline && time.Until(c.writeBy) > 20*sameDeadline {
		return nil
	}
	c.writeBy = t
	return c.Conn.SetWriteDeadline(t)
}

// SetDeadline implements net.Conn.
func (c *counted) SetDeadline(t time.Time) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.writeBy = t
	return c.Conn.SetDeadline(t)
}

// Close implements net.Conn.
func (c *counted) Close() error {
	c.once.Do(c.leave)
	return c.Conn.Close()
}
