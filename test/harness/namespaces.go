package harness

import (
	"cmp"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/url"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Net is a network of our own: a bridge, and a namespace for each node, with
// an address each. Nothing of it reaches beyond this machine.
type Net struct {
	t      testing.TB
	id     string // of this network: the last one may still be going away
	bridge string
	prefix string
	count  int
}

// NewNet makes the network, or skips the test where that is not allowed.
func NewNet(t testing.TB) *Net {
	t.Helper()
	number := rand.IntN(1 << 16)
	n := &Net{t: t, id: fmt.Sprintf("%04x", number), prefix: fmt.Sprintf("10.77.%d.", 1+number%250)}
	n.bridge = "sfb" + n.id
	if out, err := exec.Command("ip", "link", "add", n.bridge, "type", "bridge").CombinedOutput(); err != nil {
		t.Skipf("network namespaces are needed, and making them is not allowed here: %v %s", err, out)
	}
	t.Cleanup(func() { exec.Command("ip", "link", "del", n.bridge).Run() })
	n.ip("addr", "add", n.prefix+"1/24", "dev", n.bridge)
	n.ip("link", "set", n.bridge, "up")
	return n
}

func (n *Net) ip(args ...string) {
	n.t.Helper()
	out, err := exec.Command("ip", args...).CombinedOutput()
	require.NoError(n.t, err, "ip %v: %s", args, out)
}

// Host makes a namespace and returns its number, from 0.
func (n *Net) Host() int {
	n.t.Helper()
	i := n.count
	n.count++
	n.ip("netns", "add", n.name(i))
	n.t.Cleanup(func() {
		exec.Command("ip", "link", "del", n.link(i)).Run()
		exec.Command("ip", "netns", "del", n.name(i)).Run()
	})
	n.ip("link", "add", n.link(i), "type", "veth", "peer", "name", "eth0", "netns", n.name(i))
	n.ip("link", "set", n.link(i), "master", n.bridge, "up")
	n.ip("-n", n.name(i), "addr", "add", n.Addr(i)+"/24", "dev", "eth0")
	n.ip("-n", n.name(i), "link", "set", "eth0", "up")
	n.ip("-n", n.name(i), "link", "set", "lo", "up")
	return i
}

func (n *Net) name(i int) string { return fmt.Sprintf("sferry-%s-%d", n.id, i) }
func (n *Net) link(i int) string { return fmt.Sprintf("sfv%s-%d", n.id, i) }

// Addr returns the address of a host.
func (n *Net) Addr(i int) string { return fmt.Sprintf("%s%d", n.prefix, 11+i) }

// Cut parts a host from everything, and Mend joins it again.
func (n *Net) Cut(i int) { n.t.Helper(); n.ip("link", "set", n.link(i), "down") }

// Mend takes back a Cut.
func (n *Net) Mend(i int) { n.t.Helper(); n.ip("link", "set", n.link(i), "up") }

// Mute keeps a host from sending to another one, which it still hears.
func (n *Net) Mute(i, to int) {
	n.t.Helper()
	n.ip("-n", n.name(i), "route", "add", "blackhole", n.Addr(to)+"/32")
}

// Unmute takes back a Mute.
func (n *Net) Unmute(i, to int) {
	n.t.Helper()
	n.ip("-n", n.name(i), "route", "del", "blackhole", n.Addr(to)+"/32")
}

// Relay lets the hosts reach a database server of this machine, and returns its
// URL as they see it. The server listens on a socket in a directory, which a
// cut would not part from them.
func (n *Net) Relay(server string) string {
	n.t.Helper()
	u, err := url.Parse(server)
	require.NoError(n.t, err)
	query := u.Query()
	target := filepath.Join(query.Get("host"), ".s.PGSQL."+cmp.Or(query.Get("port"), "5432"))
	query.Del("host")
	query.Del("port")
	u.RawQuery = query.Encode()
	l, err := net.Listen("tcp", n.prefix+"1:0")
	require.NoError(n.t, err)
	n.t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go relay(c, target)
		}
	}()
	u.Host = l.Addr().String()
	return u.String()
}

func relay(c net.Conn, target string) {
	defer c.Close()
	to, err := net.Dial("unix", target)
	if err != nil {
		return
	}
	defer to.Close()
	go func() {
		io.Copy(to, c)
		to.Close()
	}()
	io.Copy(c, to)
}

// StartClusterOn starts a cluster with a host of the network for each node,
// over mutual TLS.
func StartClusterOn(t testing.TB, network *Net, count int) *Cluster {
	t.Helper()
	certs := Dir(t)
	var names []string
	for i := range count {
		names = append(names, fmt.Sprintf("node-%c", 'a'+i))
	}
	out, err := exec.Command(Binary(t, "ferryd"), "certs", "-tls-dir", certs, "-nodes", strings.Join(names, ",")).CombinedOutput()
	require.NoError(t, err, string(out))
	c := &Cluster{t: t, Database: network.Relay(NewDatabase(t, shared))}
	for i, name := range names {
		host := network.Host()
		dir, addr := Dir(t), network.Addr(i)
		n := &Node{t: t, Dir: dir, Name: name, URL: "http://" + addr + ":14720", Within: []string{"ip", "netns", "exec", network.name(host)},
			args: []string{"serve", "-dir", dir, "-node", name, "-listen", addr + ":14720", "-plain", "-peer-listen", addr + ":14730", "-tls-dir", certs, "-database", c.Database}}
		c.Nodes = append(c.Nodes, n)
		t.Cleanup(n.cleanup)
		n.Run()
	}
	c.Connect()
	c.WaitUp(count)
	return c
}
