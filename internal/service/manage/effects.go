package manage

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/queues"
)

func (mg *Manage) previewSet(ctx context.Context, t *part.Channel, old, changed *catalog.Channel) (*change.Preview, error) {
	p := &change.Preview{Address: old.Address(), Effects: []string{}, Before: map[string]any{}, After: map[string]any{}}
	was, is := settingsJSON(old), settingsJSON(changed)
	for name := range is {
		if fmt.Sprint(was[name]) != fmt.Sprint(is[name]) {
			p.Before[name], p.After[name] = was[name], is[name]
		}
	}
	if changed.Partitions > old.Partitions {
		p.Effects = append(p.Effects, fmt.Sprintf("partitions %d to %d are added, empty. The partition of a key is its hash modulo their number, so that most keys go to another partition from now on: messages of one key that were sent before and after lie in different partitions and are no longer in one order", old.Partitions, changed.Partitions-1))
	}
	p.Effects = append(p.Effects, queueEffects(old, changed)...)
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
		p.Effects = append(p.Effects, fmt.Sprintf("retention takes %s (%s) at once; that cannot be taken back", words.Many(p.Messages, "message"), address.FormatSize(p.Bytes)))
	}
	if changed.MaxBody < old.MaxBody {
		p.Effects = append(p.Effects, fmt.Sprintf("bodies over %s are refused from now on; what is kept stays", address.FormatSize(changed.MaxBody)))
	}
	if changed.Paused && !old.Paused {
		p.Effects = append(p.Effects, "publishing is refused until the pause ends; reading goes on")
	}
	if !changed.Paused && old.Paused {
		p.Effects = append(p.Effects, "publishing goes on")
	}
	if effect := holdEffect(mg.catalog.View().Groups[t.ID], old, changed); effect != "" {
		p.Effects = append(p.Effects, effect)
	}
	if changed.Replicas != old.Replicas {
		p.Effects = append(p.Effects, replicaEffects(old, changed.Replicas)...)
	}
	return p, nil
}

// holdEffect says what it means that retention waits for groups.
func holdEffect(groups map[string]*catalog.Group, old, changed *catalog.Channel) string {
	if slices.Equal(old.Hold, changed.Hold) && old.HoldBytes == changed.HoldBytes {
		return ""
	}
	if len(changed.Hold) == 0 {
		return "retention waits for no group any more: what is over its limits goes at once"
	}
	text := fmt.Sprintf("retention leaves what %s has not read, up to %s a partition; beyond that it takes it all the same", strings.Join(changed.Hold, ", "), address.FormatSize(changed.HoldBytes))
	for _, name := range changed.Hold {
		if groups[name] == nil {
			text += fmt.Sprintf(". There is no group %s yet: it counts from when it is made", name)
		}
	}
	return text
}

// replicaEffects says what another number of replicas means.
func replicaEffects(old *catalog.Channel, replicas int) (effects []string) {
	if replicas > old.Replicas {
		effects = append(effects, fmt.Sprintf("%s copied to %s; publishing goes on meanwhile, and the new replicas count once they are in step", words.Many(old.Partitions, "partition is", "partitions are each"), words.Many(replicas-old.Replicas, "more node")))
	} else {
		effects = append(effects, fmt.Sprintf("%s; %s may be lost from then on without an end to writing", words.Many(old.Replicas-replicas, "replica of each partition goes", "replicas of each partition go"), cluster.NodesText((replicas-1)/2)))
	}
	return append(effects, cluster.EvenEffect(replicas)...)
}

// wouldDrop tells what a retention would take at once, from the replica here
// or that of another node.
func (mg *Manage) wouldDrop(ctx context.Context, p *part.Partition, r topic.Retention) (part.Loss, error) {
	if g := p.Replica(); g != nil {
		return part.LossOf(g.Journal(), r), nil
	}
	leader := mg.parts.LeaderOf(p)
	body, err := json.Marshal(r)
	if err != nil {
		return part.Loss{}, err
	}
	out, err := mg.parts.Call(ctx, leader, "segments", append(part.KeyBytes(p.Key()), body...))
	if err != nil {
		return part.Loss{}, err
	}
	var l part.Loss
	return l, json.Unmarshal(out, &l)
}

// queueEffects says what a change of a queue's settings means.
func queueEffects(old, changed *catalog.Channel) (effects []string) {
	was, is := old.Queue.Settings, changed.Queue.Settings
	if is.Attempts < was.Attempts {
		effects = append(effects, fmt.Sprintf("messages become dead letters after %s instead of %d; those that had more become so when their next one fails", words.Many(is.Attempts, "attempt"), was.Attempts))
	}
	if is.RetainDead < was.RetainDead {
		effects = append(effects, fmt.Sprintf("dead letters older than %s go at once; they cannot be brought back", address.FormatDuration(queues.Duration(is.RetainDead))))
	}
	if is.WayBack < was.WayBack {
		effects = append(effects, fmt.Sprintf("what was discarded more than %s ago goes at once", address.FormatDuration(queues.Duration(is.WayBack))))
	}
	if is.Expire != was.Expire && is.Expire > 0 {
		what := "become dead letters"
		if is.DropExpired {
			what = "are dropped"
		}
		effects = append(effects, fmt.Sprintf("messages that have waited longer than %s %s", address.FormatDuration(queues.Duration(is.Expire)), what))
	}
	return effects
}
