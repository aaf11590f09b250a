package node

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/peer"
)

// Logs that no record knows are not deleted: they are set aside, below
// DIR/set-aside, and reported. They come back by themselves when the records
// know them again, or as a channel when a person adopts them, and are deleted
// after a month. What was deleted for good is remembered in the records.

// keptAside is how long logs that were set aside are kept.
const keptAside = 30 * 24 * time.Hour

// labelName is the file beside the partitions of a channel that tells what they
// were: the record may be gone when somebody wants to know.
const labelName = "channel.json"

// label is that file.
type label struct {
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

func (n *Node) asideDir() string { return filepath.Join(n.dir, "set-aside") }

// labelChannel writes what the logs of a channel are, if it has changed.
func (n *Node) labelChannel(view *catalog.View, ch *catalog.Channel) {
	dir := n.store.Path(fmt.Sprint(ch.ID))
	if _, err := os.Stat(dir); err != nil {
		return // this node holds none of it
	}
	b, err := json.Marshal(label{view.Cluster.Cluster, *ch, view.Placed[ch.ID]})
	if err != nil {
		panic(err) // plain values
	}
	path := filepath.Join(dir, labelName)
	if have, err := os.ReadFile(path); err == nil && bytes.Equal(have, b) {
		return
	}
	if err := errors.Join(os.WriteFile(path+".new", b, 0o600), os.Rename(path+".new", path)); err != nil {
		slog.Warn("could not note what the logs of a channel are", "channel", ch.Address(), "error", err)
	}
}

// setAside takes away the logs that no record knows, and deletes those of
// channels that were deleted for good.
func (n *Node) setAside(ctx context.Context) {
	trees := n.store.Trees()
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
	if have := known(n.catalog.View()); !slices.ContainsFunc(trees, func(name string) bool { return !have[name] }) {
		return // the usual case
	}
	// Certainty first: this node may not have heard of the newest records.
	if err := n.catalog.Reload(ctx); err != nil {
		return
	}
	view := n.catalog.View()
	have := known(view)
	for _, name := range trees {
		id, err := strconv.ParseInt(name, 10, 64)
		if have[name] || n.topicByID(id) != nil {
			continue
		}
		if err == nil && view.Forgotten[id] {
			if err := n.store.RemoveTree(name); err != nil {
				slog.Warn("could not delete the logs of a removed channel", "channel", name, "error", err)
			}
			continue
		}
		to := filepath.Join(n.asideDir(), name+"-"+time.Now().UTC().Format(asideTime))
		if err := n.store.MoveTree(name, to); err != nil {
			slog.Error("logs that no record knows could not be set aside", "logs", name, "error", err)
			continue
		}
		what := "unknown"
		if l, err := readLabel(to); err == nil {
			what = l.Channel.Address()
		}
		slog.Error("logs that no record knows were set aside; ferry nodes set-aside lists them", "channel", what, "logs", to, "deleted after", keptAside)
	}
}

const asideTime = "20060102T150405"

func readLabel(dir string) (*label, error) {
	b, err := os.ReadFile(filepath.Join(dir, labelName))
	if err != nil {
		return nil, err
	}
	l := &label{}
	return l, json.Unmarshal(b, l)
}

// aside lists what this node has set aside, by directory.
func (n *Node) aside() (all map[string]*Aside) {
	all = map[string]*Aside{}
	entries, err := os.ReadDir(n.asideDir())
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
		dir := filepath.Join(n.asideDir(), e.Name())
		a := &Aside{Channel: id, Node: n.Name(), Since: at, Until: at.Add(keptAside), Partitions: []int{}}
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
func (n *Node) bringBack(ch *catalog.Channel) {
	name := fmt.Sprint(ch.ID)
	paths, _ := filepath.Glob(filepath.Join(n.asideDir(), name+"-*"))
	if len(paths) == 0 || n.store.HasTree(name) {
		return
	}
	slices.Sort(paths)
	from := paths[len(paths)-1] // the newest
	if l, err := readLabel(from); err == nil && l.Cluster != n.catalog.View().Cluster.Cluster {
		slog.Error("logs that were set aside are those of another cluster", "logs", from)
		return
	}
	if err := n.store.BringTree(from, name); err != nil {
		slog.Error("logs that were set aside could not be brought back", "channel", ch.Address(), "error", err)
		return
	}
	slog.Warn("logs that were set aside are back: the records know their channel again", "channel", ch.Address())
}

// dropAside deletes what was set aside long ago.
func (n *Node) dropAside(now time.Time) {
	for dir, a := range n.aside() {
		if now.After(a.Until) {
			slog.Warn("logs that were set aside a month ago are deleted", "logs", dir, "channel", a.Address)
			if err := os.RemoveAll(dir); err != nil {
				slog.Warn("could not delete logs that were set aside", "logs", dir, "error", err)
			}
		}
	}
}

// AsideHere returns how many channels' logs this node has set aside.
func (n *Node) AsideHere() int {
	entries, _ := os.ReadDir(n.asideDir())
	return len(entries)
}

// SetAside lists what all nodes that answer have set aside.
func (n *Node) SetAside(ctx context.Context) []Aside {
	out := n.ownAside()
	for _, theirs := range peer.AskEach[[]Aside](ctx, n.peers, n.otherNodes(), "aside", nil) {
		out = append(out, theirs...)
	}
	slices.SortFunc(out, func(a, b Aside) int {
		return cmp.Or(cmp.Compare(a.Address, b.Address), cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Node, b.Node))
	})
	return out
}

func (n *Node) answerAside(context.Context, uint64, struct{}) ([]Aside, error) {
	return n.ownAside(), nil
}

// ownAside lists what this node has set aside.
func (n *Node) ownAside() []Aside {
	out := []Aside{}
	for _, a := range n.aside() {
		out = append(out, *a)
	}
	return out
}

// Adopt makes a channel of logs that were set aside: the one that they were,
// under the address given.
func (n *Node) Adopt(ctx context.Context, who string, id int64, a address.Address, preview bool) (*Preview, error) {
	where := map[string]*Aside{}
	var found *Aside
	all := n.SetAside(ctx)
	for i := range all {
		if all[i].Channel == id {
			where[all[i].Node], found = &all[i], &all[i]
		}
	}
	if found == nil {
		return nil, problem.New(problem.NotFound, "no node that answers has set aside logs of %d", id).Field("id").Next("ferry nodes set-aside lists what there is")
	}
	l, err := n.labelOf(ctx, found)
	if err != nil {
		return nil, err
	}
	space, err := n.Space(a.Space)
	if err != nil {
		return nil, err
	}
	ch := l.Channel
	ch.SpaceID, ch.Space, ch.Name = space.ID, a.Space, a.Channel
	ch.GroupID.Valid, ch.RemovedAt.Valid = false, false
	placed := make([]*catalog.Placement, ch.Partitions)
	for i := range placed {
		placed[i] = &catalog.Placement{ChannelID: id, Partition: i}
		if i < len(l.Placed) {
			p := *l.Placed[i]
			placed[i] = &p
		}
		placed[i].Replicas = nil
		for _, record := range n.catalog.View().Nodes {
			if aside := where[record.Name]; aside != nil && slices.Contains(aside.Partitions, i) && record.State == catalog.NodeMember {
				placed[i].Replicas = append(placed[i].Replicas, record.ID)
			}
		}
		if len(placed[i].Replicas) == 0 {
			return nil, problem.New(problem.Conflict, "no node that answers has partition %d of %s", i, l.Channel.Address()).Next("start the nodes that have it, then try again")
		}
		slices.Sort(placed[i].Replicas)
	}
	p := &Preview{Address: a.String(), Effects: []string{fmt.Sprintf("a %s of %s with the messages that were set aside, from %s", ch.Kind, words.Many(ch.Partitions, "partition"), strings.Join(slices.Sorted(maps.Keys(where)), ", "))},
		After: settingsJSON(&ch)}
	if preview {
		return p, nil
	}
	err = n.catalog.Adopt(ctx, &ch, placed, &catalog.Entry{Who: who, Action: "adopt logs", Address: a.String(), After: map[string]any{"was": l.Channel.Address()}})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("adopt them under another address")
	}
	return p, explain(err, a.String())
}

