package postgres

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"sync"
)

// Loopback serves a server that listens on a socket at a port of 127.0.0.1 too, until the
// context ends: for what reaches databases by addresses alone. Who comes still has to know
// the password. It returns the host and port.
func Loopback(ctx context.Context, address string) (hostPort string, err error) {
	u, err := url.Parse(address)
	if err != nil {
		return "", err
	}
	dir := u.Query().Get("host")
	sockets, err := filepath.Glob(filepath.Join(dir, ".s.PGSQL.*"))
	if err != nil {
		return "", err
	}
	socket := ""
	for _, one := range sockets {
		if info, err := os.Stat(one); err == nil && info.Mode()&os.ModeSocket != 0 {
			socket = one
		}
	}
	if socket == "" {
		return "", fmt.Errorf("no server listens in %s", dir)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	context.AfterFunc(ctx, func() { listener.Close() })
	go func() {
		for {
			outside, err := listener.Accept()
			if err != nil {
				return
			}
			go pass(ctx, outside, socket)
		}
	}()
	return listener.Addr().String(), nil
}

// pass carries bytes between a connection and a socket until either ends.
func pass(ctx context.Context, outside net.Conn, socket string) {
	defer outside.Close()
	var d net.Dialer
	inside, err := d.DialContext(ctx, "unix", socket)
	if err != nil {
		return
	}
	defer inside.Close()
	defer context.AfterFunc(ctx, func() {
		outside.Close()
		inside.Close()
	})()
	var both sync.WaitGroup
	for _, way := range [][2]net.Conn{{outside, inside}, {inside, outside}} {
		both.Go(func() {
			_, _ = io.Copy(way[0], way[1]) // an end is an end, whatever it says
			way[0].Close()
			way[1].Close()
		})
	}
	both.Wait()
}
