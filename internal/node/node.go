// Package node is one running node: the partitions it holds, the records it
// follows, and the duties that run in the background.
package node

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
	"golang.org/x/sys/unix"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/rate"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
)

// Config of a node.
type Config struct {
	Name        string        // of the node
	Dir         string        // data directory, made if it is missing
	DatabaseURL string        // of the records
	KeepRemoved time.Duration // how long a removed channel can be brought back
	DiskReserve int64         // bytes of the disk that publishing leaves free; at most a twentieth of it

	Zone          string       // nodes of one zone may fail together
	Advertise     string       // URL of the API, for clients
	PeerListener  net.Listener // for other nodes; nil: this node stays alone
	PeerAdvertise string       // host:port at which others reach it
	PeerTLS       *tls.Config  // nil: plain
	FeedRate      int64        // bytes a second at most to replicas that catch up
	Version       string       // of the program
}

// Defaults of Config.
const (
	DefaultKeepRemoved = 24 * time.Hour
	DefaultDiskReserve = int64(256) << 20
)

// Bounds of the bytes of batches that a node has in hand at once; publishers
// wait beyond them.
const (
	publishBytes   = 192 << 20
	publishReserve = 32 << 20  // of them for small requests
	publishShare   = 128 << 20 // for the large requests of one caller
)

// Node is one running node.
type Node struct {
	name, dir   string
	version     string
	reserve     int64
	keepRemoved time.Duration
	listener    net.Listener
	tls         *tls.Config
	id          uint64 // in the records, and in every group
	started     time.Time
	peers       network
	calls       peer.Handlers // who answers other nodes
	others      *others
	upSince     sync.Map // of other nodes: id to time.Time
	onDuty      atomic.Bool
	Streams     *admit.Slots // what is open for long: tails, browses, members
	Searches    *admit.Slots
	turns       *semaphore.Weighted // of those who look at messages
	store       *journal.Store
	sched       *replica.Scheduler
	catalog     *catalog.Catalog

	kinds     map[string]*Kind
	holdBack  func(p *Partition) (offset int64, held bool)                             // up to which offset retention waits for readers
	committed func(ctx context.Context, t *Topic, group string) (map[int]int64, error) // the offsets of a group by partition

	followMu sync.Mutex // one follow at a time
	mu       sync.RWMutex
	topics   map[int64]*Topic

	groups  *coordinators
	commits *committer
	offsets *mirror
	tended  time.Time // when the groups that this node coordinates were looked at last

	inHand       *admit.Bytes
	decoding     *semaphore.Weighted // bytes of large compressed batches that are looked through
	telling      *semaphore.Weighted // and of those that tails tell
	diskFull     atomic.Bool
	ready        atomic.Bool // the records may be followed
	serving      atomic.Bool
	cancel       context.CancelFunc
	stopSampling func()
	wg           sync.WaitGroup
	changes      signal
}

// Bounds of what is open for long, and of searches, which take processor time
// for as long as they run.
const (
	callerStreams  = 2000
	nodeStreams    = 6000
	callerSearches = 8
	nodeSearches   = 16
)

