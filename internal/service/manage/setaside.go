package manage

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/aside"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// SetAside lists what all nodes that answer have set aside.
func (mg *Manage) SetAside(ctx context.Context) []aside.Logs {
	out := mg.parts.Shelf.List()
	for _, theirs := range peer.AskEach[[]aside.Logs](ctx, mg.peers, mg.parts.OtherNodes(), "aside", nil) {
		out = append(out, theirs...)
	}
	slices.SortFunc(out, func(a, b aside.Logs) int {
		return cmp.Or(cmp.Compare(a.Address, b.Address), cmp.Compare(a.Channel, b.Channel), cmp.Compare(a.Node, b.Node))
	})
	return out
}

func (mg *Manage) answerAside(context.Context, uint64, struct{}) ([]aside.Logs, error) {
	return mg.parts.Shelf.List(), nil
}

// Adopt makes a channel of logs that were set aside: the one that they were,
// under the address given.
func (mg *Manage) Adopt(ctx context.Context, who string, id int64, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes); err != nil {
		return nil, err
	}
	where := map[string]*aside.Logs{}
	var found *aside.Logs
	all := mg.SetAside(ctx)
	for i := range all {
		if all[i].Channel == id {
			where[all[i].Node], found = &all[i], &all[i]
		}
	}
	if found == nil {
		return nil, problem.New(problem.NotFound, "no node that answers has set aside logs of %d", id).Field("id").Next("ferry nodes set-aside lists what there is")
	}
	l, err := mg.labelOf(ctx, found)
	if err != nil {
		return nil, err
	}
	space, err := mg.parts.Space(a.Space)
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
		for _, record := range mg.catalog.View().Nodes {
			if have := where[record.Name]; have != nil && slices.Contains(have.Partitions, i) && record.State == catalog.NodeMember {
				placed[i].Replicas = append(placed[i].Replicas, record.ID)
			}
		}
		if len(placed[i].Replicas) == 0 {
			return nil, problem.New(problem.Conflict, "no node that answers has partition %d of %s", i, l.Channel.Address()).Next("start the nodes that have it, then try again")
		}
		slices.Sort(placed[i].Replicas)
	}
	p := &form.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("a %s of %s with the messages that were set aside, from %s", ch.Kind, words.Many(ch.Partitions, "partition"), strings.Join(slices.Sorted(maps.Keys(where)), ", "))},
		After: shown(&ch)}
	if preview {
		return p, nil
	}
	err = mg.catalog.Adopt(ctx, &ch, placed, &catalog.Entry{Who: who, Action: "adopt logs", Address: a.String(), After: map[string]any{"was": l.Channel.Address()}})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("adopt them under another address")
	}
	return p, part.Explain(err, a.String())
}

// labelOf reads what logs are that a node has set aside.
func (mg *Manage) labelOf(ctx context.Context, a *aside.Logs) (*aside.Label, error) {
	l := &aside.Label{}
	var b json.RawMessage
	var err error
	if a.Node == mg.parts.Name() {
		b, err = mg.answerLabel(ctx, mg.id, a.Channel)
	} else {
		for _, r := range mg.catalog.View().Nodes {
			if r.Name == a.Node && mg.peers.Up(r.ID) {
				b, err = peer.Ask[json.RawMessage](ctx, mg.peers, r.ID, "label", a.Channel)
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

func (mg *Manage) answerLabel(_ context.Context, _ uint64, id int64) (json.RawMessage, error) {
	for dir, a := range mg.parts.Shelf.ByDir() {
		if a.Channel == id {
			return os.ReadFile(filepath.Join(dir, aside.LabelName))
		}
	}
	return nil, errors.New("they are not here")
}

// ThrowAway deletes logs that were set aside, on all nodes that answer.
func (mg *Manage) ThrowAway(ctx context.Context, who string, id int64, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Nodes, address.Nodes); err != nil {
		return nil, err
	}
	p := &form.Preview{Address: fmt.Sprint(id), Effects: []string{}}
	for _, a := range mg.SetAside(ctx) {
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
	if err := mg.catalog.Note(ctx, &catalog.Entry{Who: who, Action: "throw logs away", Address: fmt.Sprint(id), After: map[string]any{"effects": p.Effects}}); err != nil {
		return nil, part.Explain(err, p.Address)
	}
	peer.AskEach[bool](ctx, mg.peers, mg.parts.OtherNodes(), "throw-away", id)
	_, err := mg.answerThrowAway(ctx, mg.id, id)
	return p, err
}

func (mg *Manage) answerThrowAway(_ context.Context, _ uint64, id int64) (bool, error) {
	for dir, a := range mg.parts.Shelf.ByDir() {
		if a.Channel == id {
			if err := os.RemoveAll(dir); err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

// answerManage has what other nodes ask of logs that were set aside answered.
func (mg *Manage) answer() {
	peer.Answer(&mg.parts.Calls, "aside", mg.answerAside)
	peer.Answer(&mg.parts.Calls, "label", mg.answerLabel)
	peer.Answer(&mg.parts.Calls, "throw-away", mg.answerThrowAway)
}
