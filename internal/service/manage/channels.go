package manage

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/address"
	"steadyferry/internal/core/declare"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/logbook"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/change"
	"steadyferry/internal/service/cluster"
	"steadyferry/internal/service/queues"
)

// NewChannel makes a topic or a queue with the settings, or the defaults for
// those that are nil.
func (mg *Manage) NewChannel(ctx context.Context, who, kind string, a address.Address, settings setting.Change) (*part.Channel, error) {
	if err := access.Check(ctx, access.New, a.String()); err != nil {
		return nil, err
	}
	if err := setting.Channels.Fits(settings, kind, a.String()); err != nil {
		return nil, err
	}
	space, err := mg.parts.Space(a.Space)
	if err != nil {
		var p *problem.Problem
		if errors.As(err, &p) {
			p.Then = fmt.Sprintf("make it first with: ferry new space %s", a.Space)
		}
		return nil, err
	}
	ch := mg.newChannel(kind, a, settings)
	ch.SpaceID = space.ID
	placed, err := mg.cluster.Choose(a.String(), ch.Partitions, ch.Replicas)
	if err != nil {
		return nil, err
	}
	err = mg.catalog.NewChannel(ctx, ch, placed, &catalog.Entry{Who: who, Action: "new " + kind, Address: a.String(), After: shown(ch)})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is set", a)
	}
	if err != nil {
		return nil, part.Explain(err, a.String())
	}
	t, err := mg.parts.Channel(a)
	if err == nil {
		ctx, cancel := context.WithTimeout(ctx, part.ReadyTime)
		defer cancel()
		mg.parts.WaitReady(ctx, t)
	}
	return t, err
}

// newChannel is a channel with the settings, and the defaults for those that are
// nil.
func (mg *Manage) newChannel(kind string, a address.Address, settings setting.Change) *catalog.Channel {
	ch := &catalog.Channel{Space: a.Space, Name: a.Channel, Kind: kind}
	if kind == catalog.KindQueue {
		queues.SetDefaults(&ch.Channel)
	} else {
		setting.Channels.SetDefaults(&ch.Channel, kind)
	}
	ch.Replicas = placement.DefaultReplicas(mg.cluster.Usable())
	setting.Channels.Apply(&ch.Channel, settings)
	return ch
}

// CheckNew says why a channel with the settings could not be made here: too few
// nodes for its replicas.
func (mg *Manage) CheckNew(kind string, a address.Address, settings map[string]any) error {
	change, err := declare.Named(kind).Change(settings, nil)
	if err != nil {
		return err
	}
	ch := mg.newChannel(kind, a, change)
	_, err = mg.cluster.Choose(a.String(), ch.Partitions, ch.Replicas)
	return err
}

// shown is how the logbook shows a channel's settings.
func shown(ch *catalog.Channel) map[string]any { return setting.Channels.Show(&ch.Channel, ch.Kind) }

// SetChannel changes a channel's settings, or with preview only says what that
// would do. When others change the same channel at the same time, the change is
// made again from theirs, unless it names the revision that it is made from.
func (mg *Manage) SetChannel(ctx context.Context, who string, a address.Address, settings setting.Change, revision *int64, preview bool) (*form.Preview, error) {
	if err := settings.Check(ctx, access.SetUp, a.String()); err != nil {
		return nil, err
	}
	var p *form.Preview
	err := change.UntilFresh(ctx, mg.catalog, a.String(), func() (err error) {
		p, err = mg.setChannel(ctx, who, a, settings, revision, preview)
		return err
	})
	return p, err
}

func (mg *Manage) setChannel(ctx context.Context, who string, a address.Address, settings setting.Change, revision *int64, preview bool) (*form.Preview, error) {
	t, err := mg.parts.Channel(a)
	if err != nil {
		return nil, err
	}
	old := t.Record()
	if revision != nil && *revision != old.Revision {
		return nil, mg.changedSince(ctx, a, old, *revision)
	}
	changed := *old
	setting.Channels.Apply(&changed.Channel, settings)
	if err := errors.Join(setting.Channels.Fits(settings, old.Kind, a.String()), setting.Channels.Refuse(&old.Channel, &changed.Channel, old.Kind, a.String())); err != nil {
		return nil, err
	}
	p, err := mg.previewSet(ctx, t, old, &changed)
	if err != nil {
		return nil, err
	}
	placed, err := mg.cluster.Choose(a.String(), changed.Partitions-old.Partitions, changed.Replicas)
	var job *catalog.Job
	var also catalog.In
	if err == nil && changed.Replicas != old.Replicas {
		job, also, err = mg.moves.Replicas(ctx, who, t, changed.Replicas)
	}
	if err != nil {
		return nil, cluster.TooFew(err, a.String())
	}
	if preview {
		return p, nil
	}
	err = mg.catalog.SetChannel(ctx, &changed, old.Partitions, placed, also, &catalog.Entry{Who: who, Action: "set " + old.Kind, Address: a.String(), Before: p.Before, After: p.After})
	if job != nil {
		p.Job = job.ID
	}
	return p, mg.moves.Explain(ctx, err)
}

