package node

import (
	"cmp"
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
)

// Recovery is how a partition whose majority is lost could go on.
type Recovery struct {
	Address  string   `json:"address"`
	Survivor string   `json:"survivor"` // the node whose log goes furthest
	End      int64    `json:"end"`      // offset after all that it holds
	Lost     []string `json:"lost"`     // nodes that do not answer
	KnownEnd int64    `json:"knownEnd"` // the last end that a lost node reported
	MayLose  int64    `json:"mayLose"`  // messages that a lost node is known to have had beyond; more may have come since
	LastWord string   `json:"lastWord"` // when a lost node last reported

	place    catalog.Placement
	survivor uint64
}

// ForceRecover lets partitions go on that have lost most of their replicas for
// good, each from the replica that is left whose log goes furthest. With
// preview it only says which, and what may be lost. confirm must be the
// address that is recovered.
func (n *Node) ForceRecover(ctx context.Context, who string, a *address.Address, confirm string, preview bool) ([]Recovery, error) {
	if fresh := n.unreachableButAlive(ctx); len(fresh) > 0 {
		return nil, problem.New(problem.Conflict, "%v wrote to the records a moment ago: it runs, and may only be cut off from this node", fresh).Next("mend the network, or stop it for good first; its partitions come back by themselves when it is reached")
	}
	recoveries := []Recovery{}
	for _, t := range n.Topics() {
		if a != nil && t.Address().ChannelPart() != a.ChannelPart() {
			continue
		}
		for _, p := range t.Partitions() {
			if a != nil && a.Partition >= 0 && a.Partition != p.Number {
				continue
			}
			if r := n.recovery(ctx, p); r != nil {
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
		if err := n.catalog.Recover(ctx, r.place, r.survivor, entry); err != nil {
			return nil, explain(err, r.Address)
		}
	}
	return recoveries, nil
}

// unreachableButAlive returns nodes that do not answer here and yet write to
// the records.
func (n *Node) unreachableButAlive(ctx context.Context) (names []string) {
	nodes, err := n.catalog.SeenSince(ctx, stillRuns)
	if err != nil {
		return nil
	}
	for _, id := range nodes {
		if r := n.catalog.View().Nodes[id]; id != n.id && !n.peers.Up(id) && r != nil && (r.State == catalog.NodeMember || r.State == catalog.NodeDraining) {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return names
}

// recovery returns how a partition could go on, or nil when it need not.
func (n *Node) recovery(ctx context.Context, p *Partition) *Recovery {
	places := n.catalog.View().Placed[p.topic.ID]
	if p.Number >= len(places) {
		return nil
	}
	place := *places[p.Number]
	node, report := n.view(p, time.Now())
	if report != nil && report.LostEnd != nil {
		// Its end is gone: it goes on behind what is lost.
		end := report.LostEnd
		return &Recovery{Address: p.Address(), Survivor: n.NodeName(node), End: end.From, Lost: []string{}, KnownEnd: end.To, MayLose: end.To - end.From, place: place, survivor: node}
	}
	if report == nil || report.Leading || report.Majority || len(report.Voters) < 2 {
		return nil
	}
	r := &Recovery{Address: p.Address(), Lost: []string{}, place: place}
	best := logState{}
	for id, s := range n.logStates(ctx, p) {
		if slices.Contains(report.Voters, id) && (r.survivor == 0 || cmp.Or(cmp.Compare(s.LastTerm, best.LastTerm), cmp.Compare(s.Last, best.Last)) > 0) {
			r.survivor, best = id, s
		}
	}
	if r.survivor == 0 {
		return nil
	}
	r.Survivor, r.End = n.NodeName(r.survivor), best.End
	for _, id := range report.Voters {
		if id == n.id || n.peers.Up(id) {
			continue
		}
		r.Lost = append(r.Lost, n.NodeName(id))
		slices.Sort(r.Lost)
		if rep := n.others.replica(id, p.key()); rep != nil && rep.Status.End > r.KnownEnd {
			_, at, _ := n.others.of(id)
			r.KnownEnd, r.LastWord = rep.Status.End, at.UTC().Format(time.RFC3339)
		}
	}
	r.MayLose = max(r.KnownEnd-r.End, 0)
	// It goes on with the nodes that are left, as many as it had if there are.
	nodes, existing := n.placement()
	var gone []uint64
	for _, id := range place.Replicas {
		if id != n.id && !n.peers.Up(id) {
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
