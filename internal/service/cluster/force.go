package cluster

import (
	"cmp"
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// Recovery is how a partition whose majority is lost could go on.
type Recovery struct {
	form.Recovery
	place    catalog.Placement
	survivor uint64
}

// ForceRecover lets partitions go on that have lost most of their replicas for
// good, each from the replica that is left whose log goes furthest. With
// preview it only says which, and what may be lost. confirm must be the
// address that is recovered.
func (cl *Cluster) ForceRecover(ctx context.Context, who string, a *address.Address, confirm string, preview bool) ([]Recovery, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes); err != nil {
		return nil, err
	}
	if fresh := cl.unreachableButAlive(ctx); len(fresh) > 0 {
		return nil, problem.New(problem.Conflict, "%v wrote to the catalog a moment ago: it runs, and may only be cut off from this node", fresh).Next("mend the network, or stop it for good first; its partitions come back by themselves when it is reached")
	}
	recoveries := []Recovery{}
	for _, t := range cl.parts.Channels() {
		if a != nil && t.Address().ChannelPart() != a.ChannelPart() {
			continue
		}
		for _, p := range t.Partitions() {
			if a != nil && a.Partition >= 0 && a.Partition != p.Number {
				continue
			}
			if r := cl.recovery(ctx, p); r != nil {
				recoveries = append(recoveries, *r)
			}
		}
	}
	if preview {
		return recoveries, nil
	}
	want := "all"
	if a != nil {
		want = a.String()
	}
	if confirm != want {
		return nil, problem.New(problem.Invalid, "the confirmation is %q", confirm).Field("confirm").Allowed(want).Next("type what is recovered, since messages may be lost")
	}
	for _, r := range recoveries {
		entry := &catalog.Entry{Who: who, Action: "force recover", Address: r.Address, Before: map[string]any{"lost": r.Lost, "knownEnd": r.KnownEnd}, After: map[string]any{"survivor": r.Survivor, "end": r.End}}
		if err := cl.catalog.Recover(ctx, r.place, r.survivor, entry); err != nil {
			return nil, part.Explain(err, r.Address)
		}
	}
	return recoveries, nil
}

// unreachableButAlive returns nodes that do not answer here and yet write to
// the records.
func (cl *Cluster) unreachableButAlive(ctx context.Context) (names []string) {
	nodes, err := cl.catalog.SeenSince(ctx, stillRuns)
	if err != nil {
		return nil
	}
	for _, id := range nodes {
		if r := cl.catalog.View().Nodes[id]; id != cl.id && !cl.peers.Up(id) && r != nil && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return names
}

// recovery returns how a partition could go on, or nil when it need not.
func (cl *Cluster) recovery(ctx context.Context, p *part.Partition) *Recovery {
	places := cl.catalog.View().Placed[p.Channel.ID]
	if p.Number >= len(places) {
		return nil
	}
	place := *places[p.Number]
	node, report := cl.parts.View(p, time.Now())
	if report != nil && report.LostEnd != nil {
		// Its end is gone: it goes on behind what is lost.
		end := report.LostEnd
		return &Recovery{form.Recovery{Address: p.Address(), Survivor: cl.parts.NodeName(node), End: end.From, Lost: []string{}, KnownEnd: end.To, MayLose: end.To - end.From}, place, node}
	}
	if report == nil || report.Leading || report.Majority || len(report.Voters) < 2 {
		return nil
	}
	r := &Recovery{Recovery: form.Recovery{Address: p.Address(), Lost: []string{}}, place: place}
	best := logState{}
	for id, s := range cl.logStates(ctx, p) {
		if slices.Contains(report.Voters, id) && (r.survivor == 0 || cmp.Or(cmp.Compare(s.LastTerm, best.LastTerm), cmp.Compare(s.Last, best.Last)) > 0) {
			r.survivor, best = id, s
		}
	}
	if r.survivor == 0 {
		return nil
	}
	r.Survivor, r.End = cl.parts.NodeName(r.survivor), best.End
	for _, id := range report.Voters {
		if id == cl.id || cl.peers.Up(id) {
			continue
		}
		r.Lost = append(r.Lost, cl.parts.NodeName(id))
		slices.Sort(r.Lost)
		if rep := cl.parts.Reports().Replica(id, p.Key()); rep != nil && rep.Status.End > r.KnownEnd {
			_, at, _ := cl.parts.Reports().About(id)
			r.KnownEnd, r.LastWord = rep.Status.End, at.UTC().Format(time.RFC3339)
		}
	}
	r.MayLose = max(r.KnownEnd-r.End, 0)
	// It goes on with the nodes that are left, as many as it had if there are.
	nodes, existing := cl.Placement()
	var gone []uint64
	for _, id := range place.Replicas {
		if id != cl.id && !cl.peers.Up(id) {
			gone = append(gone, id)
		}
	}
	left := []uint64{r.survivor}
	for _, id := range place.Replicas {
		if id != r.survivor && !slices.Contains(gone, id) {
			left = append(left, id)
		}
	}
	for want := len(place.Replicas); want > 0; want-- {
		if to, err := placement.Replace(nodes, existing, placement.Partition{Replicas: left}, gone, want); err == nil {
			r.place.Replicas = to
			break
		}
	}
	return r
}
