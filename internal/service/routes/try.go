package routes

import (
	"bytes"
	"context"
	"errors"
	"reflect"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/expr"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/route"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// Bounds of a trial.
const (
	TryTime      = 10 * time.Second
	trySamples   = 5
	tryFailures  = 20
	mostTrySteps = 1500

	mostTryLetters = 20_000
)

// Try says what a route would have done with what its source got since a position.
// Nothing is sent. Of more than can be looked at in TryTime it looks at the first
// stretches of each partition.
func (rs *Routes) Try(ctx context.Context, a address.Address, since address.Position, settings setting.Change) (*form.RouteTrial, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	t, name, err := rs.parts.SourceOf(a)
	if err != nil {
		return nil, err
	}
	if err := access.CheckUnmasked(ctx, access.SeeContent, t.Record().Address()); err != nil {
		return nil, err
	}
	is, wished, err := rs.triedOn(a, settings)
	if err != nil {
		return nil, err
	}
	if err := setting.Groups.Fits(settings, setting.Route, a.String()); err != nil {
		return nil, err
	}
	setting.Groups.Apply(&wished, settings)
	target, err := rs.checkTarget(ctx, t, a, wished.To)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, TryTime)
	defer cancel()
	tr := &trial{rs: rs, source: t, dead: address.ReadsDead(name), target: target}
	if tr.now, err = tr.decider(ctx, wished.Routing, a); err != nil {
		return nil, err
	}
	if is != nil {
		if tr.was, err = tr.decider(ctx, is.Routing, a); err != nil {
			return nil, err
		}
		tr.out.Was = &form.TrialWas{Samples: []form.TrialSample{}}
	}
	if tr.dead {
		err = tr.letters(ctx, since)
	} else if err = tr.open(ctx, since); err == nil {
		err = tr.run(ctx)
	}
	if err != nil {
		return nil, err
	}
	tr.end()
	return &tr.out, nil
}

// triedOn returns the route that is there, if one is, and with what other settings are tried:
// one that is to be made says where it leads.
func (rs *Routes) triedOn(a address.Address, settings setting.Change) (is *setting.Group, wished setting.Group, err error) {
	if a.Group == "" {
		return nil, wished, nil
	}
	_, g, err := rs.parts.Group(a)
	_, leads := settings["to"]
	switch {
	case err != nil && leads:
		return nil, wished, nil
	case err != nil:
		return nil, wished, err
	case g.Route == nil:
		return nil, wished, problem.New(problem.Invalid, "%s is no route", a).Field("route")
	}
	return &g.Group, g.Group, nil
}

// trial is a trial under way.
type trial struct {
	rs        *Routes
	source    *part.Channel
	dead      bool // its dead letters are read
	target    target
	now, was  *decider
	out       form.RouteTrial
	stretches []*stretch
	step      time.Duration
	failures  map[string]*form.TrialFailure
	order     []*form.TrialFailure
}

// stretch is what a trial looks at of one partition.
type stretch struct {
	p        *part.Partition
	reader   logs.Reader
	log      logs.Log
	from, to int64
}

func (tr *trial) decider(ctx context.Context, r setting.Routing, a address.Address) (*decider, error) {
	terms := pin(r, a, tr.dead, tr.target)
	terms.Partitions = max(terms.Partitions, 1)
	d, err := newDecider(ctx, tr.source, terms)
	if err == nil {
		d.chosen = false // of a queue, too, it is asked what it would take
	}
	return d, err
}

func (tr *trial) begin(now time.Time) {
	tr.failures = map[string]*form.TrialFailure{}
	tr.out.Failures, tr.out.Samples, tr.out.Others, tr.out.Steps = []form.TrialFailure{}, []form.TrialSample{}, []form.Message{}, []form.TrialStep{}
	tr.out.Since = now.UTC()
}

