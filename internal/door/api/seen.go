package api

import (
	"context"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
)

var everywhere, _ = address.ParsePattern("*")

// seen is the snapshot as whoever asks may see it; all of it, for who may see everything.
func (s *Server) seen(ctx context.Context, whole *snapshot) *snapshot {
	a, ok := access.In(ctx)
	if !ok {
		return &snapshot{at: whole.at}
	}
	rights := a.Rights()
	if rights.On(everywhere).Has(access.SeeCounts) {
		return whole
	}
	may := func(at string) bool { return rights.May(access.SeeCounts, at) }
	part := &snapshot{at: whole.at, live: whole.live}
	l := &part.live
	l.Channels = only(l.Channels, func(t *form.Channel) string { return t.Address }, may)
	l.Groups = only(l.Groups, func(g *form.Group) string { return g.Address }, may)
	l.Dead = only(l.Dead, func(d *form.DeadCount) string { return d.Address }, may)
	l.Changes = only(l.Changes, func(c *form.LeaderChange) string { return c.Address }, may)
	if !may(address.Nodes) {
		l.Cluster = form.Cluster{Nodes: []form.Node{}}
		l.Status = form.Status{Node: l.Status.Node, Version: l.Status.Version, StartedAt: l.Status.StartedAt, At: l.Status.At, Catalog: l.Status.Catalog}
	}
	st := &l.Status
	st.Spaces, st.Channels, st.Partitions, st.Messages, st.Bytes, st.Rates = 0, len(l.Channels), 0, 0, 0, form.Flow{}
	for _, sp := range s.Node.Catalog.View().Spaces {
		if may(sp.Name) {
			st.Spaces++
		}
	}
	for i := range l.Channels {
		t := &l.Channels[i]
		st.Partitions += t.Partitions
		st.Messages += t.Messages
		st.Bytes += t.Bytes
		st.Rates = st.Rates.Add(t.Rates)
	}
	l.Incidents = s.Node.Watches.TallyOf(ctx)
	return part
}

// only are those of a list whose addresses may be seen.
func only[T any](all []T, at func(*T) string, may func(at string) bool) []T {
	out := make([]T, 0, len(all))
	for i := range all {
		if may(at(&all[i])) {
			out = append(out, all[i])
		}
	}
	return out
}
