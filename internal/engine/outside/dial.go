package outside

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"syscall"
	"time"
)

const dialTime = 10 * time.Second

// dial connects to a place outside. Each address is checked when it is dialled, after
// its name was resolved: a name that leads elsewhere a moment later is checked again.
func (c Config) dial(ctx context.Context, network, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: dialTime, KeepAlive: 30 * time.Second, Resolver: c.Resolver, ControlContext: func(_ context.Context, _, address string, _ syscall.RawConn) error {
		to, err := netip.ParseAddrPort(address)
		if err != nil {
			return fmt.Errorf("%s is no address of the internet", address)
		}
		return c.Networks.Check(to.Addr())
	}}
	return d.DialContext(ctx, network, address)
}