// divide chooses the steps of the time since the first message.
func (tr *trial) divide(now time.Time) {
	tr.step = time.Minute
	for span := now.Sub(tr.out.Since); span/tr.step > mostTrySteps; {
		tr.step *= 2
	}
	tr.out.Since = tr.out.Since.Truncate(tr.step)
	tr.out.StepSeconds = int(tr.step.Seconds())
}

func (tr *trial) open(ctx context.Context, since address.Position) error {
	now := time.Now()
	tr.begin(now)
	for _, p := range tr.source.Partitions() {
		l, err := logs.Open(ctx, tr.rs.parts, p, true)
		if err != nil {
			return err
		}
		from, err := logs.Resolve(ctx, tr.rs.parts, p, l, since, now)
		if err != nil {
			return err
		}
		s := &stretch{p: p, log: l, from: max(from, l.First()), to: l.End()}
		if s.from >= s.to {
			continue
		}
		s.reader = l.Reader(s.from)
		tr.out.Total += s.to - s.from
		tr.stretches = append(tr.stretches, s)
		if first, err := logs.Message(ctx, tr.rs.parts, p, s.from, true); err == nil && first.StoredAt.Before(tr.out.Since) {
			tr.out.Since = first.StoredAt
		}
	}
	tr.divide(now)
	return nil
}

// letters looks at the dead letters that are there, of those that became such since a time.
func (tr *trial) letters(ctx context.Context, since address.Position) error {
	now := time.Now()
	tr.begin(now)
	at, ok := since.TimeAt(now)
	if !ok && since.Kind != address.First {
		return problem.New(problem.Invalid, "dead letters are not tried since %s", since).Field("since").Allowed("first, time:T, ago:D")
	}
	tr.out.Since = at.UTC()
	var found []queues.Item
	err := tr.rs.queues.EachItem(ctx, tr.source, queues.Selection{States: []queue.State{queue.Dead}, Limit: mostTryLetters}, func(i *queues.Item) error {
		if i.Message != nil && i.Info.Due >= at.UnixMicro() {
			found = append(found, *i)
		}
		return nil
	})
	if err != nil && len(found) == 0 {
		return err
	}
	if tr.out.Total = int64(len(found)); !ok {
		tr.out.Since = now.UTC()
		for i := range found {
			if at := time.UnixMicro(found[i].Info.Due).UTC(); at.Before(tr.out.Since) {
				tr.out.Since = at
			}
		}
	}
	tr.divide(now)
	for i := range found {
		tr.look(ctx, found[i].Message, found[i].Facts(), time.UnixMicro(found[i].Info.Due))
	}
	return nil
}

// run looks at one chunk of each partition after the other, until all is looked at or
// the time is over.
func (tr *trial) run(ctx context.Context) error {
	buffer := make([]byte, readBytes)
	for left := tr.stretches; len(left) > 0 && ctx.Err() == nil; {
		var more []*stretch
		for _, s := range left {
			at := s.reader.Offset()
			chunk, err := s.reader.Read(buffer)
			var gone *journal.Gone
			if errors.As(err, &gone) || errors.As(err, new(*journal.Damage)) {
				if gone != nil {
					s.reader = s.log.Reader(gone.First)
				}
				more = append(more, s)
				continue
			}
			if err != nil || len(chunk) == 0 {
				continue
			}
			_, err = logs.EachMessage(ctx, chunk, s.p.Number, at, tr.rs.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
				if m.Offset < s.to {
					tr.look(ctx, m, expr.Facts{}, m.StoredAt)
				}
				return ctx.Err() == nil, nil
			})
			if err != nil && ctx.Err() == nil {
				return err
			}
			if s.reader.Offset() < s.to {
				more = append(more, s)
			}
		}
		left = more
	}
	return nil
}

