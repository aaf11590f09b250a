// Package scribe has each entry of the logbook be a message of a topic, where one is set for that
// (logbookTo): routes, groups and exports take it from there to wherever it is kept. Entries come in the order of
// their chain, in partition 0, each once: it is its own job of the service, whose batches have the numbers of the
// links. One node does it, which has the duties of the cluster; two that think so do no harm.
package scribe

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
)

const (
	every    = time.Second // between looks whether there is something
	page     = 200
	tellWait = 5 * time.Minute // between two words of the same trouble
)

// namespace is that of the ids under which the logbook is published (RFC 9562, version 5).
var namespace = uuid.MustParse("0c0d9a6b-63a1-5a35-8f0e-9c5b2f7c41d7")

// Scribe is the service.
type Scribe struct {
	parts   *part.Registry
	catalog *catalog.Catalog

	told time.Time // when trouble was told last; Run's alone
}

// New returns the service.
func New(parts *part.Registry, records *catalog.Catalog) *Scribe {
	return &Scribe{parts: parts, catalog: records}
}

// Run has what comes to the logbook go to the topic that is set, until the context ends.
func (s *Scribe) Run(ctx context.Context) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
			s.tend(ctx)
		}
	}
}

func (s *Scribe) tend(ctx context.Context) {
	to := s.catalog.View().Cluster.LogbookTo
	if to == "" || !s.catalog.AwaySince().IsZero() {
		return
	}
	if err := s.send(ctx, to); err != nil && ctx.Err() == nil && time.Since(s.told) > tellWait {
		s.told = time.Now()
		slog.Warn("entries of the logbook wait: they cannot be sent to their topic", "topic", to, "error", err)
	}
}

// send has a topic get all that it does not have yet.
func (s *Scribe) send(ctx context.Context, to string) error {
	at, err := address.Parse(to)
	if err != nil {
		return err
	}
	t, err := s.parts.Channel(at)
	if err != nil {
		return err
	}
	if err := s.parts.Accepts(t); err != nil {
		return err
	}
	channel := t.Record().ID
	sent, err := logbook.SentTo(ctx, s.catalog, channel)
	for err == nil {
		var links []logbook.Link
		if links, err = logbook.Links(ctx, s.catalog, sent.Sent, page); err != nil || len(links) == 0 {
			return err
		}
		err = errors.Join(s.publish(ctx, t, channel, sent, links), logbook.NoteSent(ctx, s.catalog, channel, sent))
	}
	return err
}

// publish sends links, and says in sent how far it came.
func (s *Scribe) publish(ctx context.Context, t *part.Channel, channel int64, sent *logbook.Sent, links []logbook.Link) error {
	for i := range links {
		err := s.append(ctx, t, channel, sent.Began, &links[i])
		var unknown *problem.Problem
		if errors.As(err, &unknown) && unknown.Kind == problem.Conflict && unknown.Of == "sequence" {
			// The topic does not know any more how far it came: another beginning.
			sent.Began = links[i].Seq - 1
			err = s.append(ctx, t, channel, sent.Began, &links[i])
		}
		if err != nil {
			return err
		}
		sent.Sent = links[i].Seq
	}
	return nil
}

func (s *Scribe) append(ctx context.Context, t *part.Channel, channel, began int64, link *logbook.Link) error {
	p, err := t.Partition(0)
	if err != nil {
		return err
	}
	body, err := json.Marshal(link)
	if err != nil {
		return err
	}
	var b message.Builder
	b.Add(&message.Message{ID: fmt.Sprintf("logbook-%d", link.Seq), Key: link.Who, ContentType: "application/json", Time: link.At, Body: body,
		Headers: []message.Header{{Name: "action", Value: link.Action}, {Name: "outcome", Value: link.Outcome}}})
	id := uuid.NewSHA1(namespace, fmt.Appendf(nil, "%d/%d", channel, began))
	_, err = s.parts.AppendBuilt(ctx, p, &b, &message.Publisher{ID: id, Sequence: uint64(link.Seq - began), Origin: true})
	return err
}
