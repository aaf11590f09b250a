// Package endpoints is the places outside to which routes deliver. It makes, changes and
// removes them, keeps their secrets sealed, delivers messages to them, holds deliveries
// back while one fails, and tells how they do. All nodes deliver, each what the routes
// send whose sources it leads; how a place does they tell each other through the
// records, and when those are away each goes by what it sees itself. It may be called at
// once by many.
package endpoints

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"sync"
	"time"

	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/seal"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/outside"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// Config is where a node may deliver to, and with what.
type Config struct {
	outside.Config
	Schemes []string  // of addresses
	Keys    seal.Ring // by which secrets are sealed
}

// Endpoints are the places outside.
type Endpoints struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	config  Config

	mu     sync.Mutex // guards lines, events, told and ends
	lines  map[int64]*line
	told   map[int64]endpoint.Health // as nodes have told each other
	events []ledger.Event
	ends   map[int64]ends // of certificates that are set
}

// ends is when the first certificate ends that is set for an endpoint, in one revision of it.
type ends struct {
	revision int64
	at       time.Time
}

// New returns the service and registers what it answers of other nodes.
func New(parts *part.Registry, records *catalog.Catalog, config Config) *Endpoints {
	es := &Endpoints{parts: parts, catalog: records, config: config, lines: map[int64]*line{}, ends: map[int64]ends{}}
	peer.Answer(&parts.Calls, "endpoint", func(_ context.Context, _ uint64, id int64) (*Here, error) { return es.here(id), nil })
	return es
}

// ErrRemoved is returned for an endpoint that is not there any more.
var ErrRemoved = errors.New("the endpoint was removed")

// line returns this node's line to an endpoint as it is set now.
func (es *Endpoints) line(id int64) (*line, error) {
	record := es.catalog.View().Endpoint(id)
	es.mu.Lock()
	defer es.mu.Unlock()
	l := es.lines[id]
	if record == nil {
		if l != nil {
			l.end()
			delete(es.lines, id)
		}
		return nil, ErrRemoved
	}
	if l == nil {
		l = newLine(es, record)
		es.lines[id] = l
	}
	l.follow(record)
	return l, nil
}

// sender returns what sends to an endpoint as it is set.
func (es *Endpoints) sender(record *catalog.Endpoint, s secrets) *outside.Sender {
	return outside.New(es.config.Config, outside.Place{Endpoint: record.Endpoint, Address: record.Address(), Secrets: outside.Secrets(s)})
}

// TellEvery is how often nodes tell each other how endpoints do, when nothing changes.
const TellEvery = time.Second

// Tend takes on how endpoints do as other nodes have seen it, tells what this one has
// seen, and records what has happened. It is called each TellEvery.
func (es *Endpoints) Tend(ctx context.Context) {
	es.recordEvents(ctx)
	es.mu.Lock()
	lines := make([]*line, 0, len(es.lines))
	for _, l := range es.lines {
		lines = append(lines, l)
	}
	es.mu.Unlock()
	if len(lines) == 0 && len(es.catalog.View().Endpoints) == 0 {
		return
	}
	told, err := es.catalog.Healths(ctx)
	if err != nil {
		if ctx.Err() == nil {
			slog.Debug("how endpoints do is not known from other nodes", "error", err)
		}
		return
	}
	es.mu.Lock()
	es.told = told
	maps.DeleteFunc(es.ends, func(id int64, _ ends) bool { return es.catalog.View().Endpoint(id) == nil })
	es.mu.Unlock()
	for _, l := range lines {
		if es.catalog.View().Endpoint(l.id) == nil {
			_, _ = es.line(l.id) // it ends
			continue
		}
		es.follow(ctx, l)
		if h, tell := l.exchange(told[l.id], time.Now()); tell {
			if err := es.catalog.TellHealth(ctx, l.id, h); err != nil && ctx.Err() == nil {
				slog.Debug("how an endpoint does was not told", "endpoint", l.address(), "error", err)
			}
		}
	}
}

// CertificateEnds is when the first certificate ends on which deliveries to an endpoint depend:
// those that are set, and the one that the place has shown last; zero: there is none.
func (es *Endpoints) CertificateEnds(record *catalog.Endpoint, h endpoint.Health) time.Time {
	es.mu.Lock()
	defer es.mu.Unlock()
	known, ok := es.ends[record.ID]
	if !ok || known.revision != record.Revision {
		known = ends{revision: record.Revision}
		if s, err := es.open(record); err == nil {
			known.at = outside.Secrets(s).Ends()
		}
		es.ends[record.ID] = known
	}
	return outside.Sooner(known.at, h.Ends)
}

// Here is what one node knows of an endpoint.
type Here struct {
	Health    endpoint.Health   `json:"health"`
	Rate      float64           `json:"rate"` // deliveries a second at most; 0: no limit
	Delivered int64             `json:"delivered"`
	Failed    int64             `json:"failed"`
	Refused   int64             `json:"refused"`
	Answers   []endpoint.Answer `json:"answers"` // the last ones, the newest first
}

func (es *Endpoints) here(id int64) *Here {
	es.mu.Lock()
	l := es.lines[id]
	es.mu.Unlock()
	if l == nil {
		return nil
	}
	return l.here()
}

// Healths are how all endpoints do, by their ids, as nodes have told each other a moment
// ago, or this one has seen since.
func (es *Endpoints) Healths() map[int64]endpoint.Health {
	es.mu.Lock()
	defer es.mu.Unlock()
	all := maps.Clone(es.told)
	if all == nil {
		all = map[int64]endpoint.Health{}
	}
	for id, l := range es.lines {
		if h := l.health(); !h.Last.At.Before(all[id].Last.At) {
			all[id] = h
		}
	}
	return all
}

// Fails reports whether an endpoint fails, as nodes have told each other.
func (es *Endpoints) Fails(id int64) bool {
	es.mu.Lock()
	defer es.mu.Unlock()
	h := es.told[id]
	return h.Failing()
}

// Here is what this node knows of the endpoints that it delivers to, by their addresses.
func (es *Endpoints) Here() map[string]Here {
	es.mu.Lock()
	defer es.mu.Unlock()
	all := map[string]Here{}
	for _, l := range es.lines {
		all[l.address()] = *l.here()
	}
	return all
}

// Status is how an endpoint does, over all nodes: the counts since each node began, the
// health as the node has seen it that looked last.
func (es *Endpoints) Status(ctx context.Context, id int64) Here {
	all := []*Here{es.here(id)}
	for _, one := range peer.AskEach[*Here](ctx, es.parts.Peers(), es.parts.OtherNodes(), "endpoint", id) {
		all = append(all, one)
	}
	sum := Here{Health: es.Healths()[id]}
	for _, one := range all {
		if one == nil {
			continue
		}
		sum.Delivered += one.Delivered
		sum.Failed += one.Failed
		sum.Refused += one.Refused
		sum.Answers = append(sum.Answers, one.Answers...)
		sum.Rate += one.Rate
		if one.Health.Last.At.After(sum.Health.Last.At) {
			sum.Health = one.Health
		}
	}
	newestFirst(sum.Answers)
	sum.Answers = sum.Answers[:min(len(sum.Answers), keptAnswers)]
	return sum
}