// look decides a message, which the route would have read at a time.
func (tr *trial) look(ctx context.Context, m *message.Stored, f expr.Facts, when time.Time) {
	out := &tr.out
	number, made, sent := tr.now.decide(m, f)
	if ctx.Err() != nil {
		return // the decision was cut off
	}
	out.LookedAt++
	at := int(when.Sub(out.Since) / tr.step)
	for len(out.Steps) <= at && at < 2*mostTrySteps {
		out.Steps = append(out.Steps, form.TrialStep{At: out.Since.Add(time.Duration(len(out.Steps)) * tr.step)})
	}
	step := &out.Steps[min(max(at, 0), len(out.Steps)-1)]
	step.LookedAt++
	a := tr.source.Address()
	switch {
	case !sent:
		out.LeftOut++
		if len(out.Others) < trySamples {
			out.Others = append(out.Others, form.MessageOf(a, logs.Keep(m).Shorten(message.ShortBody)))
		}
	case number == route.Dead:
		out.Failed++
		tr.fails(m, made)
	default:
		out.Sent++
		step.Sent++
	}
	if sent && len(out.Samples) < trySamples {
		out.Samples = append(out.Samples, tr.sample(m, number, made))
	}
	if tr.was != nil {
		tr.compare(m, f, number, made, sent)
	}
}

func (tr *trial) sample(m *message.Stored, number int, made *message.Message) form.TrialSample {
	a := tr.source.Address()
	s := form.TrialSample{Before: form.MessageOf(a, logs.Keep(m).Shorten(message.ShortBody))}
	if number == route.Dead {
		s.Failed = made.Terms.Reason + ": " + made.Terms.Detail
		return s
	}
	edited := *m
	edited.Message = *made
	after := form.MessageOf(a, logs.Keep(&edited).Shorten(message.ShortBody))
	s.After = &after
	return s
}

func (tr *trial) fails(m *message.Stored, made *message.Message) {
	key := made.Terms.Reason + queue.Pattern(made.Terms.Detail)
	f := tr.failures[key]
	if f == nil {
		if len(tr.order) == tryFailures {
			return
		}
		f = &form.TrialFailure{Reason: made.Terms.Reason, Detail: made.Terms.Detail, Example: tr.source.Address().At(m.Partition, m.Offset).String()}
		tr.failures[key] = f
		tr.order = append(tr.order, f)
	}
	f.Count++
}

// compare tells what differs from the route as it is set.
func (tr *trial) compare(m *message.Stored, f expr.Facts, number int, made *message.Message, sent bool) {
	was := tr.out.Was
	wasNumber, wasMade, wasSent := tr.was.decide(m, f)
	wasSent, sent = wasSent && wasNumber != route.Dead, sent && number != route.Dead
	if wasSent {
		was.Sent++
	}
	s := form.TrialSample{}
	switch {
	case wasSent && !sent:
		was.OnlyWas++
		s = tr.sample(m, wasNumber, wasMade)
		s.Before, s.After = *s.After, nil
	case sent && !wasSent:
		was.OnlyNow++
		s = tr.sample(m, number, made)
	case sent && !(bytes.Equal(made.Body, wasMade.Body) && made.Key == wasMade.Key && reflect.DeepEqual(made.Headers, wasMade.Headers)):
		was.Other++
		s = tr.sample(m, number, made)
		s.Before = *tr.sample(m, wasNumber, wasMade).After
	default:
		return
	}
	if len(was.Samples) < trySamples {
		was.Samples = append(was.Samples, s)
	}
}

func (tr *trial) end() {
	out := &tr.out
	for _, f := range tr.order {
		out.Failures = append(out.Failures, *f)
	}
	for _, s := range out.Steps {
		out.Peak = max(out.Peak, float64(s.Sent)/tr.step.Seconds())
	}
	if tr.now.matcher != nil {
		out.Unlike, out.Why = tr.now.matcher.Unlike()
	}
	if out.Outside = tr.target.channel == nil; !out.Outside {
		status, _ := tr.rs.parts.Status(tr.target.channel, time.Now())
		out.In, out.Readers = status.Rates.MessagesIn, status.Rates.MessagesOut
	}
}
