package main

import (
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/node"
)

// config is what ferryd can be told: by flag, by an environment variable
// FERRYD_NAME, or in the file that -config names, in this order.
type config struct {
	node          string
	dir           string
	listen        string
	metricsListen string
	database      string
	keepRemoved   time.Duration
	keepLogbook   time.Duration
	diskReserve   int64
	logLevel      slog.Level
	zone          string
	advertise     string
	names         string
	peerListen    string
	tlsDir        string
	catchUpRate   int64
	networks      string
	schemes       string
	sealKeys      string
	signIn        string
	publicURL     string
	tlsCert       string
	tlsKey        string
	plain         bool
}

// durationFlag and sizeFlag read values as the rest of the product does.
type durationFlag struct{ to *time.Duration }

func (f durationFlag) String() string {
	if f.to == nil {
		return ""
	}
	return address.FormatDuration(*f.to)
}

func (f durationFlag) Set(text string) (err error) {
	*f.to, err = address.ParseDuration(text)
	return err
}

type sizeFlag struct{ to *int64 }

func (f sizeFlag) String() string {
	if f.to == nil {
		return ""
	}
	return address.FormatSize(*f.to)
}

func (f sizeFlag) Set(text string) (err error) {
	*f.to, err = address.ParseSize(text)
	return err
}

func flags(name string, c *config) *flag.FlagSet {
	fs := flag.NewFlagSet("ferryd "+name, flag.ContinueOnError)
	c.keepRemoved, c.keepLogbook, c.diskReserve, c.catchUpRate = node.DefaultKeepRemoved, node.DefaultKeepLogbook, node.DefaultDiskReserve, replica.DefaultFeedRate
	fs.StringVar(&c.node, "node", "node-a", "`NAME` of this node")
	fs.StringVar(&c.dir, "dir", "ferry-data", "data `DIRECTORY`, created if it is missing")
	fs.StringVar(&c.listen, "listen", "127.0.0.1:14720", "`ADDRESS` on which to serve the API and the console")
	fs.StringVar(&c.metricsListen, "metrics-listen", "", "`ADDRESS` on which to serve /metrics without a token; without it they need one, on -listen")
	fs.StringVar(&c.database, "database", "", "`URL` of a PostgreSQL database for the catalog; without it one runs inside -dir. Nodes with the same database form one cluster")
	fs.StringVar(&c.zone, "zone", "", "`ZONE` of this node: nodes of one zone may fail together, so that replicas are spread over zones")
	fs.StringVar(&c.peerListen, "peer-listen", "", "`ADDRESS` on which to talk to the other nodes of the cluster; without it this node is the only one")
	fs.StringVar(&c.advertise, "advertise", "", "`HOST` under which other nodes and clients reach this one; without it that of -listen and -peer-listen")
	fs.StringVar(&c.names, "names", "", "`HOSTS`, separated by commas, under which callers may reach this node, such as that of a proxy; IP addresses, localhost, this machine's name and -advertise are taken without it")
	fs.StringVar(&c.tlsDir, "tls-dir", "", "`DIRECTORY` with ca.pem, NODE.pem and NODE-key.pem for TLS between nodes (ferryd certs makes them); needed unless -peer-listen is on loopback")
	fs.StringVar(&c.networks, "outside-networks", endpoint.Public, "`NETWORKS` in which endpoints may lie: "+endpoint.AllowedNetworks)
	fs.StringVar(&c.schemes, "outside-schemes", "https,postgresql,ferry+https,smtps,smtp", "`SCHEMES` that addresses of endpoints may begin with: "+setting.Schemes)
	fs.StringVar(&c.sealKeys, "seal-keys", "", "`FILE` with the keys by which secrets of endpoints and of accounts are kept, one a line: the first one seals, all open. Nodes of a cluster need the same; one that is alone makes its own in -dir")
	fs.StringVar(&c.signIn, "sign-in", "", "YAML `FILE` that says by which providers people sign in, and for whom certificates of clients stand; without it all come with tokens alone")
	fs.StringVar(&c.tlsCert, "tls-cert", "", "`FILE` with the certificate of the API and the console, and those up to its authority; it is read anew when it changes")
	fs.StringVar(&c.tlsKey, "tls-key", "", "`FILE` with the key of -tls-cert")
	fs.BoolVar(&c.plain, "plain", false, "serve plain HTTP even if -listen is not on loopback: something before this node speaks TLS")
	fs.StringVar(&c.publicURL, "public-url", "", "`URL` by which browsers reach the service, such as https://ferry.example, if another one than that of -listen")
	fs.Var(sizeFlag{&c.catchUpRate}, "catch-up-rate", "`SIZE` that this node sends a second at most to replicas that are far behind")
	fs.Var(durationFlag{&c.keepLogbook}, "keep-logbook", "`DURATION` for which entries of the logbook are kept")
	fs.Var(durationFlag{&c.keepRemoved}, "keep-removed", "`DURATION` in which a removed channel can be brought back")
	fs.Var(sizeFlag{&c.diskReserve}, "disk-reserve", "`SIZE` of free disk below which publishing is refused (at most a twentieth of the disk)")
	fs.TextVar(&c.logLevel, "log-level", slog.LevelInfo, "least `LEVEL` that is logged: DEBUG, INFO, WARN, ERROR")
	return fs
}

