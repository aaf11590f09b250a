package main

import (
	"crypto/tls"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"steadyferry/client"
	"steadyferry/internal/node"
)

// configured reads a command line, with a file of the content unless it is
// empty.
func configured(t *testing.T, file string, args ...string) (*config, error) {
	t.Helper()
	if file != "" {
		path := filepath.Join(t.TempDir(), "ferryd.yaml")
		require.NoError(t, os.WriteFile(path, []byte(file), 0o600))
		args = append(args, "-config", path)
	}
	var c config
	return &c, readConfig(flags("serve", &c), args)
}

// A flag comes before the environment, that before the file, that before what
// stands without any.
func TestWhereASettingComesFrom(t *testing.T) {
	c, err := configured(t, "")
	require.NoError(t, err)
	assert.Equal(t, []any{"node-a", "ferry-data", node.DefaultKeepRemoved, node.DefaultDiskReserve}, []any{c.node, c.dir, c.keepRemoved, c.diskReserve})

	const file = "node: of-file\ndir: file-dir\nkeep-removed: 2d\ndisk-reserve: 1GiB\nlog-level: WARN\n"
	c, err = configured(t, file)
	require.NoError(t, err)
	assert.Equal(t, []any{"of-file", "file-dir", 48 * time.Hour, int64(1 << 30), "WARN"}, []any{c.node, c.dir, c.keepRemoved, c.diskReserve, c.logLevel.String()})

	t.Setenv("FERRYD_DIR", "environment-dir")
	t.Setenv("FERRYD_KEEP_REMOVED", "3d")
	c, err = configured(t, file, "-keep-removed", "4d")
	require.NoError(t, err)
	assert.Equal(t, []any{"of-file", "environment-dir", 96 * time.Hour}, []any{c.node, c.dir, c.keepRemoved})
}

func TestWhatIsWrongWithASettingIsSaid(t *testing.T) {
	for _, c := range []struct {
		name, file, says string
		args             []string
	}{
		{"a flag that is none", "", "flag provided but not defined: -colour", []string{"-colour", "red"}},
		{"a value", "", `"soon"`, []string{"-keep-removed", "soon"}},
		{"more than flags", "", `"now": only flags are expected`, []string{"now"}},
		{"a file that is not there", "", "nowhere.yaml", []string{"-config", "nowhere.yaml"}},
		{"a file that is no YAML", "node: [", "-config", nil},
		{"a name in the file", "colour: red\n", `there is no setting "colour"; ferryd serve -h lists them`, nil},
		{"a value in the file", "disk-reserve: much\n", "disk-reserve", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := configured(t, c.file, c.args...)
			var wrong *usageError
			require.ErrorAs(t, err, &wrong)
			assert.Contains(t, err.Error(), c.says)
		})
	}
	t.Setenv("FERRYD_DISK_RESERVE", "much")
	_, err := configured(t, "")
	assert.ErrorContains(t, err, "FERRYD_DISK_RESERVE: ")
}

func TestTheNamesAndAddressOfANode(t *testing.T) {
	machine, err := os.Hostname()
	require.NoError(t, err)
	c := config{names: "Proxy.example., 10.0.0.1 ,proxy.example", advertise: "depot.example", listen: "127.0.0.1:14720"}
	assert.Subset(t, c.hostNames(), []string{"proxy.example", "depot.example"})
	assert.NotContains(t, c.hostNames(), "10.0.0.1", "addresses are taken without it")
	assert.Len(t, (&config{names: "a,a,A", listen: ":1"}).hostNames(), len((&config{names: "a", listen: ":1"}).hostNames()))
	for listen, want := range map[string]string{"127.0.0.1:80": "127.0.0.1:80", "0.0.0.0:80": machine + ":80", "[::]:80": machine + ":80", "[::1]:80": "[::1]:80", "nonsense": "nonsense"} {
		assert.Equal(t, want, (&config{}).reachable(listen), listen)
	}
	assert.Equal(t, "depot.example:80", c.reachable("0.0.0.0:80"))
}

// Other nodes are talked to over TLS, unless they are on loopback.
func TestOtherNodesAreTalkedToOverTLS(t *testing.T) {
	at := &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: 14720}
	for _, c := range []struct {
		config
		says string
	}{
		{config{node: "Node A"}, "-node"},
		{config{node: "node-a", peerListen: "14721"}, "-peer-listen 14721"},
		{config{node: "node-a", peerListen: "0.0.0.0:0"}, "not on loopback: nodes talk over mutual TLS there"},
		{config{node: "node-a", peerListen: "depot.example:0"}, "not on loopback"},
		{config{node: "node-a", peerListen: "0.0.0.0:0", tlsDir: "nowhere"}, "ferryd certs -tls-dir nowhere -nodes node-a makes what is needed"},
	} {
		assert.ErrorContains(t, c.peers(at, &node.Config{}), c.says)
	}
	var alone, two node.Config
	require.NoError(t, (&config{node: "node-a"}).peers(at, &alone))
	assert.Equal(t, "http://127.0.0.1:14720", alone.Advertise)
	assert.Nil(t, alone.PeerListener)
	require.NoError(t, (&config{node: "node-a", peerListen: "localhost:0"}).peers(at, &two))
	defer two.PeerListener.Close()
	assert.NotEmpty(t, two.PeerAdvertise)
}

