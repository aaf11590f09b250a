package endpoints

import (
	"context"
	"slices"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logs"
)

// Statements returns those that make the table of an endpoint, as far as it is not
// there, with types as the bodies ask for that routes would bring; with do they are carried out.
func (es *Endpoints) Statements(ctx context.Context, who string, a address.Address, do bool) ([]string, error) {
	if err := access.Check(ctx, access.Route, a.String()); err != nil {
		return nil, err
	}
	record, err := es.Of(ctx, a)
	if err != nil {
		return nil, err
	}
	if record.Kind() != setting.InTable {
		return nil, problem.New(problem.Invalid, "%s is a %s endpoint, which has no table", a, record.Kind())
	}
	s, err := es.open(record)
	if err != nil {
		return nil, problem.New(problem.Unavailable, "%s: %v", a, err)
	}
	to := es.sender(record, s)
	defer to.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Duration(record.TimeLimitMS)*time.Millisecond)
	defer cancel()
	all, err := to.Statements(ctx, es.samples(ctx, record))
	if err != nil {
		return nil, problem.New(problem.Unavailable, "%s: %v", a, err).Next("ferry show %s tells how it is set", a)
	}
	if !do || len(all) == 0 {
		return all, nil
	}
	if err := to.Run(ctx, all); err != nil {
		return all, problem.New(problem.Conflict, "%s: %v", a, err)
	}
	es.Happened(a.String(), "table-created", "by "+who)
	return all, es.catalog.Note(ctx, &catalog.Entry{Who: who, Action: "make table", Address: a.String(), After: map[string]any{"statements": all}})
}

// samplesEach is how many bodies are looked at of each partition.
const samplesEach = 50

// samples are the last bodies of the channels from which routes lead to an endpoint.
func (es *Endpoints) samples(ctx context.Context, record *catalog.Endpoint) (bodies [][]byte) {
	for _, g := range es.catalog.View().RoutesIn[record.ID] {
		t := es.parts.ByID(g.ChannelID)
		if t == nil {
			continue
		}
		for _, p := range t.Partitions() {
			l, err := logs.Open(ctx, es.parts, p, true)
			if err != nil {
				continue
			}
			from := max(l.First(), l.End()-samplesEach)
			chunk, err := l.Reader(from).Read(make([]byte, sampleBytes))
			if err != nil {
				continue
			}
			_, _ = logs.EachMessage(ctx, chunk, p.Number, from, es.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
				bodies = append(bodies, slices.Clone(m.Body))
				return true, nil
			}) // what cannot be read is no sample
		}
	}
	return bodies
}

const sampleBytes = 256 << 10