// hostNames are the names under which callers may reach the node.
func (c *config) hostNames() (names []string) {
	listen, _, _ := net.SplitHostPort(c.listen)
	machine, _ := os.Hostname()
	public, _ := url.Parse(c.publicURL)
	for _, name := range append(strings.Split(c.names, ","), c.advertise, listen, machine, public.Hostname()) {
		name = strings.ToLower(strings.TrimSuffix(strings.TrimSpace(name), "."))
		if name != "" && net.ParseIP(name) == nil && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// readConfig parses the command line and fills in what it leaves out from
// the environment and the file.
func readConfig(fs *flag.FlagSet, args []string) error {
	file := fs.String("config", os.Getenv("FERRYD_CONFIG"), "YAML `FILE` with these settings by their names")
	fs.SetOutput(io.Discard)
	if err := fs.Parse(args); err != nil {
		if err == flag.ErrHelp {
			fs.SetOutput(os.Stdout)
			fmt.Printf("%s [flags]\n\nEach flag can also be set as FERRYD_NAME (with _ for -) or in the file of -config.\n\n", fs.Name())
			fs.PrintDefaults()
			return err
		}
		return &usageError{err}
	}
	if fs.NArg() > 0 {
		return &usageError{fmt.Errorf("%q: only flags are expected", fs.Arg(0))}
	}
	given := map[string]bool{}
	fs.Visit(func(f *flag.Flag) { given[f.Name] = true })
	settings := map[string]any{}
	if *file != "" {
		b, err := os.ReadFile(*file)
		if err == nil {
			err = yaml.Unmarshal(b, &settings)
		}
		if err != nil {
			return &usageError{fmt.Errorf("-config %s: %w", *file, err)}
		}
		for name := range settings {
			if fs.Lookup(name) == nil {
				return &usageError{fmt.Errorf("-config %s: there is no setting %q; ferryd serve -h lists them", *file, name)}
			}
		}
	}
	var failed error
	fs.VisitAll(func(f *flag.Flag) {
		if given[f.Name] || failed != nil {
			return
		}
		variable := "FERRYD_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		text, from := os.Getenv(variable), variable
		if text == "" {
			value, ok := settings[f.Name]
			if !ok {
				return
			}
			text, from = fmt.Sprint(value), *file+": "+f.Name
		}
		if err := f.Value.Set(text); err != nil {
			failed = &usageError{fmt.Errorf("%s: %w", from, err)}
		}
	})
	for _, variable := range os.Environ() {
		name, _, _ := strings.Cut(variable, "=")
		short, ours := strings.CutPrefix(name, "FERRYD_")
		if ours && name != "FERRYD_CLOCK_FILE" && fs.Lookup(strings.ToLower(strings.ReplaceAll(short, "_", "-"))) == nil {
			slog.Warn("an environment variable is none of the settings, and left out", "name", name)
		}
	}
	return failed
}
