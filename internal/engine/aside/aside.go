// Package aside is the logs that the catalog does not know. They are not deleted: they
// are set aside, below DIR/set-aside, and reported. They come back by themselves when
// the catalog knows them again, or as a channel when a person adopts them, and are
// deleted after a month. What was deleted for good is remembered in the catalog.
package aside

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/journal"
	"steadyferry/internal/engine/catalog"
)

// keptAside is how long logs that were set aside are kept.
const keptAside = 30 * 24 * time.Hour

// LabelName is the file beside the partitions of a channel that tells what they
// were: the record may be gone when somebody wants to know.
const LabelName = "channel.json"

// Label is that file.
type Label struct {
	Cluster string               `json:"cluster"`
	Channel catalog.Channel      `json:"channel"`
	Placed  []*catalog.Placement `json:"placed"`
}

// Logs are those of one channel on one node that were set aside.
type Logs struct {
	Channel int64     `json:"channel"`
	Node    string    `json:"node"`
	Address string    `json:"address"` // that the channel had; empty when it is not known
	Kind    string    `json:"kind"`
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"` // when they are deleted
	Bytes   int64     `json:"bytes"`

	Partitions []int `json:"partitions"` // that this node has
}

// Shelf is what a node has set aside.
type Shelf struct {
	node    string // its name
	dir     string
	store   *journal.Store
	catalog *catalog.Catalog
	held    func(channel int64) bool
}

// New returns the shelf of a node in its data directory; held tells whether the node
// has a channel open.
func New(node, dir string, store *journal.Store, records *catalog.Catalog, held func(channel int64) bool) *Shelf {
	return &Shelf{node: node, dir: filepath.Join(dir, "set-aside"), store: store, catalog: records, held: held}
}

// Label writes what the logs of a channel are, if it has changed.
func (s *Shelf) Label(view *catalog.View, ch *catalog.Channel) {
	dir := s.store.Path(fmt.Sprint(ch.ID))
	if _, err := os.Stat(dir); err != nil {
		return // this node holds none of it
	}
	b, err := json.Marshal(Label{view.Cluster.Cluster, *ch, view.Placed[ch.ID]})
	if err != nil {
		panic(err) // plain values
	}
	path := filepath.Join(dir, LabelName)
	if have, err := os.ReadFile(path); err == nil && bytes.Equal(have, b) {
		return
	}
	if err := errors.Join(os.WriteFile(path+".new", b, 0o600), os.Rename(path+".new", path)); err != nil {
		slog.Warn("could not note what the logs of a channel are", "channel", ch.Address(), "error", err)
	}
}

// Take takes away the logs that the catalog does not know, and deletes those of
// channels that were deleted for good.
func (s *Shelf) Take(ctx context.Context) {
	trees := s.store.Trees()
	known := func(view *catalog.View) map[string]bool {
		known := map[string]bool{}
		for _, ch := range view.Channels {
			known[fmt.Sprint(ch.ID)] = true
		}
		for _, ch := range view.Removed {
			known[fmt.Sprint(ch.ID)] = true
		}
		return known
	}
	if have := known(s.catalog.View()); !slices.ContainsFunc(trees, func(name string) bool { return !have[name] }) {
		return // the usual case
	}
	// Certainty first: this node may not have heard of the newest records.
	if err := s.catalog.Reload(ctx); err != nil {
		return
	}
	view := s.catalog.View()
	have := known(view)
	for _, name := range trees {
		id, err := strconv.ParseInt(name, 10, 64)
		if have[name] || s.held(id) {
			continue
		}
		if err == nil && view.Forgotten[id] {
			if err := s.store.RemoveTree(name); err != nil {
				slog.Warn("could not delete the logs of a removed channel", "channel", name, "error", err)
			}
			continue
		}
		to := filepath.Join(s.dir, name+"-"+time.Now().UTC().Format(asideTime))
		if err := s.store.MoveTree(name, to); err != nil {
			slog.Error("logs that the catalog does not know could not be set aside", "logs", name, "error", err)
			continue
		}
		what := "unknown"
		if l, err := readLabel(to); err == nil {
			what = l.Channel.Address()
		}
		slog.Error("logs that the catalog does not know were set aside; ferry nodes set-aside lists them", "channel", what, "logs", to, "deleted after", keptAside)
	}
}

const asideTime = "20060102T150405"

func readLabel(dir string) (*Label, error) {
	b, err := os.ReadFile(filepath.Join(dir, LabelName))
	if err != nil {
		return nil, err
	}
	l := &Label{}
	return l, json.Unmarshal(b, l)
}

// ByDir lists what this node has set aside, by directory.
func (s *Shelf) ByDir() (all map[string]*Logs) {
	all = map[string]*Logs{}
	entries, err := os.ReadDir(s.dir)
	if err != nil {
		return all
	}
	for _, e := range entries {
		number, since, _ := strings.Cut(e.Name(), "-")
		id, err := strconv.ParseInt(number, 10, 64)
		at, timeErr := time.Parse(asideTime, since)
		if err != nil || timeErr != nil {
			continue
		}
		dir := filepath.Join(s.dir, e.Name())
		a := &Logs{Channel: id, Node: s.node, Since: at, Until: at.Add(keptAside), Partitions: []int{}}
		if l, err := readLabel(dir); err == nil {
			a.Address, a.Kind = l.Channel.Address(), l.Channel.Kind
		}
		filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return nil
			}
			if p, err := strconv.Atoi(d.Name()); err == nil && d.IsDir() {
				a.Partitions = append(a.Partitions, p)
			}
			if info, err := d.Info(); err == nil && !d.IsDir() {
				a.Bytes += info.Size()
			}
			return nil
		})
		slices.Sort(a.Partitions)
		all[dir] = a
	}
	return all
}

// BringBack takes logs back that were set aside, of a channel that the records
// know again.
func (s *Shelf) BringBack(ch *catalog.Channel) {
	name := fmt.Sprint(ch.ID)
	paths, _ := filepath.Glob(filepath.Join(s.dir, name+"-*"))
	if len(paths) == 0 || s.store.HasTree(name) {
		return
	}
	slices.Sort(paths)
	from := paths[len(paths)-1] // the newest
	if l, err := readLabel(from); err == nil && l.Cluster != s.catalog.View().Cluster.Cluster {
		slog.Error("logs that were set aside are those of another cluster", "logs", from)
		return
	}
	if err := s.store.BringTree(from, name); err != nil {
		slog.Error("logs that were set aside could not be brought back", "channel", ch.Address(), "error", err)
		return
	}
	slog.Warn("logs that were set aside are back: the catalog knows their channel again", "channel", ch.Address())
}

// Drop deletes what was set aside long ago.
func (s *Shelf) Drop(now time.Time) {
	for dir, a := range s.ByDir() {
		if now.After(a.Until) {
			slog.Warn("logs that were set aside a month ago are deleted", "logs", dir, "channel", a.Address)
			if err := os.RemoveAll(dir); err != nil {
				slog.Warn("could not delete logs that were set aside", "logs", dir, "error", err)
			}
		}
	}
}

// Count returns how many channels' logs this node has set aside.
func (s *Shelf) Count() int {
	entries, _ := os.ReadDir(s.dir)
	return len(entries)
}

// List lists what this node has set aside.
func (s *Shelf) List() []Logs {
	out := []Logs{}
	for _, a := range s.ByDir() {
		out = append(out, *a)
	}
	return out
}
