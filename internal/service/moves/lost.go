package moves

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"time"

	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/ledger"
	"steadyferry/internal/service/jobs"
)

// Run has nodes that came back with an empty directory hold what the lost one
// held. One node of the cluster does it at a time.
func (mv *Moves) Run(ctx context.Context) {
	ticker := time.NewTicker(300 * time.Millisecond)
	defer ticker.Stop()
	looked := int64(-1) // the version of the records
	for turn := 0; ; turn++ {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		version := mv.catalog.View().Version
		if turn%10 != 0 && version == looked {
			continue
		}
		looked = version
		if err := mv.replaceLost(ctx); err != nil && ctx.Err() == nil && !errors.Is(err, catalog.ErrAway) {
			slog.Warn("the replicas of a lost directory are not copied yet", "error", err)
		}
	}
}

func (mv *Moves) replaceLost(ctx context.Context) error {
	names := map[string]bool{} // one may have lost several directories
	for _, lost := range mv.catalog.View().Nodes {
		if lost.State == catalog.NodeReplaced {
			names[lost.Name] = true
		}
	}
	for name := range names {
		_, _, err := mv.replace.New(ctx, "ferryd", Spec{Address: name}, 0, false)
		if err != nil && !errors.As(err, new(*ledger.MovingError)) {
			return err
		}
	}
	return nil
}

// planReplace has the node of a name hold what lost ones of the name held.
func (mv *Moves) planReplace(_ context.Context, s *Spec) (*jobs.Plan, error) {
	view := mv.catalog.View()
	now := mv.parts.ByName(s.Address)
	var steps []ledger.Step
	for channel, places := range view.Placed {
		for _, p := range places {
			i := slices.IndexFunc(p.Replicas, func(id uint64) bool {
				lost := view.Nodes[id]
				return lost != nil && lost.State == catalog.NodeReplaced && lost.Name == s.Address
			})
			if i < 0 || now == nil || slices.Contains(p.Replicas, now.ID) {
				continue
			}
			after := slices.Clone(p.Replicas)
			after[i] = now.ID
			steps = append(steps, ledger.Step{ChannelID: channel, Partition: p.Partition, Before: p.Replicas, After: after})
		}
	}
	return withSteps(&jobs.Plan{Idle: len(steps) == 0, Address: s.Address, Detail: "its data directory is new: its replicas are copied from the others",
		Action: "replace node", After: map[string]any{"partitions": len(steps)}}, steps), nil
}