// Open starts a node on its data directory and opens its partitions.
func Open(ctx context.Context, config Config) (*Node, error) {
	n := &Node{name: config.Name, dir: config.Dir, version: config.Version, reserve: config.DiskReserve, keepRemoved: config.KeepRemoved, listener: config.PeerListener, tls: config.PeerTLS, started: time.Now(), Streams: admit.NewSlots("streams", callerStreams, nodeStreams, 5*time.Second), Searches: admit.NewSlots("searches", callerSearches, nodeSearches, 2*time.Second), turns: semaphore.NewWeighted(int64(max(1, runtime.GOMAXPROCS(0)-1))), topics: map[int64]*Topic{}, inHand: admit.NewBytes(publishBytes, publishShare, publishReserve), decoding: semaphore.NewWeighted(decodeBytes), telling: semaphore.NewWeighted(decodeBytes), others: newOthers(), peers: noOthers{}, groups: newCoordinators(), offsets: newMirror(), tended: time.Now()}
	if err := raiseFileLimit(); err != nil {
		slog.Warn("could not raise the limit of open files", "error", err)
	}
	var err error
	if n.store, err = journal.OpenStore(filepath.Join(config.Dir, "logs")); err != nil {
		return nil, err
	}
	if n.catalog, err = catalog.Open(ctx, config.DatabaseURL, n.recordsChanged); err != nil {
		return nil, errors.Join(err, n.store.Close())
	}
	n.commits = &committer{catalog: n.catalog}
	n.id, err = Join(ctx, n.catalog, n.store, Joining{Dir: config.Dir, Name: config.Name, Zone: config.Zone, API: config.Advertise, Peer: config.PeerAdvertise, Alone: config.PeerListener == nil})
	if err != nil {
		n.catalog.Close()
		return nil, errors.Join(err, n.store.Close())
	}
	n.sched = replica.NewScheduler(n.store, groupNetwork{n}, max(2, runtime.GOMAXPROCS(0)), int(cmp.Or(config.FeedRate, replica.DefaultFeedRate)))
	n.ready.Store(true)
	n.kinds = map[string]*Kind{catalog.KindQueue: n.queueKind()}
	n.holdBack = n.heldBy
	n.committed = n.offsetsOf
	n.answerPartitions()
	n.answerQueues()
	n.answerGroups()
	n.answerCluster()
	n.answerManage()
	n.connectPeers() // before there are groups, which talk through it
	n.follow()
	n.followNodes(n.catalog.View())
	n.checkDisk()
	n.setAside(ctx)
	run, cancel := context.WithCancel(context.Background())
	n.cancel = cancel
	n.duty(run, time.Second, func(time.Time) { n.sample(clock.Now()) })
	n.stopSampling = clock.BeforeShift(n.sample)
	n.duty(run, 250*time.Millisecond, func(time.Time) { n.checkDisk() })
	n.duty(run, 5*time.Second, func(time.Time) { n.retain(run, clock.Now()) })
	n.duty(run, 200*time.Millisecond, func(now time.Time) { n.tend(run, now) })
	n.duty(run, queueTick, func(time.Time) { n.tickQueues(run) })
	n.duty(run, time.Second, func(time.Time) { n.sampleGroups(run, clock.Now()) })
	n.duty(run, time.Minute, func(now time.Time) { n.purge(run, now) })
	n.duty(run, 4*time.Second, func(time.Time) { n.catalog.Seen(run, n.id) })
	n.duty(run, 2*time.Second, func(time.Time) { n.keepOwnerToken(run) })
	n.duty(run, leaderEvery, func(now time.Time) { n.spreadLeaders(run, now) })
	n.duty(run, time.Second, func(time.Time) { n.leaveOld(run) })
	n.wg.Go(func() { n.reporting(run) })
	n.wg.Go(func() {
		n.catalog.WhileOnDuty(run, func(ctx context.Context) { n.onDutyRun(ctx, n.runReplays, n.runJobs, n.runGroups) })
	})
	n.serving.Store(true)
	return n, nil
}

func raiseFileLimit() error {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return err
	}
	limit.Cur = limit.Max
	return unix.Setrlimit(unix.RLIMIT_NOFILE, &limit)
}

func (n *Node) duty(ctx context.Context, every time.Duration, f func(now time.Time)) {
	n.wg.Go(func() {
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case now := <-ticker.C:
				f(now)
			}
		}
	})
}

// Close finishes what is in hand and closes everything.
func (n *Node) Close(ctx context.Context) error {
	n.serving.Store(false)
	n.handOverAll(ctx)
	n.stopSampling()
	n.cancel()
	n.peers.Close()
	n.wg.Wait()
	if err := n.catalog.NotRunning(ctx, n.id); err != nil {
		slog.Debug("the records do not know that this node stops", "error", err)
	}
	n.catalog.Close()
	return errors.Join(n.sched.Stop(ctx), n.store.Close())
}

// Serving reports whether the node takes requests.
func (n *Node) Serving() bool { return n.serving.Load() }

// Catalog returns the records.
func (n *Node) Catalog() *catalog.Catalog { return n.catalog }

// Name returns the node's name.
func (n *Node) Name() string { return n.name }

// Started returns when the node began to run.
func (n *Node) Started() time.Time { return n.started }

