package replica

import (
	"context"
	"log/slog"
	"sync/atomic"
	"time"

	"steadyferry/internal/engine/link"

	"go.etcd.io/raft/v3"
	"go.etcd.io/raft/v3/raftpb"
	"go.etcd.io/raft/v3/tracker"
)

// feed sends a member that lacks much of the log what it lacks, in large
// pieces and at a bounded rate, beside the way on which new entries go. The
// pieces are appends as the leader itself would send them, so that the member
// checks and answers them as any other.
type feed struct {
	group  *Group
	to     uint64
	from   uint64 // first record it sends
	term   uint64
	stop   context.CancelFunc
	match  atomic.Uint64 // the member holds the log up to here
	signal chan struct{}
}

// Sizes of a feed.
const (
	feedPiece  = 1 << 20
	feedAhead  = 4 << 20 // bytes on the way
	feedPatien = 5 * time.Second
)

// startFeeds begins feeds to members that need one, and ends those that are
// no longer right.
func (g *Group) startFeeds() {
	if g.shown.Load().alone(g.member) && len(g.members.feeds) == 0 && len(g.shown.Load().Learners) == 0 {
		return
	}
	first := g.journal.Bounds().FirstIdx
	g.node.WithProgress(func(id uint64, _ raft.ProgressType, p tracker.Progress) {
		if id == g.member {
			return
		}
		f := g.members.feeds[id]
		if f != nil && (p.Next < f.from || !p.RecentActive) {
			f.stop() // it holds less than was thought
			return
		}
		if f == nil && p.RecentActive && p.State != tracker.StateSnapshot && p.Next >= first && g.up(id) && g.journal.BytesAfter(p.Next-1) > farBehind {
			g.beginFeed(id, p)
		}
	})
}

func (g *Group) beginFeed(to uint64, p tracker.Progress) {
	if !g.sched.feeding.TryAcquire(1) {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	f := &feed{group: g, to: to, from: p.Next, term: g.term.Load(), stop: cancel, signal: make(chan struct{}, 1)}
	f.match.Store(p.Match)
	if g.members.feeds == nil {
		g.members.feeds = map[uint64]*feed{}
	}
	g.members.feeds[to] = f
	g.sched.wg.Go(func() {
		defer g.sched.feeding.Release(1)
		if err := f.run(ctx); err != nil && ctx.Err() == nil {
			slog.Debug("a feed ended", "partition", g.options.Key.String(), "to", to, "error", err)
		}
		cancel()
		g.chore(func() {
			if g.members.feeds[to] == f {
				delete(g.members.feeds, to)
			}
		})
	})
}

func (m *memberState) stopFeeds() {
	for _, f := range m.feeds {
		f.stop()
	}
}

// feedProgress tells the feeds what their members have.
func (g *Group) feedProgress() {
	g.node.WithProgress(func(id uint64, _ raft.ProgressType, p tracker.Progress) {
		if f := g.members.feeds[id]; f != nil && p.Match > f.match.Load() {
			f.match.Store(p.Match)
			select {
			case f.signal <- struct{}{}:
			default:
			}
		}
	})
}

func (f *feed) run(ctx context.Context) error {
	type piece struct {
		last  uint64
		bytes int
	}
	var under []piece
	ahead := 0
	j := f.group.journal
	for at := f.from; ; {
		for len(under) > 0 && under[0].last <= f.match.Load() {
			ahead -= under[0].bytes
			under = under[1:]
		}
		if ahead >= feedAhead {
			select {
			case <-f.signal:
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(feedPatien):
				return context.DeadlineExceeded
			}
			continue
		}
		// What has gone to the log lately goes the usual way.
		if ctx.Err() != nil || at > f.group.Committed() || j.BytesAfter(at-1) < farBehind/4 {
			return ctx.Err()
		}
		prevTerm, err := j.TermOf(at - 1)
		if err != nil {
			return err
		}
		records, lost, err := j.Records(at, f.group.Committed()+1, feedPiece)
		if err != nil || len(lost) > 0 || len(records) == 0 {
			return err
		}
		bytes := 0
		entries := make([]*raftpb.Entry, len(records))
		for i, r := range records {
			entries[i] = toEntry(r)
			bytes += r.Size()
		}
		if err := f.group.sched.pace.WaitN(ctx, min(bytes, f.group.sched.pace.Burst())); err != nil {
			return err
		}
		prev, commit, last := at-1, f.group.Committed(), records[len(records)-1].Index
		m := &raftpb.Message{Type: raftpb.MsgApp.Enum(), From: &f.group.member, To: &f.to, Term: &f.term, Index: &prev, LogTerm: &prevTerm, Commit: &commit, Entries: entries}
		f.group.sched.network.SendBulk(ctx, f.to, link.Packet{Kind: link.RaftPacket, Key: f.group.options.Key, Epoch: f.group.options.Epoch, Message: m})
		under = append(under, piece{last, bytes})
		ahead += bytes
		at = last + 1
	}
}
