package groups

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
)

// Settings are what can be set on a group; nil leaves it as it is.
type Settings struct {
	Description *string
	Paused      *bool
	Expire      *time.Duration // without members; 0: never
}

func (s *Settings) check() error {
	if s.Expire != nil && *s.Expire != 0 && (*s.Expire < time.Minute || *s.Expire > 10*365*24*time.Hour) {
		return problem.New(problem.Invalid, "an expiry of %s", address.FormatDuration(*s.Expire)).Field("expire").Allowed("0s (never), 1m to 3650d")
	}
	return change.CheckText(s.Description, nil)
}

func (s *Settings) apply(g *catalog.Group) {
	change.Set(&g.Description, s.Description)
	change.Set(&g.Paused, s.Paused)
	if s.Expire != nil {
		g.ExpireMS = s.Expire.Milliseconds()
	}
}

func groupJSON(g *catalog.Group) map[string]any {
	return map[string]any{"description": g.Description, "paused": g.Paused, "expire": address.FormatDuration(time.Duration(g.ExpireMS) * time.Millisecond)}
}

// New makes a group that begins at a position.
func (gs *Groups) New(ctx context.Context, who string, a address.Address, from address.Position, s Settings) (*catalog.Group, error) {
	t, err := gs.parts.TopicWithGroups(a)
	if err != nil {
		return nil, err
	}
	if err := s.check(); err != nil {
		return nil, err
	}
	if err := address.CheckName(a.Group); err != nil {
		return nil, problem.New(problem.Invalid, "the group: %v", err).Field("group")
	}
	steps, err := gs.stepsTo(ctx, t, nil, from, part.AnyPartition)
	if err != nil {
		return nil, err
	}
	offsets := make([]int64, len(steps))
	for i, step := range steps {
		offsets[i] = step.To
	}
	g := &catalog.Group{ChannelID: t.ID, Name: a.Group}
	s.apply(g)
	after := groupJSON(g)
	after["from"] = from.String()
	err = gs.catalog.NewGroup(ctx, g, offsets, &catalog.Entry{Who: who, Action: "new group", Address: a.String(), After: after})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	_, g, err = gs.parts.Group(a)
	return g, err
}

// Set changes a group.
func (gs *Groups) Set(ctx context.Context, who string, a address.Address, s Settings) error {
	if err := s.check(); err != nil {
		return err
	}
	return change.UntilFresh(ctx, gs.catalog, a.String(), func() error {
		_, g, err := gs.parts.Group(a)
		if err != nil {
			return err
		}
		changed := *g
		s.apply(&changed)
		return gs.catalog.SetGroup(ctx, g, &changed, &catalog.Entry{Who: who, Action: "set group", Address: a.String(), Before: groupJSON(g), After: groupJSON(&changed)})
	})
}

// Remove deletes a group, or with preview only says what that would do.
func (gs *Groups) Remove(ctx context.Context, who string, a address.Address, preview bool) (*change.Preview, error) {
	t, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	lag, err := gs.LagOf(ctx, t, g)
	if err != nil {
		return nil, err
	}
	p := &change.Preview{Address: a.String(), Effects: []string{fmt.Sprintf("its committed offsets in %s and their history are forgotten, and cannot be brought back; no message is lost, and other groups are not touched", words.Many(len(lag.Partitions), "partition"))}}
	if len(lag.Members) > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("it is in use: its %s refused from then on", words.Many(len(lag.Members), "member is", "members are")))
	}
	if lag.Verdict.Messages > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("%s that it has not read will not be read by it", words.Many(lag.Verdict.Messages, "message")))
	}
	for _, name := range t.Record().Hold {
		if name == g.Name {
			p.Effects = append(p.Effects, fmt.Sprintf("retention of %s no longer waits for it", t.Address()))
		}
	}
	if preview {
		return p, nil
	}
	before := groupJSON(g)
	before["offsets"] = lag.offsets()
	return p, part.Explain(gs.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: who, Action: "remove group", Address: a.String(), Before: before}), a.String())
}

// expireGroups removes the groups that had no members for as long as they may.
func (gs *Groups) expireGroups(ctx context.Context) {
	groups, err := gs.catalog.Expired(ctx)
	if err != nil {
		return
	}
	for _, g := range groups {
		t := gs.parts.ByID(g.ChannelID)
		if t == nil {
			continue
		}
		a := part.GroupAddress(t, g.Name)
		err := gs.catalog.RemoveGroup(ctx, g.ID, &catalog.Entry{Who: "ferryd", Action: "expire group", Address: a.String(), Before: groupJSON(&g)})
		if err != nil && ctx.Err() == nil {
			slog.Warn("a group that has expired could not be removed", "group", a.String(), "error", err)
		}
	}
}

// OffsetOf is an offset of a partition.
type OffsetOf struct {
	Partition int   `json:"partition"`
	Offset    int64 `json:"offset"`
}