func (n *Node) recordsChanged() {
	if n.ready.Load() {
		n.followNodes(n.catalog.View())
		n.follow()
		n.changes.broadcast()
	}
}

// follow opens and closes partitions so that they are those of the records.
func (n *Node) follow() {
	n.followMu.Lock()
	defer n.followMu.Unlock()
	view := n.catalog.View()
	wanted := map[int64]*catalog.Channel{}
	for _, ch := range view.Channels {
		wanted[ch.ID] = ch
	}
	n.mu.RLock()
	current := make(map[int64]*Topic, len(n.topics))
	for id, t := range n.topics {
		current[id] = t
	}
	n.mu.RUnlock()
	for id, t := range current {
		if wanted[id] == nil {
			n.mu.Lock()
			delete(n.topics, id)
			n.mu.Unlock()
			n.closeTopic(t)
		}
	}
	for id, ch := range wanted {
		t := current[id]
		if t == nil {
			t = newTopic(ch, cmp.Or(n.kinds[ch.Kind], plain))
			n.bringBack(ch)
		}
		changed := t.set(ch)
		n.openPartitions(view, t, ch.Partitions)
		if changed || current[id] == nil {
			n.labelChannel(view, ch)
		}
		n.mu.Lock()
		n.topics[id] = t
		n.mu.Unlock()
	}
}

// openPartitions knows the partitions of a topic, and opens those that this
// node shall hold, or still holds.
func (n *Node) openPartitions(view *catalog.View, t *Topic, count int) {
	all := slices.Clone(t.Partitions())
	for number := len(all); number < count; number++ {
		all = append(all, &Partition{Number: number, topic: t})
	}
	var opening errgroup.Group
	opening.SetLimit(8)
	placed := view.Placed[t.ID]
	for _, p := range all {
		if p.Number >= len(placed) {
			continue
		}
		place := placed[p.Number]
		if g := p.Replica(); g != nil && g.Epoch() == place.Epoch {
			g.SetMembers(place.Replicas)
			continue
		}
		opening.Go(func() error {
			if err := n.openPartition(t, p, place); err != nil {
				slog.Error("could not open a partition", "partition", p.Address(), "error", err)
			}
			return nil
		})
	}
	opening.Wait()
	t.partitions.Store(&all)
}

func (n *Node) openPartition(t *Topic, p *Partition, place *catalog.Placement) error {
	if old := p.group.Swap(nil); old != nil { // recovered by force: it begins anew
		n.closeGroup(old, p)
	}
	key := p.key()
	if !slices.Contains(place.Replicas, n.id) && !n.store.Holds(key.String()) {
		return nil
	}
	base := &machine{partition: p, applied: topic.NewPublishers(), ahead: topic.NewPublishers()}
	base.journal = func() *journal.Journal { return p.Replica().Journal() }
	var m replica.Machine = base
	if t.kind.Machine != nil {
		m = t.kind.Machine(base)
	}
	p.machine.Store(&m)
	return n.sched.Open(replica.Options{
		Key: key, Node: n.id, Voters: place.BeganWith, Epoch: place.Epoch, Journal: t.retention().Segments(),
		Survivor: place.Epoch > 0 && place.Survivor.Valid && uint64(place.Survivor.Int64) == n.id,
		MemberOf: func(node uint64) uint64 {
			if r := n.others.replica(node, key); r != nil {
				return r.Member
			}
			return 0
		},
		Changed: n.others.tellSoon, Led: n.led, Broken: func() { n.wg.Go(func() { n.reopen(t, p) }) },
	}, m, func(g *replica.Group) {
		g.SetMembers(place.Replicas)
		p.group.Store(g)
	})
}

// reopen closes a partition that has found its log broken, and opens it again.
func (n *Node) reopen(t *Topic, p *Partition) {
	n.followMu.Lock()
	defer n.followMu.Unlock()
	view := n.catalog.View()
	places := view.Placed[t.ID]
	if n.topicByID(t.ID) != t || p.Number >= len(places) || !n.Serving() {
		return
	}
	if err := n.openPartition(t, p, places[p.Number]); err != nil {
		slog.Error("could not open a partition", "partition", p.Address(), "error", err)
	}
}

