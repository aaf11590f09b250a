// Package watches tells when measured values are out of order. The node that measures
// judges every thing under a watch each time; what it finds is an incident, kept with its
// story. It owns watches, their states and incidents. States are recorded with what has
// become of them, under the number of the duty: another node goes on where one stopped, and
// none writes that has lost the duty. While the records are away it goes on judging, and
// records when they are back. It may be called at once by many.
package watches

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/endpoint"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/sample"
	"steadyferry/internal/core/watch"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/samples"
)

// Watches are the watches of the cluster.
type Watches struct {
	parts   *part.Registry
	catalog *catalog.Catalog
	ledger  ledger.Ledger
	samples *samples.Samples
	outside Poster

	tally   tally
	correct Corrects

	mu      sync.Mutex // guards what is below
	duty    int64      // under which states are known here; 0: they are not
	fenced  time.Time  // when it was found that the duty is another one; zero: it is not
	states  map[under]*ledger.WatchState
	open    map[uuid.UUID]*ledger.Incident
	untold  map[uuid.UUID]*ledger.Incident // that have ended, which those who know of them do not know
	hushed  map[uuid.UUID]ledger.Hushed    // of which people have said something
	made    map[string][]time.Time         // notices of the last hour, by watch
	changed changes                        // that is not recorded yet
	late    []*ledger.Judged               // that another node goes on from, which is not recorded yet
	cover   covering
	wrong   map[under]*astray // that a watch keeps otherwise
}

// Poster sends a message to an endpoint, and returns what it has answered;
// endpoints.ErrRemoved without such an endpoint.
type Poster interface {
	Post(ctx context.Context, at string, m *message.Message) (*endpoint.Answer, error)
}

// under is a thing under a watch.
type under struct {
	watch int64
	sample.Thing
}

// New returns the service; it judges what is measured from now on.
func New(parts *part.Registry, records *catalog.Catalog, measured *samples.Samples, outside Poster) *Watches {
	ws := &Watches{parts: parts, catalog: records, ledger: ledger.Of(records), samples: measured, outside: outside}
	measured.OnMeasured(ws.Judge)
	return ws
}

// ruled is a watch that is in force.
type ruled struct {
	*catalog.Watch
	*watch.Rule
	things []sample.Thing
}

// Watched is what the watch looks at: a value, an expression, or watch.Astray.
func (r *ruled) Watched() string {
	if r.Keep != nil {
		return watch.Astray
	}
	return r.Value
}

// covering is which things are under which watches, for one version of the records.
type covering struct {
	version  int64
	rules    map[int64]*ruled
	at       map[sample.Thing]string   // addresses
	tellings map[string]*watch.Telling // by watch, of those that are paused too
}

// covered returns what is covered now.
func (ws *Watches) covered() *covering {
	view := ws.catalog.View()
	if ws.cover.rules != nil && ws.cover.version == view.Version {
		return &ws.cover
	}
	before := ws.cover.rules
	ws.cover = covering{version: view.Version, rules: map[int64]*ruled{}, at: Things(view), tellings: map[string]*watch.Telling{}}
	// A watch covers what is in its space: it need not be held against all else.
	in := map[string]map[sample.Thing]string{}
	for t, at := range ws.cover.at {
		space, _, _ := strings.Cut(at, "/")
		if in[space] == nil {
			in[space] = map[sample.Thing]string{}
		}
		in[space][t] = at
	}
	for at, w := range view.Watches {
		if t, err := watch.NewTelling(&w.Watch); err == nil {
			ws.cover.tellings[at] = t
		}
		if w.Paused {
			continue
		}
		r := &ruled{Watch: w}
		if b := before[w.ID]; b != nil && b.Revision == w.Revision {
			r.Rule = b.Rule
		} else if rule, err := watch.New(&w.Watch); err == nil {
			r.Rule = rule
		} else {
			continue // it was checked when it was made, by another version
		}
		r.things = coveredBy(r.Rule, in[w.Space])
		ws.cover.rules[w.ID] = r
	}
	return &ws.cover
}

