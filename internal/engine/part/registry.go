// Package part is the channels and partitions of the cluster, as one node knows
// and holds them: it opens the replicas that are this node's, finds who leads a
// partition, publishes to it and reads from it wherever it lies, and keeps what
// the nodes report of their replicas. What a kind of channel does otherwise than
// a topic is handed in as a Kind. All of it may be called at once by many.
package part

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/admit"
	"steadyferry/internal/core/cores"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/aside"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/peer"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/report"
)

// ByID returns a channel by the id of its record, or nil.
func (reg *Registry) ByID(id int64) *Channel {
	reg.mu.RLock()
	defer reg.mu.RUnlock()
	return reg.channels[id]
}

// Name returns the node's name.
func (reg *Registry) Name() string { return reg.name }

// Started returns when the node began to run.
func (reg *Registry) Started() time.Time { return reg.started }

// Channels returns the channels by address. The slice is shared: callers do not
// change it.
func (reg *Registry) Channels() []*Channel {
	reg.mu.RLock()
	defer reg.mu.RUnlock()
	return reg.ordered
}

// ChannelsOf returns the channels of a space by address; of all spaces, if it is
// empty. The slice is shared.
func (reg *Registry) ChannelsOf(space string) []*Channel {
	all := reg.Channels()
	if space == "" {
		return all
	}
	first := func(text string) int {
		return sort.Search(len(all), func(i int) bool { return all[i].text >= text })
	}
	return all[first(space+"/"):first(space+"0")] // 0 follows / in the order of characters
}

// OfKind returns the channels of a kind by address. The slice is shared.
func (reg *Registry) OfKind(kind string) []*Channel {
	reg.mu.RLock()
	defer reg.mu.RUnlock()
	return reg.byKind[kind]
}

// enter and strike keep the channels by id and in order.
func (reg *Registry) enter(t *Channel) {
	reg.mu.Lock()
	defer reg.mu.Unlock()
	kind := t.Record().Kind
	reg.channels[t.ID], reg.ordered, reg.byKind[kind] = t, with(reg.ordered, t), with(reg.byKind[kind], t)
}

// with and without return a list with a channel in its place, and without it.
func with(all []*Channel, t *Channel) []*Channel {
	at, _ := slices.BinarySearchFunc(all, t.text, func(have *Channel, text string) int { return strings.Compare(have.text, text) })
	return slices.Insert(slices.Clone(all), at, t)
}

func without(all []*Channel, t *Channel) []*Channel {
	return slices.DeleteFunc(slices.Clone(all), func(have *Channel) bool { return have == t })
}

func (reg *Registry) strike(t *Channel) {
	reg.mu.Lock()
	defer reg.mu.Unlock()
	delete(reg.channels, t.ID)
	kind := t.Record().Kind
	reg.ordered, reg.byKind[kind] = without(reg.ordered, t), without(reg.byKind[kind], t)
}

// Channel returns the channel with the address, or a Problem that names the
// nearest one that exists.
func (reg *Registry) Channel(a address.Address) (*Channel, error) {
	return reg.Named(a, a.ChannelPart().String())
}

// Named returns the channel with the name; a is the address that was asked for.
func (reg *Registry) Named(a address.Address, name string) (*Channel, error) {
	view := reg.catalog.View()
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
	reg.mu.RLock()
	t := reg.channels[ch.ID]
	reg.mu.RUnlock()
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
func (reg *Registry) Space(name string) (*catalog.Space, error) {
	view := reg.catalog.View()
	if s := view.Spaces[name]; s != nil {
		return s, nil
	}
	var names []string
	for existing := range view.Spaces {
		names = append(names, existing)
	}
	return nil, missing("space", name, names, false)
}

// Signal wakes those who wait for a change.
type Signal struct {
	mu sync.Mutex
	ch chan struct{}
}

// Wait returns a channel that is closed at the next Broadcast.
func (s *Signal) Wait() <-chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch == nil {
		s.ch = make(chan struct{})
	}
	return s.ch
}

// Broadcast wakes all that wait.
func (s *Signal) Broadcast() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ch != nil {
		close(s.ch)
		s.ch = nil
	}
}

// Changed returns a channel that is closed at the next change of the records.
func (reg *Registry) Changed() <-chan struct{} { return reg.changes.Wait() }

// Config of a registry.
type Config struct {
	Name    string // of the node
	ID      uint64 // of the node in the records, and in every group
	Dir     string // data directory
	Reserve int64  // bytes of the disk that publishing leaves free; at most a twentieth of it

	Listener net.Listener // for other nodes; nil: this node stays alone
	TLS      *tls.Config  // between nodes; nil: plain
	FeedRate int64        // bytes a second at most to replicas that catch up
}

