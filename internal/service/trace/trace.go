package trace

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/look"
	"steadyferry/internal/service/queues"
	"steadyferry/internal/service/replays"
)

// ReplaySource returns the channel from which a replay takes.
func (ts *Traces) ReplaySource(from string) (*part.Channel, error) {
	a, err := address.Parse(from)
	if err != nil {
		return nil, err
	}
	if a.Dead {
		return ts.queues.At(a)
	}
	return ts.parts.Channel(a)
}

// Step is one thing that happened to a message.
type Step struct {
	At      time.Time
	Began   time.Time // of an attempt
	Address string
	Event   string
	Who     string
	Reason  string
	Detail  string
}

// Story is the story of one message.
type Story struct {
	Address  string
	ID       string
	State    string
	Message  *message.Stored // nil when its bytes are gone
	Original *message.Stored // before it was edited
	Steps    []Step
	Copies   []string // where the same message lies too: what it was replayed to and from
}

// Of tells the story of the message at a place.
func (ts *Traces) Of(ctx context.Context, t *part.Channel, partition int, offset int64) (*Story, error) {
	if err := access.Check(ctx, access.SeeMetadata, t.Record().Address()); err != nil {
		return nil, err
	}
	tr := &Story{Address: t.Address().At(partition, offset).String()}
	if t.IsQueue() {
		item, err := ts.queues.Item(ctx, t, partition, offset, true)
		if err != nil {
			return nil, err
		}
		tr.State, tr.Message, tr.Original = item.Info.State.String(), item.Message, item.Original
		tr.published(item.Message, ts.publishers.By(ctx, cmp.Or(item.Original, item.Message)), item.Publisher)
		for i, e := range item.Info.History {
			s := Step{At: time.UnixMicro(e.At).UTC(), Address: tr.Address, Event: e.Kind.String(), Who: e.Who, Reason: e.Reason, Detail: item.Details[i]}
			if e.Began > 0 {
				s.Began = time.UnixMicro(e.Began).UTC()
			}
			tr.Steps = append(tr.Steps, s)
		}
		if item.Info.State == queue.Leased {
			tr.Steps = append(tr.Steps, Step{At: time.UnixMicro(item.Info.Began).UTC(), Address: tr.Address, Event: "leased", Who: item.Info.Member})
		}
		if item.Info.From != "" {
			tr.Copies = append(tr.Copies, item.Info.From)
		}
		ts.cameFrom(ctx, tr, item.Message)
		ts.sentOn(ctx, t, tr, item.Message)
		ts.sentAgain(ctx, t, tr, partition, offset)
		tr.order(ctx)
		return tr, nil
	}
	p, err := t.Partition(partition)
	if err != nil {
		return nil, err
	}
	m, err := logs.Message(ctx, ts.parts, p, offset, false)
	if err != nil {
		return nil, err
	}
	tr.State, tr.Message = "kept", access.Sight(ctx, access.SeeContent, t.Record().Address()).Show(m)
	publisher, err := ts.publisherOf(ctx, p, offset)
	if err != nil {
		return nil, err
	}
	tr.published(tr.Message, ts.publishers.By(ctx, m), publisher)
	ts.readers(ctx, t, tr, partition, offset)
	ts.cameFrom(ctx, tr, m)
	ts.goesTo(ctx, t, tr, m, maxHops)
	ts.sentAgain(ctx, t, tr, partition, offset)
	tr.order(ctx)
	return tr, nil
}

// order puts the steps in the order of time; those without one come last. What is elsewhere is
// left out where whoever asks may not see it.
func (tr *Story) order(ctx context.Context) {
	hidden := func(at string) bool { return at != tr.Address && !access.May(ctx, access.SeeCounts, at) }
	tr.Steps = slices.DeleteFunc(tr.Steps, func(s Step) bool { return s.Address != "" && hidden(s.Address) })
	tr.Copies = slices.DeleteFunc(tr.Copies, hidden)
	slices.SortStableFunc(tr.Steps, func(a, b Step) int {
		if a.At.IsZero() != b.At.IsZero() {
			return cmp.Compare(b.At.Unix(), a.At.Unix())
		}
		return a.At.Compare(b.At)
	})
}

// Bounds of the search for copies that replays have made of a message.
const (
	copyTime    = 3 * time.Second
	copyReplays = 20
)

// sentAgain tells where replays have sent the message, as far as that is found
// in time. What returned to its own queue is part of its history.
func (ts *Traces) sentAgain(ctx context.Context, t *part.Channel, tr *Story, partition int, offset int64) {
	ctx, cancel := context.WithTimeout(ctx, copyTime)
	defer cancel()
	all, err := ts.catalog.Jobs(ctx, replays.MaxOpen*copyReplays, replays.Kind)
	if err != nil {
		return
	}
	looked := 0
	for _, r := range all {
		var spec replays.Spec
		from, err := address.Parse(r.Address)
		if err != nil || from.QueuePart() != t.Address() || r.Done == 0 || json.Unmarshal(r.Spec, &spec) != nil {
			continue
		}
		if span, ok := spec.Spans[partition]; !from.Dead && (!ok || offset < span[0] || offset >= span[1]) {
			continue
		}
		target, err := ts.ReplaySource(spec.To)
		if err != nil || target == t {
			continue
		}
		if looked++; looked > copyReplays || ctx.Err() != nil {
			return
		}
		where := fmt.Sprintf("headers[%q] == %q && headers[%q] == %q", form.HeaderReplayFrom, tr.Address, form.HeaderReplay, strconv.FormatInt(r.ID, 10))
		for _, c := range ts.find(ctx, look.Selection{Topic: target, Limit: 1}, r.CreatedAt, where) {
			tr.copied(target, c, Step{Event: "sent-again", Who: r.Who, Reason: fmt.Sprintf("replay %d to %s", r.ID, target.Address().At(c.Partition, c.Offset))})
		}
	}
}

