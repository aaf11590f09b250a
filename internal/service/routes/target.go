package routes

import (
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// target is what a route leads to, as it is now: a channel, or an endpoint.
type target struct {
	id       int64
	count    int   // partitions of a channel, or lanes to an endpoint
	maxBody  int64 // of what it takes
	channel  *part.Channel
	endpoint *catalog.Endpoint
}

func toChannel(t *part.Channel) target {
	return target{id: t.ID, count: len(t.Partitions()), maxBody: t.Record().MaxBody, channel: t}
}

func toEndpoint(e *catalog.Endpoint) target {
	lanes := 1
	switch e.Kind() {
	case setting.HTTP:
		lanes = max(e.Parallel, 1)
	case setting.Ferry:
		lanes = max(e.Lanes, 1)
	}
	return target{id: e.ID, count: lanes, maxBody: message.MaxBody, endpoint: e}
}

// outside is the kind of an endpoint; nothing: it is a channel.
func (t target) outside() string {
	if t.endpoint == nil {
		return ""
	}
	return t.endpoint.Kind()
}

// HeldUp says why a route cannot send now, as far as all nodes know of what it leads to;
// nothing: it can. Of a group there is nothing to say.
func (rs *Routes) HeldUp(g *catalog.Group) string {
	if g.Route == nil || g.Paused {
		return ""
	}
	t, there := rs.target(g.Route)
	switch {
	case !there:
		return g.To + " is not there"
	case t.channel != nil && t.channel.Record().Paused, t.endpoint != nil && t.endpoint.Paused:
		return g.To + " is paused"
	case t.endpoint != nil && rs.outside.Fails(t.id):
		return g.To + " is failing"
	}
	return ""
}

// target returns what a route leads to; without true it is not there.
func (rs *Routes) target(r *catalog.Route) (target, bool) {
	if r.Outside {
		if e := rs.catalog.View().Endpoint(r.Target); e != nil && (e.Lanes > 0 || e.Kind() != setting.Ferry) {
			return toEndpoint(e), true
		}
		return target{}, false
	}
	if t := rs.parts.ByID(r.Target); t != nil && len(t.Partitions()) > 0 {
		return toChannel(t), true
	}
	return target{}, false
}
