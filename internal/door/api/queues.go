package api

import (
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/part"
)

func queueJSON(t *part.Channel, q *queue.Summary) *form.QueueState {
	set := setting.Channels.Show(&t.Record().Channel, setting.Queue)
	text := func(name string) string { return set[name].(string) }
	out := &form.QueueState{Counts: q.Counts, Lease: text("lease"), AttemptLimit: set["attemptLimit"].(int), Backoff: text("backoff"), RetainDead: text("retainDead"),
		Expire: text("expire"), DropExpired: set["dropExpired"].(bool), Order: text("order"), RetainDiscarded: text("retainDiscarded"), OldestWaiting: q.Oldest, Asking: q.Asking, Members: []form.QueueMember{}}
	for _, m := range q.Members {
		out.Members = append(out.Members, form.QueueMember{Member: m.Member, Leased: m.Leased, Since: form.Micros(m.Oldest), Deadline: form.Micros(m.Due), Seen: form.Micros(m.Seen)})
	}
	return out
}