// published is the step with which every story begins, of the message as it is seen: by which
// principal, and as which publisher.
func (tr *Story) published(m *message.Stored, by, publisher string) {
	if m == nil {
		return
	}
	tr.ID = m.ID
	s := Step{At: m.StoredAt, Address: tr.Address, Event: "published", Who: by, Reason: publisher}
	if m.Key != "" {
		s.Detail = "key " + m.Key
	}
	from, sentAgain := m.Header(form.HeaderReplayFrom)
	number, _ := m.Header(form.HeaderReplay)
	if sentAgain {
		s.Event, s.Reason = "sent-again", fmt.Sprintf("replay %s from %s", number, from)
		tr.Copies = append(tr.Copies, from)
	}
	if from, routed := m.Header(message.HeaderRouteFrom); routed {
		by, _ := m.Header(message.HeaderRoute)
		s.Event, s.Who, s.Reason = "routed", by, "from "+from
	}
	tr.Steps = append(tr.Steps, s)
}

// publisherOf returns by whom a message of a topic was published, as far as its
// batch says so.
func (ts *Traces) publisherOf(ctx context.Context, p *part.Partition, offset int64) (publisher string, err error) {
	l, err := logs.Open(ctx, ts.parts, p, false)
	if err != nil {
		return "", err
	}
	chunk, err := l.Reader(offset).Read(make([]byte, 64<<10))
	if err != nil {
		return "", p.ReadProblem(err)
	}
	message.EachRecord(chunk, func(r message.Record) bool {
		if r.Stamp().End() <= offset {
			return true
		}
		if batch, err := r.Batch(); err == nil {
			publisher = queues.PublisherText(batch)
		}
		return false
	})
	return publisher, nil
}

// readers tells which groups have passed the message.
func (ts *Traces) readers(ctx context.Context, t *part.Channel, tr *Story, partition int, offset int64) {
	for name, g := range ts.catalog.View().Groups[t.ID] {
		if g.Route != nil {
			continue // what it has made of the message is told
		}
		offsets, err := ts.groups.OffsetsOf(ctx, t, name)
		if err != nil {
			continue
		}
		a := part.GroupAddress(t, name)
		event := "not-read-yet"
		if offsets[partition] > offset {
			event = "read"
		}
		tr.Steps = append(tr.Steps, Step{Address: a.String(), Event: event, Who: a.String()})
	}
}

// traceTime bounds the search for an id.
const traceTime = 8 * time.Second

// ByID finds the messages with an id in all channels, the newest first, and
// tells their stories.
func (ts *Traces) ByID(ctx context.Context, id string) ([]*Story, error) {
	if id == "" || len(id) > message.MaxID {
		return nil, problem.New(problem.Invalid, "id %q", id).Field("id").Allowed(fmt.Sprintf("1 to %d characters", message.MaxID))
	}
	ctx, cancel := context.WithTimeout(ctx, traceTime)
	defer cancel()
	where, err := expr.Compile("id == " + strconv.Quote(id))
	if err != nil {
		return nil, err
	}
	var found []*Story
	for _, t := range ts.parts.Channels() {
		sel := look.Selection{Topic: t, From: address.Position{Kind: address.First}, To: address.Position{Kind: address.End}, Where: where, Limit: 5, Recent: true, Newest: true}
		if !access.May(ctx, access.SeeMetadata, t.Record().Address()) {
			continue
		}
		// The id is no content: whoever may see where messages are may ask for it.
		err := ts.look.Browse(access.As(ctx, access.Node("trace")), sel, func(e look.Event) error {
			if e.Message == nil {
				return nil
			}
			tr, err := ts.Of(ctx, t, e.Message.Partition, e.Message.Offset)
			if err == nil {
				found = append(found, tr)
			}
			return err
		})
		if err != nil && ctx.Err() == nil {
			return nil, err
		}
	}
	if len(found) > 0 {
		return found, nil
	}
	if ctx.Err() != nil {
		return nil, problem.New(problem.NotFound, "no message with the id %s was found within %s", id, traceTime).Field("id").Next("give its address, if you know it")
	}
	p := problem.New(problem.NotFound, "no kept message has the id %s", id).Field("id")
	if strings.Contains(id, "/") {
		p.Then = "an address is traced with ferry trace SPACE/CHANNEL#PARTITION:OFFSET"
	}
	return nil, p
}
