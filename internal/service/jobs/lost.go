package jobs

import (
	"context"
	"slices"

	"steadyferry/internal/engine/catalog"
)

// replaceLost has nodes that came back with an empty directory hold what the
// lost one held.
func (js *Jobs) replaceLost(ctx context.Context) error {
	view := js.catalog.View()
	jobs := map[uint64]*catalog.Job{}
	for channel, places := range view.Placed {
		for _, p := range places {
			for i, id := range p.Replicas {
				lost := view.Nodes[id]
				if lost == nil || lost.State != catalog.NodeReplaced {
					continue
				}
				now := js.parts.ByName(lost.Name)
				if now == nil || slices.Contains(p.Replicas, now.ID) {
					continue
				}
				if jobs[id] == nil {
					jobs[id] = &catalog.Job{Kind: "replace", Address: lost.Name, Who: "ferryd", Detail: "its data directory is new: its replicas are copied from the others"}
				}
				after := slices.Clone(p.Replicas)
				after[i] = now.ID
				jobs[id].Steps = append(jobs[id].Steps, catalog.Step{ChannelID: channel, Partition: p.Partition, Before: p.Replicas, After: after})
			}
		}
	}
	for _, job := range jobs {
		if js.refuseBusy(ctx, job.Steps) != nil {
			continue // they are being moved already
		}
		if err := js.catalog.NewJob(ctx, job, &catalog.Entry{Who: "ferryd", Action: "replace node", Address: job.Address, After: map[string]any{"partitions": len(job.Steps)}}, nil); err != nil {
			return err
		}
	}
	return nil
}
