package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/cores"
	"steadyferry/internal/door/api"
	"steadyferry/internal/door/console"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/door/metrics"
	"steadyferry/internal/engine/postgres"
	"steadyferry/internal/node"
)

// stopTime is how long the service takes at most to finish what is in hand.
const stopTime = 9 * time.Second

// running is a service that runs, for what goes with it.
type running struct {
	url      string // of the API and console
	token    string // of the owner
	database string // of the records
}

// serve runs a node until it is told to stop. with, if there is one, runs
// beside it and ends with its context.
func serve(args []string, with func(ctx context.Context, r running) error) error {
	var c config
	fs := flags("serve", &c)
	if err := readConfig(fs, args); err != nil {
		return err
	}
	return c.run(with)
}

// clockFileVariable names a file that says how wrong the node's clock is, for
// tests of that and for the past of the demo.
const clockFileVariable = "FERRYD_CLOCK_FILE"

func (c *config) run(with func(ctx context.Context, r running) error) (err error) {
	slog.SetDefault(slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: c.logLevel})))
	if path := os.Getenv(clockFileVariable); path != "" {
		go clock.Follow(path)
	}
	cores.Spare()
	// Batches come and go fast: with the default the collector would run
	// many times a second over a small heap.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(300)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(512 << 20)
	}
	stop, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	unlock, err := c.takeDir()
	if err != nil {
		return err
	}
	defer unlock()
	secure, err := c.tls()
	if err != nil {
		return err
	}
	people, err := c.people()
	if err != nil {
		return err
	}
	if clients := people.Certificates; clients != nil {
		secure = asking(secure, clients)
	}
	listener, err := net.Listen("tcp", c.listen)
	if err != nil {
		return fmt.Errorf("-listen %s: %w", c.listen, err)
	}
	defer listener.Close()

	database, stopDatabase, err := c.openDatabase(stop)
	if err != nil {
		return err
	}
	defer stopDatabase()
	settings := node.Config{Name: c.node, Dir: c.dir, DatabaseURL: database, KeepRemoved: c.keepRemoved, KeepLogbook: c.keepLogbook, DiskReserve: c.diskReserve, Zone: c.zone, FeedRate: c.catchUpRate, Version: api.Version}
	if err := c.peers(listener.Addr(), &settings); err != nil {
		return err
	}
	if settings.Outside, err = c.outside(settings.PeerListener == nil); err != nil {
		return err
	}
	settings.SignIn, settings.PublicURL = people, c.publicURL
	n, err := node.Open(stop, settings)
	if err != nil {
		return err
	}
	closing := func() error {
		ctx, cancel := context.WithTimeout(context.Background(), 4*time.Second)
		defer cancel()
		return n.Close(ctx)
	}
	token, err := n.Access.WriteOwnerToken(stop)
	if err != nil {
		return errors.Join(err, closing())
	}
	a, err := api.New(&n.Services, console.Handler(), c.hostNames()...)
	if err != nil {
		return errors.Join(err, closing())
	}
	server := &http.Server{Handler: a.Handler(), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, WriteTimeout: gate.WriteTimeout, IdleTimeout: 3 * time.Minute, MaxHeaderBytes: 128 << 10, TLSConfig: secure,
		ErrorLog: slog.NewLogLogger(slog.Default().Handler(), slog.LevelDebug)}
	server.RegisterOnShutdown(a.Stop)
	failed := make(chan error, 3)
	go func() {
		if secure != nil {
			failed <- server.ServeTLS(gate.Listener(listener), "", "")
			return
		}
		failed <- server.Serve(gate.Listener(listener))
	}()
	if c.metricsListen != "" {
		mux := http.NewServeMux()
		mux.Handle("GET /metrics", metrics.Handler(a.Node))
		metrics := &http.Server{Addr: c.metricsListen, Handler: mux, ReadHeaderTimeout: 5 * time.Second}
		defer metrics.Close()
		go func() { failed <- fmt.Errorf("-metrics-listen %s: %w", c.metricsListen, metrics.ListenAndServe()) }()
	}
	url := c.scheme() + listener.Addr().String()
	slog.Info("serving", "node", c.node, "url", url, "dir", c.dir)
	beside, endBeside := context.WithCancel(stop)
	defer endBeside()
	besideDone := make(chan struct{})
	go func() {
		defer close(besideDone)
		if with != nil {
			if err := with(beside, running{url: url, token: token, database: database}); err != nil && beside.Err() == nil {
				failed <- err
			}
		}
	}()
	select {
	case <-stop.Done():
		slog.Info("stopping: finishing what is in hand")
	case err = <-failed:
	}
	cancel() // a second signal ends the process at once
	endBeside()
	<-besideDone
	ctx, done := context.WithTimeout(context.Background(), stopTime-5*time.Second)
	defer done()
	if shutdownErr := server.Shutdown(ctx); shutdownErr != nil {
		server.Close()
	}
	return errors.Join(err, closing())
}

// takeDir makes the data directory if it is missing, and works in it alone.
func (c *config) takeDir() (unlock func(), err error) {
	if err := os.MkdirAll(c.dir, 0o711); err != nil {
		return nil, err
	}
	if c.dir, err = filepath.Abs(c.dir); err != nil {
		return nil, err
	}
	return lockDir(c.dir)
}

// openDatabase returns the URL of the database for the records, and runs one
// inside the data directory when none is named.
func (c *config) openDatabase(ctx context.Context) (url string, stop func(), err error) {
	if c.database != "" {
		return c.database, func() {}, nil
	}
	server, err := postgres.Start(ctx, c.dir)
	if err != nil {
		return "", nil, err
	}
	return server.URL(), func() {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		server.Stop(ctx)
	}, nil
}

// lockDir makes sure that one ferryd at a time works in a directory.
func lockDir(dir string) (unlock func(), err error) {
	f, err := os.OpenFile(filepath.Join(dir, "ferryd.lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		pid, _ := os.ReadFile(f.Name())
		f.Close()
		return nil, fmt.Errorf("another ferryd (process %s) works in %s: stop it first, or choose another -dir", strings.TrimSpace(string(pid)), dir)
	}
	f.Truncate(0)
	fmt.Fprintln(f, os.Getpid())
	return func() { f.Close() }, nil
}