// Registry is the channels of the cluster, and the partitions that this node
// holds.
type Registry struct {
	Shelf *aside.Shelf // logs that the catalog does not know

	name, dir string
	id        uint64
	reserve   int64
	listener  net.Listener
	started   time.Time
	catalog   *catalog.Catalog
	store     *journal.Store
	sched     *replica.Scheduler
	peers     Network
	links     *link.Peers // what it goes through; nil: this node stays alone
	reports   *report.Table
	upSince   sync.Map // of other nodes: id to time.Time
	kinds     map[string]*Kind
	readers   Readers

	// Calls says who answers other nodes; all register before Connect.
	Calls peer.Handlers

	followMu sync.Mutex     // one follow at a time
	again    map[int64]bool // channels of which a partition could not be opened; of followMu
	mu       sync.RWMutex
	channels map[int64]*Channel
	ordered  []*Channel // by address; replaced, never changed
	byKind   map[string][]*Channel

	inHand   *admit.Bytes
	fair     *admit.Fair         // of bytes on their way into logs, by space
	turns    *semaphore.Weighted // of those who look at messages
	decoding *semaphore.Weighted // bytes of large compressed batches that are looked through
	telling  *semaphore.Weighted // and of those that tails tell
	diskFull atomic.Bool
	serving  atomic.Bool
	passed   atomic.Pointer[func(ctx context.Context, pass string) context.Context]
	bounded  func(ctx context.Context, space string, bytes int64) error
	wg       sync.WaitGroup
	changes  Signal
}

// Readers are those whose places in the logs count here: the groups.
type Readers interface {
	// HeldBy returns up to which offset retention leaves a partition to readers
	// that it waits for, and false when it waits for none.
	HeldBy(p *Partition) (offset int64, held bool)
	// OffsetsOf returns the committed offsets of a group by partition.
	OffsetsOf(ctx context.Context, t *Channel, group string) (map[int]int64, error)
}

// New returns a registry without channels, whose handlers are not registered
// and which does not talk to others yet.
func New(config Config, records *catalog.Catalog, store *journal.Store) *Registry {
	reg := &Registry{name: config.Name, dir: config.Dir, id: config.ID, reserve: config.Reserve, listener: config.Listener, started: time.Now(),
		catalog: records, store: store, peers: noOthers{}, reports: report.NewTable(), kinds: map[string]*Kind{}, channels: map[int64]*Channel{}, again: map[int64]bool{}, byKind: map[string][]*Channel{},
		inHand:   admit.NewBytes(publishBytes, publishShare, publishReserve),
		fair:     admit.NewFair(fairRoom, fairLeast, fairFor),
		turns:    semaphore.NewWeighted(int64(cores.AllButOne())),
		decoding: semaphore.NewWeighted(decodeBytes), telling: semaphore.NewWeighted(decodeBytes)}
	if config.Listener != nil {
		reg.links = link.NewPeers(link.PeersConfig{Self: reg.id, Secret: records.View().Cluster.Secret, TLS: config.TLS}, (*fromPeers)(reg))
		reg.peers = carrying{reg.links}
	}
	reg.Shelf = aside.New(config.Name, config.Dir, store, records, func(channel int64) bool { return reg.ByID(channel) != nil })
	reg.sched = replica.NewScheduler(store, reg.peers, max(2, cores.Count), int(cmp.Or(config.FeedRate, replica.DefaultFeedRate)))
	reg.answer()
	return reg
}

// Register says what channels of a kind do otherwise than topics, before Open.
func (reg *Registry) Register(kind string, k *Kind) { reg.kinds[kind] = k }

// OffsetsOf returns the committed offsets of a group of a channel, by partition.
func (reg *Registry) OffsetsOf(ctx context.Context, t *Channel, group string) (map[int]int64, error) {
	return reg.readers.OffsetsOf(ctx, t, group)
}

// Open begins to talk to the other nodes, and opens the partitions that the
// records give to this one. Readers are asked from now on.
func (reg *Registry) Open(ctx context.Context, readers Readers) {
	reg.readers = readers
	if p := reg.links; p != nil {
		reg.wg.Go(func() {
			if err := p.Serve(reg.listener); err != nil && !errors.Is(err, net.ErrClosed) && reg.serving.Load() {
				slog.Error("other nodes cannot connect any more", "error", err)
			}
		})
	}
	reg.Follow(catalog.Delta{All: true})
	reg.CheckDisk()
	reg.Shelf.Take(ctx)
}

// Follow opens and closes partitions so that they are those of the records, and
// talks to the nodes that those name, as far as they have changed.
func (reg *Registry) Follow(d catalog.Delta) {
	if d.All || d.Nodes {
		reg.followNodes(reg.catalog.View())
	}
	reg.follow(d)
	reg.changes.Broadcast()
}

// Passed has calls of other nodes be asked for by who asked them, as f knows them by their
// passes. Before it is set no call is answered.
func (reg *Registry) Passed(f func(ctx context.Context, pass string) context.Context) {
	reg.passed.Store(&f)
}

// Serve says whether the node takes requests.
func (reg *Registry) Serve(on bool) { reg.serving.Store(on) }

// Serving reports whether the node takes requests.
func (reg *Registry) Serving() bool { return reg.serving.Load() }

// Go runs f in the background; Wait waits for its end. It is not called any more then.
func (reg *Registry) Go(f func()) { reg.wg.Go(f) }

// Disconnect ends all talk to other nodes.
func (reg *Registry) Disconnect() { reg.peers.Close() }

// Wait waits for what runs in the background.
func (reg *Registry) Wait() { reg.wg.Wait() }

// Close closes the partitions.
func (reg *Registry) Close(ctx context.Context) error { return reg.sched.Stop(ctx) }

// Reports returns what the nodes have told of themselves.
func (reg *Registry) Reports() *report.Table { return reg.reports }

// Peers returns the way to the other nodes.
func (reg *Registry) Peers() Network { return reg.peers }
