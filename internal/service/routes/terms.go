package routes

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
)

// MaxHops is through how many routes a message may have come.
const MaxHops = 16

// Reasons of the dead letters of a route.
const (
	reasonEdit      = "edit-failed"
	reasonCondition = "condition-failed"
	reasonTarget    = "target-refuses"
	reasonHops      = "too-many-hops"
)

// pinned is what the messages of a cut are decided by, as the log keeps it. What a
// decision depends on is all here.
type pinned struct {
	setting.Routing
	Route   string `json:"route"` // address
	MaxBody int64  `json:"maxBody"`
	Outside string `json:"outside,omitempty"` // kind of the endpoint that it leads to
	Dead    bool   `json:"dead,omitempty"`    // it reads dead letters
}

// addressOn is the address of a route on a channel that it reads.
func addressOn(source *part.Channel, g *catalog.Group) address.Address {
	if sendsReturned(source, g) {
		return source.Address()
	}
	return part.GroupAddress(source, g.Name)
}

// sendsReturned reports whether what a route reads on a channel is what has returned from
// its own dead letters.
func sendsReturned(source *part.Channel, g *catalog.Group) bool { return source.ID != g.ChannelID }

// whereOn is the condition of a route on a channel that it reads: what came to its own
// dead letters has fulfilled it.
func whereOn(source *part.Channel, g *catalog.Group) string {
	if sendsReturned(source, g) {
		return ""
	}
	return g.Where
}

// copiesDead reports whether a route copies the dead letters of a channel that it reads.
func copiesDead(source *part.Channel, g *catalog.Group) bool {
	return !sendsReturned(source, g) && address.ReadsDead(g.Name)
}

// termsOf are the terms that are wished now for a route on a channel that it reads.
func termsOf(source *part.Channel, g *catalog.Group, to target) route.Terms {
	routing := g.Routing
	routing.Where = whereOn(source, g)
	terms := pin(routing, addressOn(source, g), copiesDead(source, g), to)
	terms.Version = g.Route.Version
	return terms
}

// pin makes terms of what a route does that leads to a target as it is now.
func pin(routing setting.Routing, of address.Address, dead bool, to target) route.Terms {
	b, err := json.Marshal(pinned{routing, of.String(), to.maxBody, to.outside(), dead})
	if err != nil {
		panic(err) // texts
	}
	return route.Terms{Text: string(b), Target: to.id, Partitions: to.count}
}

// decider decides messages by the terms of a cut. It is for one goroutine at a time.
type decider struct {
	pinned
	count   int // partitions of the target, or lanes to it
	matcher *expr.Matcher
	editing *edit.Editing
	source  *part.Channel
	// What a route takes from a queue it has chosen: its condition is not asked again.
	chosen bool
}

func newDecider(ctx context.Context, source *part.Channel, terms route.Terms) (*decider, error) {
	d := &decider{count: terms.Partitions, source: source}
	if err := json.Unmarshal([]byte(terms.Text), &d.pinned); err != nil {
		return nil, err
	}
	d.chosen = source.IsQueue() && !d.Dead
	if d.Where != "" {
		c, err := expr.Compile(d.Where)
		if err != nil {
			return nil, err
		}
		d.matcher = c.Matcher(ctx)
	}
	if len(d.Edits) > 0 {
		edits := make([]edit.Edit, len(d.Edits))
		for i, text := range d.Edits {
			var err error
			if edits[i], err = edit.Parse(text); err != nil {
				return nil, err
			}
		}
		ed, err := edit.NewEditor(edits)
		if err != nil {
			return nil, err
		}
		d.editing = ed.Begin(ctx)
	}
	return d, nil
}

// matches reports whether a message is one that the route sends. refused is the
// dead letter's reason when that cannot be told.
func (d *decider) matches(s *message.Stored, f expr.Facts) (ok bool, refused error) {
	if d.matcher == nil || d.chosen {
		return true, nil
	}
	return d.matcher.MatchWith(s, f)
}

// decide says to which target a message goes, and as what: a partition's number, or
// route.Dead with a reason in its terms. sent is false for one that the condition
// leaves out. Only what is in the message and the terms counts.
func (d *decider) decide(s *message.Stored, f expr.Facts) (number int, out *message.Message, sent bool) {
	ok, err := d.matches(s, f)
	if err != nil {
		return route.Dead, d.bury(s, reasonCondition, err), true
	}
	if !ok {
		return 0, nil, false
	}
	hops := hopsOf(&s.Message)
	if hops >= MaxHops {
		return route.Dead, d.bury(s, reasonHops, fmt.Errorf("it came through %d routes; limit %d", hops, MaxHops)), true
	}
	if d.Outside == setting.InTable && d.editing == nil {
		return route.Number(d.partitionOf(&s.Message, s)), &s.Message, true // a row says nothing of where it came from
	}
	m := s.Message
	if d.editing != nil {
		edited, err := d.editing.Apply(s, f)
		if err != nil {
			return route.Dead, d.bury(s, reasonEdit, err), true
		}
		m = edited.Message
	}
	m.Terms = nil
	marks := []message.Header{{Name: message.HeaderRoute, Value: d.Route}, {Name: message.HeaderRouteFrom, Value: d.source.Address().At(s.Partition, s.Offset).String()}, {Name: message.HeaderHops, Value: strconv.Itoa(hops + 1)}}
	if d.Dead {
		marks = append(marks, message.Header{Name: message.HeaderReason, Value: f.Reason}, message.Header{Name: message.HeaderDetail, Value: short(f.Detail)})
	}
	m.Headers = append(without(m.Headers, marks), marks...)
	if err := m.Check(d.MaxBody); err != nil {
		return route.Dead, d.bury(s, reasonTarget, err), true
	}
	return route.Number(d.partitionOf(&m, s)), &m, true
}

// partitionOf keeps the order of a source partition, and so that of each key; that of
// messages without a key is kept in channels alone, not over several lanes.
func (d *decider) partitionOf(m *message.Message, s *message.Stored) int {
	switch {
	case m.Key != "":
		return message.PartitionOf(m.Key, d.count)
	case d.Outside != "":
		return int(s.Offset % int64(d.count))
	}
	return s.Partition % d.count
}

func (d *decider) bury(s *message.Stored, reason string, why error) *message.Message {
	m := s.Message
	m.Terms = &message.Terms{Reason: reason, Detail: short(why.Error()), By: "route", From: d.source.Address().At(s.Partition, s.Offset).String()}
	return &m
}

func hopsOf(m *message.Message) int {
	text, ok := m.Header(message.HeaderHops)
	if !ok {
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return 0
	}
	return n
}

// short is the beginning of a text that says why something failed.
func short(text string) string {
	runes := []rune(strings.ToValidUTF8(text, "?"))
	return string(runes[:min(len(runes), 500)])
}

// without leaves out headers with the names of others.
func without(headers, names []message.Header) []message.Header {
	return slices.DeleteFunc(slices.Clone(headers), func(h message.Header) bool {
		return slices.ContainsFunc(names, func(n message.Header) bool { return n.Name == h.Name })
	})
}
