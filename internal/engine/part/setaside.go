package part

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

	"steadyferry/internal/engine/catalog"
)

// Logs that the catalog does not know are not deleted: they are set aside, below
// DIR/set-aside, and reported. They come back by themselves when the records
// know them again, or as a channel when a person adopts them, and are deleted
// after a month. What was deleted for good is remembered in the records.

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

// Aside is logs that were set aside, of one channel on one node.
type Aside struct {
	Channel int64     `json:"channel"`
	Node    string    `json:"node"`
	Address string    `json:"address"` // that the channel had; empty when it is not known
	Kind    string    `json:"kind"`
	Since   time.Time `json:"since"`
	Until   time.Time `json:"until"` // when they are deleted
	Bytes   int64     `json:"bytes"`

	Partitions []int `json:"partitions"` // that this node has
}

func (reg *Registry) asideDir() string { return filepath.Join(reg.dir, "set-aside") }

// labelChannel writes what the logs of a channel are, if it has changed.
func (reg *Registry) labelChannel(view *catalog.View, ch *catalog.Channel) {
	dir := reg.store.Path(fmt.Sprint(ch.ID))
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

// SetAside takes away the logs that the catalog does not know, and deletes those of
// channels that were deleted for good.
func (reg *Registry) SetAside(ctx context.Context) {
	trees := reg.store.Trees()
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
	if have := known(reg.catalog.View()); !slices.ContainsFunc(trees, func(name string) bool { return !have[name] }) {
		return // the usual case
	}
	// Certainty first: this node may not have heard of the newest records.
	if err := reg.catalog.Reload(ctx); err != nil {
		return
	}
	view := reg.catalog.View()
	have := known(view)
	for _, name := range trees {
		id, err := strconv.ParseInt(name, 10, 64)
		if have[name] || reg.ByID(id) != nil {
			continue
		}
		if err == nil && view.Forgotten[id] {
			if err := reg.store.RemoveTree(name); err != nil {
				slog.Warn("could not delete the logs of a removed channel", "channel", name, "error", err)
			}
			continue
		}
		to := filepath.Join(reg.asideDir(), name+"-"+time.Now().UTC().Format(asideTime))
		if err := reg.store.MoveTree(name, to); err != nil {
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

// Aside lists what this node has set aside, by directory.
func (reg *Registry) Aside() (all map[string]*Aside) {
	all = map[string]*Aside{}
	entries, err := os.ReadDir(reg.asideDir())
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
		dir := filepath.Join(reg.asideDir(), e.Name())
		a := &Aside{Channel: id, Node: reg.Name(), Since: at, Until: at.Add(keptAside), Partitions: []int{}}
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

// bringBack takes logs back that were set aside, of a channel that the records
// know again.
func (reg *Registry) bringBack(ch *catalog.Channel) {
	name := fmt.Sprint(ch.ID)
	paths, _ := filepath.Glob(filepath.Join(reg.asideDir(), name+"-*"))
	if len(paths) == 0 || reg.store.HasTree(name) {
		return
	}
	slices.Sort(paths)
	from := paths[len(paths)-1] // the newest
	if l, err := readLabel(from); err == nil && l.Cluster != reg.catalog.View().Cluster.Cluster {
		slog.Error("logs that were set aside are those of another cluster", "logs", from)
		return
	}
	if err := reg.store.BringTree(from, name); err != nil {
		slog.Error("logs that were set aside could not be brought back", "channel", ch.Address(), "error", err)
		return
	}
	slog.Warn("logs that were set aside are back: the catalog knows their channel again", "channel", ch.Address())
}

// DropAside deletes what was set aside long ago.
func (reg *Registry) DropAside(now time.Time) {
	for dir, a := range reg.Aside() {
		if now.After(a.Until) {
			slog.Warn("logs that were set aside a month ago are deleted", "logs", dir, "channel", a.Address)
			if err := os.RemoveAll(dir); err != nil {
				slog.Warn("could not delete logs that were set aside", "logs", dir, "error", err)
			}
		}
	}
}

// AsideHere returns how many channels' logs this node has set aside.
func (reg *Registry) AsideHere() int {
	entries, _ := os.ReadDir(reg.asideDir())
	return len(entries)
}

// OwnAside lists what this node has set aside.
func (reg *Registry) OwnAside() []Aside {
	out := []Aside{}
	for _, a := range reg.Aside() {
		out = append(out, *a)
	}
	return out
}
