// Package node is one running node: it opens what there is, floor by floor, and
// runs the table of duties. Nothing is decided here.
package node

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	rights "steadyferry/internal/core/access"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/setting"
	signinconfig "steadyferry/internal/core/signin"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service"
	"steadyferry/internal/service/access"
	"steadyferry/internal/service/accounts"
	"steadyferry/internal/service/acts"
	"steadyferry/internal/service/chart"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/declares"
	"steadyferry/internal/service/endpoints"
	"steadyferry/internal/service/groups"
	"steadyferry/internal/service/jobs"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/manage"
	"steadyferry/internal/service/moves"
	"steadyferry/internal/service/outlook"
	"steadyferry/internal/service/publishers"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/quotas"
	"steadyferry/internal/service/replays"
	"steadyferry/internal/service/routes"
	"steadyferry/internal/service/samples"
	"steadyferry/internal/service/scribe"
	"steadyferry/internal/service/seconds"
	"steadyferry/internal/service/signin"
	"steadyferry/internal/service/timetable"
	"steadyferry/internal/service/trace"
	"steadyferry/internal/service/watches"
)

// Config of a node.
type Config struct {
	Name        string        // of the node
	Dir         string        // data directory, made if it is missing
	DatabaseURL string        // of the records
	KeepRemoved time.Duration // how long a removed channel can be brought back
	KeepLogbook time.Duration // how long entries of the logbook are kept
	DiskReserve int64         // bytes of the disk that publishing leaves free; at most a twentieth of it

	Zone          string       // nodes of one zone may fail together
	Advertise     string       // URL of the API, for clients
	PeerListener  net.Listener // for other nodes; nil: this node stays alone
	PeerAdvertise string       // host:port at which others reach it
	PeerTLS       *tls.Config  // nil: plain
	FeedRate      int64        // bytes a second at most to replicas that catch up
	Version       string       // of the program

	Outside endpoints.Config // where endpoints may be, and with which keys their secrets are kept

	SignIn    *signinconfig.Config // by which other places people sign in; nil: by none
	PublicURL string               // by which browsers reach the cluster; empty: by that of each request
}

// Defaults of Config.
const (
	DefaultKeepRemoved = 24 * time.Hour
	DefaultKeepLogbook = logbook.Kept
	DefaultDiskReserve = int64(256) << 20
)

// Bounds of what is open for long, and of searches, which take processor time
// for as long as they run.
const (
	callerStreams  = 2000
	nodeStreams    = 6000
	callerSearches = 8
	nodeSearches   = 16
)

// Node is one running node.
type Node struct {
	service.Services

	logs         *journal.Store
	cancel       context.CancelFunc
	stopSampling func()
	duties       sync.WaitGroup
}