// coveredBy returns the things that a watch judges.
func coveredBy(r *watch.Rule, at map[sample.Thing]string) (things []sample.Thing) {
	for t, address := range at {
		if r.Covers(sample.Named(t.Kind), address) {
			things = append(things, t)
		}
	}
	return things
}

// Things returns what is measured, with its addresses.
func Things(view *catalog.View) map[sample.Thing]string {
	all := map[sample.Thing]string{}
	for at, ch := range view.Channels {
		if ch.GroupID.Valid {
			at += "/dead"
		}
		all[sample.Thing{Kind: sample.Channel.Name, ID: ch.ID}] = at
	}
	for id, g := range view.GroupIDs {
		if ch := view.Channel(g.ChannelID); ch != nil {
			all[sample.Thing{Kind: sample.Group.Name, ID: id}] = ch.At().Reader(g.Name).String()
		}
	}
	for at, e := range view.Endpoints {
		all[sample.Thing{Kind: sample.Endpoint.Name, ID: e.ID}] = at
	}
	for at, s := range view.Spaces {
		all[sample.Thing{Kind: sample.Space.Name, ID: s.ID}] = at
	}
	for id, n := range view.Nodes {
		if n.State == catalog.NodeMember || n.State == catalog.NodeDraining {
			all[sample.Thing{Kind: sample.Node.Name, ID: int64(id)}] = nodeAddress(n.Name)
		}
	}
	return all
}

// Run has this node know how things under watches are, for as long as it has the duty.
func (ws *Watches) Run(ctx context.Context) {
	ws.load(ctx)
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	var tidied time.Time
	for {
		if !ws.Knows() {
			ws.load(ctx)
		}
		ws.sendDue(ctx)
		ws.setRight(ctx)
		if now := time.Now(); now.Sub(tidied) > time.Hour {
			tidied = now
			if err := ws.ledger.TidyNotices(ctx); err != nil && ctx.Err() == nil {
				slog.Debug("old notices are not deleted yet", "error", err)
			}
		}
		if err := ws.first(ctx); err != nil && ctx.Err() == nil {
			slog.Debug("the first watches are not made yet", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// Sensible returns the watches that come with a space, or with the nodes.
func Sensible(space string) (all []*catalog.Watch) {
	for _, s := range watch.SensibleOf(space) {
		all = append(all, &catalog.Watch{Owned: catalog.Owned{ID: catalog.NewOwnedID(), Space: space, Name: s.Name}, Watch: s.Settings(space)})
	}
	return all
}

// CameItself reports whether a watch came with its space, and is as it came.
func CameItself(w *catalog.Watch) bool {
	return slices.ContainsFunc(watch.SensibleOf(w.Space), func(s watch.Sensible) bool {
		return s.Name == w.Name && reflect.DeepEqual(s.Settings(w.Space), w.Watch)
	})
}

// first gives their watches to the nodes, and to spaces that were there before there were
// any, as far as their names are free.
func (ws *Watches) first(ctx context.Context) error {
	view := ws.catalog.View()
	give := func(space string, id int64) error {
		all := slices.DeleteFunc(Sensible(space), func(w *catalog.Watch) bool {
			at := w.Address()
			w.SpaceID = sql.NullInt64{Int64: id, Valid: id != 0}
			return view.Watches[at] != nil || view.Channels[at] != nil || view.Endpoints[at] != nil
		})
		names := make([]string, len(all))
		for i, w := range all {
			names[i] = w.Name
		}
		err := ws.catalog.FirstWatches(ctx, id, all, &catalog.Entry{Who: "ferryd", Action: "new watches", Address: space, After: map[string]any{"watches": names}})
		if errors.Is(err, catalog.ErrStale) {
			err = nil
		}
		return err
	}
	if !view.Cluster.Watched {
		if err := give(address.Nodes, 0); err != nil {
			return err
		}
	}
	for _, s := range view.Spaces {
		if !s.Watched {
			if err := give(s.Name, s.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// Knows reports whether this node knows how things under watches are, so that it judges.
func (ws *Watches) Knows() bool {
	ws.mu.Lock()
	defer ws.mu.Unlock()
	return ws.duty != 0 && ws.fenced.IsZero()
}
