package manage

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// previewSet says what a change of settings does: what each row of the table
// says, what retention takes at once, and which groups are not there yet.
func (mg *Manage) previewSet(ctx context.Context, t *part.Channel, old, changed *catalog.Channel) (*form.Preview, error) {
	p, err := change.Preview(ctx, mg.catalog, old.Address(), setting.Channels, &old.Channel, &changed.Channel, old.Kind)
	if err != nil {
		return nil, err
	}
	if changed.RetainMS < old.RetainMS || changed.RetainBytes < old.RetainBytes {
		retention := topic.Retention{Age: time.Duration(changed.RetainMS) * time.Millisecond, Bytes: changed.RetainBytes}
		for _, part := range t.Partitions() {
			loss, err := mg.wouldDrop(ctx, part, retention)
			if err != nil {
				return nil, err
			}
			p.Bytes += loss.Bytes
			p.Messages += loss.Messages
		}
		text := "nothing is deleted at once"
		if p.Messages > 0 {
			text = fmt.Sprintf("retention takes %s (%s) at once; that cannot be undone", words.Many(p.Messages, "message"), address.FormatSize(p.Bytes))
		}
		p.Effects = append(p.Effects, text)
	}
	if p.After["hold"] != nil {
		for _, name := range changed.Hold {
			if mg.catalog.View().Groups[t.ID][name] == nil {
				p.Effects = append(p.Effects, fmt.Sprintf("there is no group %s yet: it counts from when it is created", name))
			}
		}
	}
	return p, nil
}

// wouldDrop tells what a retention would take at once, from the replica here
// or that of another node.
func (mg *Manage) wouldDrop(ctx context.Context, p *part.Partition, r topic.Retention) (topic.Loss, error) {
	if g := p.Replica(); g != nil {
		return topic.LossOf(g.Journal(), r), nil
	}
	leader := mg.parts.LeaderOf(p)
	body, err := json.Marshal(r)
	if err != nil {
		return topic.Loss{}, err
	}
	out, err := mg.parts.Call(ctx, leader, "segments", append(part.KeyBytes(p.Key()), body...))
	if err != nil {
		return topic.Loss{}, err
	}
	var l topic.Loss
	return l, json.Unmarshal(out, &l)
}