// Open starts a node on its data directory and opens its partitions.
func Open(ctx context.Context, config Config) (*Node, error) {
	n := &Node{}
	n.Streams = admit.NewSlots("streams", callerStreams, nodeStreams, 5*time.Second)
	n.Searches = admit.NewSlots("searches", callerSearches, nodeSearches, 2*time.Second)
	if err := raiseFileLimit(); err != nil {
		slog.Warn("could not raise the limit of open files", "error", err)
	}
	var err error
	if n.logs, err = journal.OpenStore(filepath.Join(config.Dir, "logs")); err != nil {
		return nil, err
	}
	var opened atomic.Bool
	changed := func(d catalog.Delta) {
		if opened.Load() {
			n.Parts.Follow(d)
		}
	}
	if n.Catalog, err = catalog.Open(ctx, config.DatabaseURL, changed); err != nil {
		return nil, errors.Join(err, n.logs.Close())
	}
	if _, err := logbook.Apart(ctx, n.Catalog); err != nil {
		slog.Warn("the logbook stays with the role that writes it", "error", err)
	}
	id, err := cluster.Join(ctx, n.Catalog, n.logs, cluster.Joining{Dir: config.Dir, Name: config.Name, Zone: config.Zone, API: config.Advertise, Peer: config.PeerAdvertise, Alone: config.PeerListener == nil})
	if err != nil {
		n.Catalog.Close()
		return nil, errors.Join(err, n.logs.Close())
	}
	n.Parts = part.New(part.Config{Name: config.Name, ID: id, Dir: config.Dir, Reserve: config.DiskReserve, Listener: config.PeerListener, TLS: config.PeerTLS, FeedRate: config.FeedRate}, n.Catalog, n.logs)
	logs.Answer(n.Parts)
	n.Quotas = quotas.New(n.Parts, n.Catalog)
	n.Cluster = cluster.New(n.Parts, n.Catalog, config.Version, config.PeerTLS, n.Streams)
	n.Publishers = publishers.New(n.Parts, n.Catalog)
	n.Queues = queues.New(n.Parts, n.Catalog)
	n.Groups = groups.New(n.Parts, n.Catalog, n.Cluster, n.Queues)
	n.Access = access.New(n.Parts, n.Catalog, config.Dir, config.KeepLogbook)
	n.Parts.Passed(n.Access.Passed)
	if config.SignIn == nil {
		config.SignIn = &signinconfig.Config{}
	}
	n.SignIn = signin.New(n.Catalog, config.SignIn, config.PublicURL)
	n.Accounts = accounts.New(n.Catalog, config.Outside.Keys, !signinconfig.On(config.SignIn.Accounts), n.Access.MayHandle)
	n.Seconds = seconds.New(n.Catalog)
	n.Jobs = jobs.New(n.Catalog, n.Access.Scoped)
	n.Moves = moves.New(n.Parts, n.Catalog, n.Jobs, n.Cluster)
	n.Look = look.New(n.Parts, n.Catalog)
	n.Replays = replays.New(n.Parts, n.Catalog, n.Jobs, n.Queues, n.Groups, n.Look)
	n.Endpoints = endpoints.New(n.Parts, n.Catalog, config.Outside)
	n.Routes = routes.New(n.Parts, n.Catalog, n.Groups, n.Queues, n.Endpoints)
	n.Traces = trace.New(n.Parts, n.Catalog, n.Queues, n.Groups, n.Look, n.Routes, n.Publishers)
	n.Samples = samples.New(&samples.Sources{Parts: n.Parts, Groups: n.Groups, Routes: n.Routes, Endpoints: n.Endpoints, Cluster: n.Cluster, Quotas: n.Quotas}, n.Catalog, n.Cluster.IsOnDuty)
	n.Watches = watches.New(n.Parts, n.Catalog, n.Samples, n.Endpoints)
	n.Charts = chart.New(n.Parts, n.Catalog, n.Samples, n.Watches, n.Groups, n.Publishers)
	n.Timetable = timetable.New(n.Parts, n.Catalog, n.Jobs)
	n.Outlook = outlook.New(n.Parts, n.Catalog, n.Samples, n.Watches, n.Jobs, n.Queues, n.Look, n.Timetable)
	n.Manage = manage.New(n.Parts, n.Catalog, n.Queues, n.Cluster, n.Moves, config.KeepRemoved)
	n.Declares = declares.New(n.Parts, n.Catalog, n.Cluster, n.Manage, n.Groups, n.Routes, n.Endpoints, n.Watches, n.Timetable, n.Access, n.Queues)
	n.Watches.Keep(n.Declares.Correct)
	acts.Register(n.Timetable, &acts.Services{Parts: n.Parts, Catalog: n.Catalog, Queues: n.Queues, Groups: n.Groups, Replays: n.Replays, Look: n.Look, Cluster: n.Cluster, Declares: n.Declares, Outlook: n.Outlook, Dir: config.Dir})
	opened.Store(true)
	n.Parts.Open(rights.As(ctx, rights.Node(setting.Ferryd)), n.Groups)
	n.begin()
	n.Parts.Serve(true)
	return n, nil
}