// Nodes trust those whose certificates the authority has signed, by their names,
// and nobody else.
func TestCertificatesOfNodes(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	require.NoError(t, certs([]string{"-tls-dir", dir, "-nodes", "node-a,node-b"}))
	ca, err := os.ReadFile(filepath.Join(dir, "ca.pem"))
	require.NoError(t, err)
	require.NoError(t, certs([]string{"-tls-dir", dir, "-nodes", "node-c"}))
	again, err := os.ReadFile(filepath.Join(dir, "ca.pem"))
	require.NoError(t, err)
	assert.Equal(t, ca, again, "one authority for all")
	require.NoError(t, certs([]string{"-tls-dir", other, "-nodes", "node-a"}))
	for _, name := range []string{"ca-key.pem", "node-a-key.pem"} {
		info, err := os.Stat(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
	load := func(dir, name string) *tls.Config {
		c, err := peerTLS(dir, name)
		require.NoError(t, err)
		return c
	}
	meet := func(server, dialer *tls.Config, name string) error {
		a, b := net.Pipe()
		defer b.Close()
		go func() {
			defer a.Close()
			s := tls.Server(a, server)
			if s.Handshake() == nil {
				io.WriteString(s, "welcome")
			}
		}()
		dialer = dialer.Clone()
		dialer.ServerName = name
		c := tls.Client(b, dialer)
		c.SetDeadline(time.Now().Add(5 * time.Second))
		_, err := io.ReadFull(c, make([]byte, 7))
		return err
	}
	assert.NoError(t, meet(load(dir, "node-a"), load(dir, "node-c"), "node-a"))
	assert.Error(t, meet(load(dir, "node-a"), load(dir, "node-c"), "node-b"), "it is another node")
	assert.Error(t, meet(load(dir, "node-a"), load(other, "node-a"), "node-a"), "another authority")
	assert.Error(t, meet(load(dir, "node-a"), &tls.Config{RootCAs: load(dir, "node-a").RootCAs}, "node-a"), "no certificate")

	_, err = peerTLS(dir, "node-x")
	assert.ErrorIs(t, err, os.ErrNotExist)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ca.pem"), []byte("nothing"), 0o600))
	_, err = peerTLS(dir, "node-a")
	assert.ErrorContains(t, err, "ca.pem holds no certificate")
	assert.ErrorContains(t, certs([]string{"-tls-dir", dir}), "is not PEM")
	assert.ErrorContains(t, certs([]string{"-tls-dir", other, "-nodes", "a b"}), "-nodes")
}

// One ferryd at a time works in a directory, and says which one does.
func TestADirectoryIsTakenOnce(t *testing.T) {
	c := config{dir: filepath.Join(t.TempDir(), "made", "here")}
	unlock, err := c.takeDir()
	require.NoError(t, err)
	_, err = (&config{dir: c.dir}).takeDir()
	assert.ErrorContains(t, err, "another ferryd (process ")
	unlock()
	unlock, err = (&config{dir: c.dir}).takeDir()
	require.NoError(t, err)
	unlock()
}

func TestWhatVerifySays(t *testing.T) {
	for want, v := range map[string]client.Verified{
		"coldchain/readings#0; equal on node-a, node-b; 7 records":                                                    {Address: "coldchain/readings#0", Equal: true, Nodes: []string{"node-a", "node-b"}, Records: 7},
		"x/y#1; NOT EQUAL on node-a, node-b; 2 records; differs on node-b; 1 damaged on node-a; 3 damaged on node-b":  {Address: "x/y#1", Nodes: []string{"node-a", "node-b"}, Records: 2, Differs: []string{"node-b"}, Damaged: map[string]int{"node-b": 3, "node-a": 1}},
		"x/y#2; equal on node-a; 0 records; not compared with node-c, which does not answer; its leader is not known": {Address: "x/y#2", Equal: true, Nodes: []string{"node-a"}, Missing: []string{"node-c"}, Problem: "its leader is not known"},
	} {
		assert.Equal(t, want, verifiedLine(v))
	}
}