// changedSince says what has changed in a channel since a revision.
func (mg *Manage) changedSince(ctx context.Context, a address.Address, ch *catalog.Channel, revision int64) error {
	p := problem.New(problem.Conflict, "%s is at revision %d, and the change was made from revision %d", a, ch.Revision, revision).Field("revision").Next("look at it again: ferry show %s", a)
	changes, err := logbook.ChangesOf(ctx, mg.catalog, a.String(), int(min(max(ch.Revision-revision, 0), 5)))
	if err != nil {
		return p
	}
	for _, c := range changes {
		p.Detail += fmt.Sprintf("; %s by %s: %s", c.Action, c.Who, c.After)
	}
	return p
}

// RemoveChannel takes a channel out of use, or with preview only says what that
// would do. It can be brought back for a while.
func (mg *Manage) RemoveChannel(ctx context.Context, who string, a address.Address, preview bool) (*form.Preview, error) {
	if err := access.Check(ctx, access.Remove, a.String()); err != nil {
		return nil, err
	}
	t, err := mg.parts.Channel(a)
	if err != nil {
		return nil, err
	}
	if err := change.NoRoutesTo(ctx, mg.catalog, t.ID, a); err != nil {
		return nil, err
	}
	status, _ := mg.parts.Status(t, time.Now())
	until := time.Now().Add(mg.keepRemoved).UTC().Truncate(time.Second)
	p := &form.Preview{Address: a.String(), Messages: status.Messages, Bytes: status.Bytes, Until: &until}
	if t.IsQueue() {
		c := mg.queues.Counts(t)
		p.Messages = c.Kept()
	}
	p.Effects = []string{fmt.Sprintf("%s (%s) in %s can be reached no more; ferry remove %s -undo brings all back until %s, then it is deleted",
		words.Many(p.Messages, "message"), address.FormatSize(status.Bytes), words.Many(t.Record().Partitions, "partition"), a, until.Format(time.RFC3339))}
	if status.Rates.MessagesIn > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("it is in use: %s a second now", words.Many(int64(math.Ceil(status.Rates.MessagesIn)), "message comes in", "messages come in")))
	}
	if preview {
		return p, nil
	}
	err = mg.catalog.MarkRemoved(ctx, t.ID, false, &catalog.Entry{Who: who, Action: "remove " + t.Record().Kind, Address: a.String(), Before: shown(t.Record())})
	return p, part.Explain(err, a.String())
}

// RestoreChannel brings back the channel that was removed last under the address.
func (mg *Manage) RestoreChannel(ctx context.Context, who string, a address.Address) error {
	if err := access.Check(ctx, access.Undo, a.String()); err != nil {
		return err
	}
	view := mg.catalog.View()
	if view.Channels[a.String()] != nil {
		return problem.New(problem.Conflict, "%s exists: the name was used again after the removal", a).Next("remove or keep the new one; both cannot have the name")
	}
	var latest *catalog.Channel
	for _, ch := range view.Removed {
		if ch.Address() == a.String() && (latest == nil || ch.RemovedAt.Time.After(latest.RemovedAt.Time)) {
			latest = ch
		}
	}
	if latest == nil {
		return problem.New(problem.NotFound, "no removed channel %s is kept", a).Next("removed channels are kept for %s", address.FormatDuration(mg.keepRemoved))
	}
	err := mg.catalog.MarkRemoved(ctx, latest.ID, true, &catalog.Entry{Who: who, Action: "restore " + latest.Kind, Address: a.String(), After: shown(latest)})
	return part.Explain(err, a.String())
}

// Forecast tells how much the topic will hold at today's rate: that of the
// last hour, or of the time since the node started.
func (mg *Manage) Forecast(ctx context.Context, t *part.Channel, now time.Time) topic.Forecast {
	span := min(time.Hour, max(now.Sub(mg.parts.Started()), time.Minute))
	series, _ := mg.parts.Series(ctx, t, now, span, part.AnyPartition)
	var bytes, messages int64
	for _, s := range series {
		bytes += s.BytesIn
		messages += s.MessagesIn
	}
	return t.Retention().Predict(float64(bytes)/span.Seconds(), float64(messages)/span.Seconds(), t.Record().Partitions, 1)
}