// begin starts the duties.
func (n *Node) begin() {
	run, cancel := context.WithCancel(rights.As(context.Background(), rights.Node(setting.Ferryd)))
	n.cancel = cancel
	n.stopSampling = clock.BeforeShift(func(now time.Time) {
		n.Parts.Sample(now)
		n.Samples.Lived(run, now)
	})
	for _, d := range []struct {
		every time.Duration
		do    func(now time.Time)
	}{
		{time.Second, func(time.Time) { n.Parts.Sample(clock.Now()) }},
		{250 * time.Millisecond, func(time.Time) { n.Parts.CheckDisk() }},
		{5 * time.Second, func(time.Time) { n.Parts.Retain(run, clock.Now()) }},
		{time.Second, func(time.Time) { n.Parts.LeaveOld(run) }},
		{queues.TickEvery, func(time.Time) { n.Queues.Tick(run) }},
		{200 * time.Millisecond, func(now time.Time) { n.Groups.Tend(run, now) }},
		{routes.TendEvery, func(time.Time) { n.Routes.Tend(run) }},
		{endpoints.TellEvery, func(time.Time) { n.Endpoints.Tend(run) }},
		{routes.RecordEvery, func(time.Time) { n.Routes.Record(run) }},
		{time.Second, func(time.Time) { n.Groups.Sample(run, clock.Now()) }},
		{samples.Every, func(now time.Time) { n.Samples.Tick(run, now) }},
		{cluster.LeaderEvery, func(now time.Time) { n.Cluster.SpreadLeaders(run, now) }},
		{4 * time.Second, func(time.Time) { n.Catalog.Seen(run, n.Parts.ID()) }},
		{2 * time.Second, func(time.Time) { n.Access.KeepOwnerToken(run) }},
		{20 * time.Second, func(time.Time) { n.Access.NoteUses(run); n.Access.NoteGathered(run, false) }},
		{watches.MindEvery, func(time.Time) { n.Watches.Mind(run) }},
		{quotas.Every, func(time.Time) { n.Quotas.Tend() }},
		{publishers.Every, func(now time.Time) { n.Publishers.Tend(now) }},
		{time.Minute, func(now time.Time) { n.Manage.Purge(run, now) }},
		{time.Minute, func(time.Time) { n.Catalog.Tidy(run) }},
		{time.Minute, func(time.Time) { n.Access.SignLogbook(run) }},
		{time.Hour, func(time.Time) { n.Access.ForgetLogbook(run) }},
	} {
		n.duties.Go(func() { repeat(run, d.every, d.do) })
	}
	n.duties.Go(func() { n.Cluster.Reporting(run) })
	n.duties.Go(func() {
		n.Catalog.WhileOnDuty(run, func(ctx context.Context) {
			n.Cluster.OnDuty(ctx, n.Jobs.Run, n.Moves.Run, n.Groups.Run, n.Routes.Run, n.Samples.Run, n.Watches.Run, n.Timetable.Run, scribe.New(n.Parts, n.Catalog).Run)
		})
	})
}

func repeat(ctx context.Context, every time.Duration, do func(now time.Time)) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case now := <-ticker.C:
			do(now)
		}
	}
}

func raiseFileLimit() error {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return err
	}
	limit.Cur = limit.Max
	return unix.Setrlimit(unix.RLIMIT_NOFILE, &limit)
}

// Close finishes what is in hand and closes everything.
func (n *Node) Close(ctx context.Context) error {
	n.Parts.Serve(false)
	n.Cluster.HandOverAll(ctx)
	n.stopSampling()
	n.cancel()
	n.Parts.Disconnect()
	n.duties.Wait() // they begin what runs in the background
	n.Parts.Wait()
	n.Samples.End(ctx)
	n.Access.NoteGathered(ctx, true)
	n.Access.SignLogbook(ctx)
	if err := n.Catalog.NotRunning(ctx, n.Parts.ID()); err != nil {
		slog.Debug("the catalog does not know that this node stops", "error", err)
	}
	n.Catalog.Close()
	return errors.Join(n.Parts.Close(ctx), n.logs.Close())
}