func (n *Node) closeTopic(t *Topic) {
	for _, p := range t.Partitions() {
		if g := p.Replica(); g != nil {
			n.closeGroup(g, p)
		}
	}
}

func (n *Node) closeGroup(g *replica.Group, p *Partition) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := n.sched.Close(ctx, g, false); err != nil {
		slog.Warn("could not close a partition", "partition", p.Address(), "error", err)
	}
}

// Topic is a channel that this node serves: a topic, or a queue (IsQueue).
type Topic struct {
	ID         int64
	kind       *Kind
	channel    atomic.Pointer[catalog.Channel]
	partitions atomic.Pointer[[]*Partition]
	turn       atomic.Uint32 // the partition that the next batch without a key goes to
}

// Partition is one partition of a topic.
type Partition struct {
	Number   int
	topic    *Topic
	group    atomic.Pointer[replica.Group]   // nil: not held by this node
	machine  atomic.Pointer[replica.Machine] // what the channel's kind derives from the log; nil: not held yet
	repair   repair
	counters rate.Counters
	history  rate.History
}

func newTopic(ch *catalog.Channel, kind *Kind) *Topic {
	t := &Topic{ID: ch.ID, kind: kind}
	t.partitions.Store(&[]*Partition{})
	t.channel.Store(ch)
	return t
}

// set makes a record the topic's; it reports whether it is another one.
func (t *Topic) set(ch *catalog.Channel) (changed bool) {
	old := t.channel.Swap(ch)
	if old.RetainMS != ch.RetainMS || old.RetainBytes != ch.RetainBytes {
		for _, p := range t.Partitions() {
			if g := p.Replica(); g != nil {
				g.Journal().SetOptions(t.retention().Segments())
			}
		}
	}
	return old.Revision != ch.Revision || old.Name != ch.Name || old.Partitions != ch.Partitions
}

// Channel returns the topic's record.
func (t *Topic) Channel() *catalog.Channel { return t.channel.Load() }

// IsQueue reports whether messages are handed out under leases.
func (t *Topic) IsQueue() bool { return t.Channel().Kind == catalog.KindQueue }

// OfGroup reports whether this is the queue with the dead letters of a group.
func (t *Topic) OfGroup() bool { return t.Channel().GroupID.Valid }

// Partitions returns the topic's partitions by number.
func (t *Topic) Partitions() []*Partition { return *t.partitions.Load() }

// Address returns the topic's address.
func (t *Topic) Address() address.Address {
	ch := t.Channel()
	a := address.Channel(ch.Space, ch.Name)
	if topic, group, ok := strings.Cut(ch.Name, "@"); ok {
		a.Channel, a.Group = topic, group
	}
	return a
}

func (t *Topic) retention() topic.Retention {
	ch := t.Channel()
	if t.kind.Retention != nil {
		return *t.kind.Retention
	}
	return topic.Retention{Age: time.Duration(ch.RetainMS) * time.Millisecond, Bytes: ch.RetainBytes}
}

func (t *Topic) idWindow() time.Duration {
	return time.Duration(t.Channel().IDWindowMS) * time.Millisecond
}

// Address returns the partition's address as text.
func (p *Partition) Address() string {
	a := p.topic.Address()
	a.Partition = p.Number
	return a.String()
}

// Topics returns the topics by address.
func (n *Node) Topics() []*Topic {
	n.mu.RLock()
	topics := make([]*Topic, 0, len(n.topics))
	for _, t := range n.topics {
		topics = append(topics, t)
	}
	n.mu.RUnlock()
	sort.Slice(topics, func(i, j int) bool { return topics[i].Address().String() < topics[j].Address().String() })
	return topics
}

// ofKind returns the channels of a kind, in no order.
func (n *Node) ofKind(kind string) (all []*Topic) {
	n.mu.RLock()
	defer n.mu.RUnlock()
	for _, t := range n.topics {
		if t.Channel().Kind == kind {
			all = append(all, t)
		}
	}
	return all
}

// Topic returns the topic with the address, or a Problem that names the
// nearest one that exists.
func (n *Node) Topic(a address.Address) (*Topic, error) {
	return n.channelNamed(a, a.ChannelPart().String())
}

