package api

import (
	"context"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/service/cluster"
)

// snapshotLives is how long a snapshot is good for all who ask.
const snapshotLives = 200 * time.Millisecond

// snapshot is the state of the node and all channels now, or a moment ago.
func (s *Server) snapshot(ctx context.Context, now time.Time) *snapshot {
	return s.seen(ctx, s.whole(ctx, now))
}

// whole is the snapshot for all who ask: each then sees what it may.
func (s *Server) whole(ctx context.Context, now time.Time) *snapshot {
	s.snapMu.Lock()
	defer s.snapMu.Unlock()
	if s.snap == nil || now.Sub(s.snap.at) > snapshotLives {
		s.snap = &snapshot{at: now, live: s.newSnapshot(access.As(ctx, access.Node(s.Node.Parts.Name())), now)}
	}
	return s.snap
}

func (s *Server) newSnapshot(ctx context.Context, now time.Time) form.Live {
	live := form.Live{Whole: true, Gone: []string{}, Channels: []form.Channel{}, Dead: []form.DeadCount{}}
	st := form.Status{Node: s.Node.Parts.Name(), Version: Version, StartedAt: s.Node.Parts.Started().UTC().Truncate(time.Millisecond), At: now.UTC().Truncate(time.Millisecond), Catalog: "reachable",
		MemoryBytes: cluster.MemoryUsed(), Spaces: len(s.Node.Catalog.View().Spaces), Streams: int64(s.Node.Streams.Open()), SetAside: s.Node.Parts.Shelf.Count()}
	if since := s.Node.Catalog.AwaySince(); !since.IsZero() {
		st.Catalog = "away since " + since.UTC().Format(time.RFC3339)
	}
	if disk, err := s.Node.Parts.Disk(); err == nil {
		st.Disk = disk
	}
	for _, t := range s.Node.Parts.Channels() {
		if t.IsQueue() {
			if c := s.Node.Queues.Counts(t); c.Dead+c.Discarded > 0 {
				a := t.Address()
				a.Dead = true
				live.Dead = append(live.Dead, form.DeadCount{Address: a.String(), Dead: c.Dead, Discarded: c.Discarded})
			}
		}
		if t.OfGroup() {
			continue
		}
		tj := s.topicJSON(ctx, t, now, false)
		live.Channels = append(live.Channels, tj)
		addTo(&st, &tj)
	}
	live.Status = st
	live.Groups = s.groupsJSON(ctx)
	live.Cluster = s.Node.Cluster.Nodes(now)
	live.Changes = s.changesJSON(30)
	live.Incidents = s.Node.Watches.Tally(ctx)
	return live
}

// addTo counts a channel.
func addTo(st *form.Status, t *form.Channel) {
	st.Channels++
	st.Partitions += t.Partitions
	st.Messages += t.Messages
	st.Bytes += t.Bytes
	st.Rates = st.Rates.Add(t.Rates)
}

func (s *Server) status(c *gin.Context) { c.JSON(http.StatusOK, s.snapshot(c, time.Now()).live) }

// live streams what has changed every second, and at once when records change;
// first all.
func (s *Server) live(c *gin.Context) {
	ctx, cancel := s.StreamContext(c)
	defer cancel()
	w := s.NewLineWriter(c, "text/event-stream", 30*time.Second)
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	var told told
	for {
		changed := s.Node.Parts.Changed()
		w.Text("data: ")
		if w.Write(told.news(s.snapshot(ctx, time.Now())), 0) != nil || w.Text("\n") != nil || w.Flush() != nil {
			return
		}
		select {
		case <-ticker.C:
		case <-changed:
			// What else changes now comes with it.
			select {
			case <-time.After(snapshotLives):
			case <-ctx.Done():
				return
			}
		case <-ctx.Done():
			return
		}
	}
}
