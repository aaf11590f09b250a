package replica

import (
	"steadyferry/internal/core/journal"
	"steadyferry/internal/engine/link"
)

func (o *Options) changed() {
	if o.Changed != nil {
		o.Changed()
	}
}

// Watch lets the channel be signalled whenever messages are committed; it
// needs room for one signal. Call the returned function to stop.
func (g *Group) Watch(signal chan struct{}) (stop func()) {
	g.watchMu.Lock()
	defer g.watchMu.Unlock()
	g.watchers[signal] = struct{}{}
	return func() {
		g.watchMu.Lock()
		defer g.watchMu.Unlock()
		delete(g.watchers, signal)
	}
}

func (g *Group) notify() {
	g.watchMu.Lock()
	defer g.watchMu.Unlock()
	for signal := range g.watchers {
		select {
		case signal <- struct{}{}:
		default:
		}
	}
}

// Journal returns the log, for readers.
func (g *Group) Journal() *journal.Journal { return g.journal }

// Committed returns the index up to which readers may read.
func (g *Group) Committed() uint64 { return g.committed.Load() }

// End returns the offset after the last committed message.
func (g *Group) End() int64 { return g.end.Load() }

// Stalled reports whether the group waits for room on its disk.
func (g *Group) Stalled() bool { return g.stalled.Load() }

// Failed reports whether the group stopped after an error of its disk.
func (g *Group) Failed() bool { return g.failed.Load() != nil }

// StateSize returns the bytes of the machine's state when it was saved last.
func (g *Group) StateSize() int64 { return g.stateSize.Load() }

// Done is closed when the group has been closed, for readers that wait.
func (g *Group) Done() <-chan struct{} { return g.done }

// Key returns the group's key.
func (g *Group) Key() link.Key { return g.options.Key }

// Epoch returns how often the partition was recovered by force.
func (g *Group) Epoch() uint64 { return g.options.Epoch }
