package api

import (
	"context"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
)

// seen is the snapshot as whoever asks may see it; all of it, for who may see everything.
func (s *Server) seen(ctx context.Context, whole *snapshot) *snapshot {
	if a, ok := access.In(ctx); ok && a.Rights().Everywhere().Has(access.SeeCounts) {
		return whole
	}
	part := &snapshot{at: whole.at, live: whole.live}
	l := &part.live
	l.Channels = access.Only(ctx, access.SeeCounts, l.Channels, func(t form.Channel) string { return t.Address })
	l.Groups = access.Only(ctx, access.SeeCounts, l.Groups, func(g form.Group) string { return g.Address })
	l.Dead = access.Only(ctx, access.SeeCounts, l.Dead, func(d form.DeadCount) string { return d.Address })
	l.Changes = access.Only(ctx, access.SeeCounts, l.Changes, func(c form.LeaderChange) string { return c.Address })
	if !access.May(ctx, access.SeeCounts, address.Nodes) {
		l.Cluster = form.Cluster{Nodes: []form.Node{}}
		l.Status = form.Status{Node: l.Status.Node, Version: l.Status.Version, StartedAt: l.Status.StartedAt, At: l.Status.At, Catalog: l.Status.Catalog}
	}
	st := &l.Status
	st.Channels, st.Partitions, st.Messages, st.Bytes, st.Rates = 0, 0, 0, 0, form.Flow{}
	st.Spaces = len(s.spacesSeen(ctx))
	for i := range l.Channels {
		addTo(st, &l.Channels[i])
	}
	l.Incidents = s.Node.Watches.TallyOf(ctx)
	// What there is to see of a thing is the same for all: so are the sums.
	sums := whole.sum()
	part.once.Do(func() {
		part.sums = make(map[string]uint64, len(l.Channels)+len(l.Groups))
		for i := range l.Channels {
			part.sums[l.Channels[i].Address] = sums[l.Channels[i].Address]
		}
		for i := range l.Groups {
			part.sums[l.Groups[i].Address] = sums[l.Groups[i].Address]
		}
	})
	return part
}