// labelOf reads what logs are that a node has set aside.
func (n *Node) labelOf(ctx context.Context, a *Aside) (*label, error) {
	l := &label{}
	var b json.RawMessage
	var err error
	if a.Node == n.Name() {
		b, err = n.answerLabel(ctx, n.id, a.Channel)
	} else {
		for _, r := range n.catalog.View().Nodes {
			if r.Name == a.Node && n.peers.Up(r.ID) {
				b, err = peer.Ask[json.RawMessage](ctx, n.peers, r.ID, "label", a.Channel)
			}
		}
	}
	if err == nil {
		err = json.Unmarshal(b, l)
	}
	if err != nil {
		return nil, problem.New(problem.Conflict, "what the logs of %d on %s are is not known: %v", a.Channel, a.Node, err).Next("make a channel of the same kind and partitions, stop its node, and put the directories of the partitions into its place")
	}
	return l, nil
}

func (n *Node) answerLabel(_ context.Context, _ uint64, id int64) (json.RawMessage, error) {
	for dir, a := range n.aside() {
		if a.Channel == id {
			return os.ReadFile(filepath.Join(dir, labelName))
		}
	}
	return nil, errors.New("they are not here")
}

// ThrowAway deletes logs that were set aside, on all nodes that answer.
func (n *Node) ThrowAway(ctx context.Context, who string, id int64, preview bool) (*Preview, error) {
	p := &Preview{Address: fmt.Sprint(id), Effects: []string{}}
	for _, a := range n.SetAside(ctx) {
		if a.Channel == id {
			p.Bytes += a.Bytes
			p.Effects = append(p.Effects, fmt.Sprintf("%s of %s on %s are deleted, and cannot be brought back", address.FormatSize(a.Bytes), cmp.Or(a.Address, "an unknown channel"), a.Node))
		}
	}
	if len(p.Effects) == 0 {
		return nil, problem.New(problem.NotFound, "no node that answers has set aside logs of %d", id).Field("id").Next("ferry nodes set-aside lists what there is")
	}
	if preview {
		return p, nil
	}
	if err := n.catalog.Note(ctx, &catalog.Entry{Who: who, Action: "throw logs away", Address: fmt.Sprint(id), After: map[string]any{"effects": p.Effects}}); err != nil {
		return nil, explain(err, p.Address)
	}
	peer.AskEach[bool](ctx, n.peers, n.otherNodes(), "throw-away", id)
	_, err := n.answerThrowAway(ctx, n.id, id)
	return p, err
}

func (n *Node) answerThrowAway(_ context.Context, _ uint64, id int64) (bool, error) {
	for dir, a := range n.aside() {
		if a.Channel == id {
			if err := os.RemoveAll(dir); err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

// answerManage has what other nodes ask of logs that were set aside answered.
func (n *Node) answerManage() {
	peer.Answer(&n.calls, "aside", n.answerAside)
	peer.Answer(&n.calls, "label", n.answerLabel)
	peer.Answer(&n.calls, "throw-away", n.answerThrowAway)
}