func (n *Node) channelNamed(a address.Address, name string) (*Topic, error) {
	view := n.catalog.View()
	ch := view.Channels[name]
	if ch == nil {
		var names []string
		for existing, ch := range view.Channels {
			if !ch.GroupID.Valid {
				names = append(names, existing)
			}
		}
		return nil, missing("channel", name, names, view.Spaces[a.Space] == nil)
	}
	n.mu.RLock()
	t := n.topics[ch.ID]
	n.mu.RUnlock()
	if t == nil {
		return nil, problem.New(problem.Unavailable, "%s is being opened", name).Next("try again in a moment")
	}
	return t, nil
}

func missing(what, name string, existing []string, spaceToo bool) *problem.Problem {
	sort.Strings(existing)
	p := problem.New(problem.NotFound, "there is no %s %s", what, name)
	switch near := address.Nearest(name, existing); {
	case near != "":
		p.Then = fmt.Sprintf("did you mean %s?", near)
	case spaceToo && what == "channel":
		p.Then = "its space does not exist either; ferry list shows what does"
	default:
		p.Then = "ferry list shows what exists"
	}
	return p
}

// Space returns a space's record.
func (n *Node) Space(name string) (*catalog.Space, error) {
	view := n.catalog.View()
	if s := view.Spaces[name]; s != nil {
		return s, nil
	}
	var names []string
	for existing := range view.Spaces {
		names = append(names, existing)
	}
	return nil, missing("space", name, names, false)
}

// Partition returns a partition by number.
func (t *Topic) Partition(number int) (*Partition, error) {
	partitions := t.Partitions()
	if number < 0 || number >= len(partitions) {
		return nil, problem.New(problem.NotFound, "%s has no partition %d", t.Address(), number).Field("partition").Allowed(fmt.Sprintf("0 to %d", len(partitions)-1))
	}
	return partitions[number], nil
}

// signal wakes those who wait for a change.
type signal struct {
	mu sync.Mutex
	ch chan struct{}
}

func (s *signal) wait() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch == nil {
		s.ch = make(chan struct{})
	}
	return s.ch
}

func (s *signal) broadcast() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch != nil {
		close(s.ch)
		s.ch = nil
	}
}

// Changed returns a channel that is closed at the next change of the records.
func (n *Node) Changed() <-chan struct{} { return n.changes.wait() }

// WriteOwnerToken makes sure that DIR/owner.token holds a token in force. One
// that was revoked, or that these records do not know, is not made valid again:
// another takes its place.
func (n *Node) WriteOwnerToken(ctx context.Context) (string, error) {
	path := filepath.Join(n.dir, "owner.token")
	b, err := os.ReadFile(path)
	if err != nil && !os.IsNotExist(err) {
		return "", err
	}
	text := strings.TrimSpace(string(b))
	if _, ok := n.catalog.View().Who(catalog.Token, text); ok {
		return text, nil
	}
	label := "owner.token of " + n.Name()
	if text, err = n.catalog.NewSecret(ctx, "owner", catalog.Token, label, 0, &catalog.Entry{Who: "ferryd", Action: "new token", Address: "owner", After: map[string]any{"label": label}}); err != nil {
		return "", err
	}
	if err := os.WriteFile(path+".new", []byte(text+"\n"), 0o600); err != nil {
		return "", err
	}
	return text, os.Rename(path+".new", path)
}

// keepOwnerToken writes another owner.token when that which is there has been
// revoked.
func (n *Node) keepOwnerToken(ctx context.Context) {
	if !n.catalog.AwaySince().IsZero() {
		return
	}
	b, err := os.ReadFile(filepath.Join(n.dir, "owner.token"))
	if err != nil {
		return // nobody has asked for one, or it was taken away
	}
	if _, ok := n.catalog.View().Who(catalog.Token, strings.TrimSpace(string(b))); ok {
		return
	}
	if _, err := n.WriteOwnerToken(ctx); err != nil && ctx.Err() == nil {
		slog.Warn("a new owner.token could not be written", "error", err)
		return
	}
	slog.Info("the owner.token was revoked; the file has another one")
}
