package routes

import (
	"slices"

	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/engine/outside"
)

// parcel is messages that were gathered for a target: as a batch for a channel, one by
// one for an endpoint.
type parcel struct {
	batch message.Builder
	items []outside.Item
	bytes int

	// Of one that is sealed: nothing more comes to it, and where it belongs is known.
	sealed      bool
	after, upTo route.Place
	recovered   uint64
	data        []byte // the batch as it is sent, behind room for its stamp
	count       int
}

// openParcel returns the parcel that gathers messages for a target.
func (w *walker) openParcel(number int) *parcel {
	all := w.gathered[number]
	if len(all) > 0 && !all[len(all)-1].sealed {
		return all[len(all)-1]
	}
	p := &parcel{}
	w.gathered[number] = append(all, p)
	return p
}

// seal closes a parcel: it belongs behind the one before it.
func (w *walker) seal(number int, p *parcel) {
	if p.sealed {
		return
	}
	p.sealed = true
	p.after, p.upTo, p.recovered = w.walk.Flush(number)
	if len(p.items) > 0 {
		return
	}
	p.count = p.batch.Count()
	batch, err := message.OpenBatch(p.batch.Build(message.Plain, nil))
	if err != nil {
		panic(err) // what Build made
	}
	p.made(batch, w.sentAs(p))
}

// sentAs is what the batch of a sealed parcel tells of itself.
func (w *walker) sentAs(p *parcel) *message.Route {
	return &message.Route{ID: w.id, Partition: uint32(w.c.p.Number), After: p.after, UpTo: p.upTo, Recovered: p.recovered}
}

func (p *parcel) made(batch message.Batch, sent *message.Route) {
	p.data = batch.AppendRouted(make([]byte, message.StampSize, message.StampSize+message.RoutedSize(batch, sent)), sent)
}

// wholeAtLeast is of how many messages a batch must be to be sent on as it is: small ones
// are gathered to larger ones.
const wholeAtLeast = 64

// takeWhole has walkers send a batch on as it is, those that can; it returns the others
// that decide something of it.
func (c *carrier) takeWhole(r message.Record, walkers []*walker) []*walker {
	stamp := r.Stamp()
	walkers = slices.DeleteFunc(walkers, func(w *walker) bool { return stamp.Offset >= w.to })
	if stamp.Count < wholeAtLeast || !slices.ContainsFunc(walkers, (*walker).sendsAll) {
		return walkers
	}
	batch, err := r.Batch()
	if err != nil {
		return walkers // it is told when its messages are read
	}
	return slices.DeleteFunc(walkers, func(w *walker) bool { return w.sendsAll() && w.takeWhole(stamp, batch) })
}

// sendsAll reports whether the walker sends every message as it is.
func (w *walker) sendsAll() bool {
	return w.decider.matcher == nil && w.decider.editing == nil && w.decider.Outside == ""
}

// takeWhole has a batch sent on as it is, if all its messages go to one partition unchanged:
// so it would be with each of them, one by one. It reports whether it did.
func (w *walker) takeWhole(stamp message.Stamp, batch message.Batch) bool {
	d := w.decider
	if stamp.Offset < w.from || stamp.End() > w.to {
		return false
	}
	hops := 1
	if from := batch.Route(); from != nil {
		if hops += from.Hops; from.Address == "" || hops > MaxHops {
			return false
		}
	}
	partition, ok := batch.InOnePartition(d.count, w.c.p.Number%d.count, d.MaxBody, &w.c.scratch)
	if !ok {
		return false
	}
	number, first, upTo := route.Number(partition), w.cut.At(stamp.Offset), w.cut.At(stamp.End())
	switch wants := w.walk.Wants(number, upTo); {
	case wants && !w.walk.Wants(number, w.cut.At(stamp.Offset+1)):
		return false // the target has the beginning
	case wants:
		if all := w.gathered[number]; len(all) > 0 {
			w.seal(number, all[len(all)-1])
		}
		w.walk.Add(number, first, upTo)
		p := &parcel{sealed: true, count: int(stamp.Count)}
		p.after, p.upTo, p.recovered = w.walk.Flush(number)
		sent := w.sentAs(p)
		sent.Address, sent.Hops = d.Route, hops
		p.made(batch, sent)
		p.bytes = len(p.data)
		w.bytes += p.bytes
		w.gathered[number] = append(w.gathered[number], p)
	}
	w.passed += int64(stamp.Count)
	return true
}

// drop gives up what is gathered, since the walk begins anew.
func (w *walker) drop() {
	for number, all := range w.gathered {
		delete(w.gathered, number)
		for _, p := range all {
			if w.bytes -= p.bytes; p.sealed {
				w.walk.Returned(number, p.upTo)
			}
		}
	}
}
