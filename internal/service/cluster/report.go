package cluster

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"runtime/metrics"
	"slices"
	"time"

	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/replica"
	"steadyferry/internal/engine/report"
)

// MemoryUsed returns the bytes that the process holds, without what it has
// given back.
func MemoryUsed() int64 {
	samples := []metrics.Sample{{Name: "/memory/classes/total:bytes"}, {Name: "/memory/classes/heap/released:bytes"}}
	metrics.Read(samples)
	return int64(samples[0].Value.Uint64() - samples[1].Value.Uint64())
}

// lastWord is what was said of a replica last, and how it stood then.
type lastWord struct {
	standing part.Standing
	text     []byte
}

// Reporting tells the other nodes about this one.
func (cl *Cluster) Reporting(ctx context.Context) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	told := map[replica.Key]*lastWord{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			cl.askToTell()
		case <-cl.parts.Reports().Wanted():
			time.Sleep(10 * time.Millisecond) // several changes come together
		}
		cl.report(told)
	}
}

// askToTell asks nodes that answer, but have not told all since, to do so: they
// may not have noticed that they were away.
func (cl *Cluster) askToTell() {
	for _, id := range cl.parts.OtherNodes() {
		if cl.peers.Up(id) && !cl.parts.HasToldAll(id) {
			cl.peers.Cast(id, "tell", nil)
		}
	}
}

func (cl *Cluster) report(told map[replica.Key]*lastWord) {
	others := cl.parts.OtherNodes()
	if len(others) == 0 {
		cl.parts.Reports().Next(&report.Node{}, &report.Node{})
		clear(told)
		return
	}
	now := time.Now()
	r := cl.about()
	whole := r
	whole.Whole = true
	hears := fmt.Sprint(r.Hears)
	seen := map[replica.Key]bool{}
	for _, t := range cl.parts.Channels() {
		for _, p := range t.Partitions() {
			g := p.Replica()
			if g == nil {
				continue
			}
			key := g.Key()
			seen[key] = true
			last, still := told[key], cl.parts.Standing(p, g, hears)
			if last == nil || !still.IsStill() || last.standing != still {
				b, err := json.Marshal(cl.parts.ReplicaReport(p, g, now))
				if err != nil {
					panic(err) // plain values
				}
				if last == nil || !bytes.Equal(last.text, b) {
					r.Replicas = append(r.Replicas, b)
				}
				last = &lastWord{still, b}
				told[key] = last
			}
			whole.Replicas = append(whole.Replicas, last.text)
		}
	}
	for key := range told {
		if !seen[key] {
			r.Gone = append(r.Gone, key)
			delete(told, key)
		}
	}
	wholeTo := cl.parts.Reports().Next(&r, &whole)
	var delta, all []byte
	for _, id := range others {
		if !cl.peers.Up(id) {
			continue
		}
		var err error
		if slices.Contains(wholeTo, id) {
			if all == nil {
				all, err = json.Marshal(whole)
			}
			cl.peers.Cast(id, "report", all)
		} else {
			if delta == nil {
				delta, err = json.Marshal(r)
			}
			cl.peers.Cast(id, "report", delta)
		}
		if err != nil {
			panic(err) // plain values
		}
	}
}

// about is the part of the report that is about the node as a whole.
func (cl *Cluster) about() report.Node {
	r := report.Node{Started: cl.parts.Started().UTC().Truncate(time.Millisecond), Version: cl.version, Memory: MemoryUsed(), Streams: int64(cl.Streams.Open()), OnDuty: cl.onDuty.Load(),
		Away: cl.catalog.AwaySince(), Ends: certificateEnds(cl.tls)}
	r.Records = r.Away.IsZero()
	if d, err := cl.parts.Disk(); err == nil {
		r.Disk = d
	}
	for _, id := range cl.parts.OtherNodes() {
		if cl.peers.Up(id) {
			r.Hears = append(r.Hears, id)
		}
	}
	return r
}

// certificateEnds returns when the first certificate ends that the node shows to others, the
// zero time without one.
func certificateEnds(c *tls.Config) (end time.Time) {
	if c == nil {
		return end
	}
	for i := range c.Certificates {
		if leaf := c.Certificates[i].Leaf; leaf != nil && (end.IsZero() || leaf.NotAfter.Before(end)) {
			end = leaf.NotAfter
		}
	}
	return end
}
