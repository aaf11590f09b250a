package queues

import (
	"time"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/part"
)

// Form describes a message of a queue.
func (item *Item) Form(t *part.Channel) form.QueueMessage {
	i := &item.Info
	out := form.QueueMessage{State: i.State.String(), Attempts: i.Attempts, Member: i.Member, Reason: i.Reason, From: i.From, Edited: i.Edited > 0, History: []form.MessageEvent{}, Gone: item.Message == nil}
	if item.Message != nil {
		out.Message = form.MessageOf(t.Address(), item.Message)
	} else {
		out.Message = form.Message{Offset: i.Offset, Headers: map[string]string{}}
	}
	if item.Original != nil {
		original := form.MessageOf(t.Address(), item.Original)
		out.Original = &original
	}
	switch i.State {
	case queue.Leased, queue.Delayed:
		out.Deadline = form.Micros(i.Due)
	case queue.Dead:
		out.DeadAt = form.Micros(i.Due)
	}
	if i.Cause != 0 {
		out.Cause = queue.CauseID(i.Cause)
		out.Detail = item.Detail()
		out.Field = queue.FieldIn(out.Detail, out.Body)
	}
	for n, e := range i.History {
		out.History = append(out.History, form.MessageEvent{Event: e.Kind.String(), At: time.UnixMicro(e.At).UTC(), Began: form.Micros(e.Began), Who: e.Who, Reason: e.Reason, Detail: item.Details[n]})
		if e.Kind == queue.Returned {
			out.Returns++
		}
	}
	return out
}
