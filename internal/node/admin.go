package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/placement"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/topic"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
)

// Settings are what can be set on a topic or a queue; nil leaves a setting as
// it is.
type Settings struct {
	Partitions  *int
	Replicas    *int
	Retain      *time.Duration
	RetainBytes *int64
	MaxBody     *int64
	IDWindow    *time.Duration
	Paused      *bool
	Description *string
	Hold        *[]string
	HoldBytes   *int64
	Queue       QueueChange
	Labels      map[string]string // an empty value takes a label away
	Revision    *int64            // from which the change is made; nil: whichever it is
}

// check says which setting is out of its range.
func (s *Settings) check() error {
	switch {
	case s.Partitions != nil && (*s.Partitions < 1 || *s.Partitions > address.MaxPartitions):
		return problem.New(problem.Invalid, "%d partitions", *s.Partitions).Field("partitions").Allowed(fmt.Sprintf("1 to %d", address.MaxPartitions))
	case s.Replicas != nil && (*s.Replicas < 1 || *s.Replicas > placement.MaxReplicas):
		return problem.New(problem.Invalid, "%d replicas", *s.Replicas).Field("replicas").Allowed(fmt.Sprintf("1 to %d; an odd number is best", placement.MaxReplicas))
	case s.Retain != nil && (*s.Retain < topic.MinRetain || *s.Retain > 36500*24*time.Hour):
		return problem.New(problem.Invalid, "retention of %s", address.FormatDuration(*s.Retain)).Field("retain").Allowed("1m to 36500d")
	case s.RetainBytes != nil && (*s.RetainBytes < topic.MinRetainBytes || *s.RetainBytes > 1<<50):
		return problem.New(problem.Invalid, "retention of %s a partition", address.FormatSize(*s.RetainBytes)).Field("retainBytes").Allowed("1MiB to 1024TiB")
	case s.MaxBody != nil && (*s.MaxBody < 1 || *s.MaxBody > message.MaxBody):
		return problem.New(problem.Invalid, "bodies of up to %s", address.FormatSize(*s.MaxBody)).Field("maxBody").Allowed("1B to 64MiB")
	case s.IDWindow != nil && (*s.IDWindow < 0 || *s.IDWindow > topic.MaxIDWindow):
		return problem.New(problem.Invalid, "a window of %s", address.FormatDuration(*s.IDWindow)).Field("idWindow").Allowed("0s (off) to 1h")
	case s.Hold != nil && len(*s.Hold) > maxHolds:
		return problem.New(problem.Invalid, "%d groups to wait for", len(*s.Hold)).Field("hold").Allowed(fmt.Sprintf("up to %d", maxHolds))
	case s.HoldBytes != nil && (*s.HoldBytes < topic.MinRetainBytes || *s.HoldBytes > 1<<50):
		return problem.New(problem.Invalid, "at most %s a partition for groups", address.FormatSize(*s.HoldBytes)).Field("holdBytes").Allowed("1MiB to 1024TiB")
	}
	return errors.Join(s.Queue.check(), checkText(s.Description, s.Labels))
}

// maxHolds is for how many groups retention can wait.
const maxHolds = 20

func (s *Settings) apply(ch *catalog.Channel) {
	set(&ch.Partitions, s.Partitions)
	set(&ch.Replicas, s.Replicas)
	set(&ch.RetainBytes, s.RetainBytes)
	set(&ch.MaxBody, s.MaxBody)
	set(&ch.Paused, s.Paused)
	set(&ch.Description, s.Description)
	set(&ch.HoldBytes, s.HoldBytes)
	if s.Hold != nil {
		ch.Hold = *s.Hold
		if ch.HoldBytes == 0 {
			ch.HoldBytes = 2 * ch.RetainBytes
		}
	}
	if s.Retain != nil {
		ch.RetainMS = s.Retain.Milliseconds()
	}
	if s.IDWindow != nil {
		ch.IDWindowMS = s.IDWindow.Milliseconds()
	}
	s.Queue.apply(&ch.Queue.Settings)
	ch.Labels = mergeLabels(ch.Labels, s.Labels)
}

// settingsJSON is how the logbook and previews show a topic's settings.
func settingsJSON(ch *catalog.Channel) map[string]any {
	if ch.Kind == catalog.KindQueue {
		return queueSettingsJSON(ch)
	}
	return map[string]any{
		"partitions": ch.Partitions, "replicas": ch.Replicas, "retain": address.FormatDuration(time.Duration(ch.RetainMS) * time.Millisecond),
		"retainBytes": ch.RetainBytes, "maxBody": ch.MaxBody, "idWindow": address.FormatDuration(time.Duration(ch.IDWindowMS) * time.Millisecond),
		"paused": ch.Paused, "description": ch.Description, "labels": ch.Labels, "hold": []string(ch.Hold), "holdBytes": ch.HoldBytes,
	}
}

// NewSpace makes a space.
func (n *Node) NewSpace(ctx context.Context, who, name, description string, labels map[string]string) error {
	if err := address.CheckName(name); err != nil {
		return problem.New(problem.Invalid, "the space: %v", err).Field("address").Allowed("names of 1 to 100 of a-z 0-9 . _ - that start with a letter or a digit")
	}
	if err := checkText(&description, labels); err != nil {
		return err
	}
	s := &catalog.Space{Name: name, Description: description, Labels: mergeLabels(nil, labels)}
	err := n.catalog.NewSpace(ctx, s, &catalog.Entry{Who: who, Action: "new space", Address: name, After: map[string]any{"description": description, "labels": s.Labels}})
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "space %s exists already", name).Field("address")
	}
	return explain(err, name)
}

// SetSpace changes a space.
func (n *Node) SetSpace(ctx context.Context, who, name string, description *string, labels map[string]string) error {
	if err := checkText(description, labels); err != nil {
		return err
	}
	return untilFresh(ctx, n.catalog, name, func() error {
		s, err := n.Space(name)
		if err != nil {
			return err
		}
		changed := *s
		set(&changed.Description, description)
		changed.Labels = mergeLabels(s.Labels, labels)
		return n.catalog.SetSpace(ctx, s, &changed, &catalog.Entry{Who: who, Action: "set space", Address: name,
			Before: map[string]any{"description": s.Description, "labels": s.Labels}, After: map[string]any{"description": changed.Description, "labels": changed.Labels}})
	})
}

// RemoveSpace deletes a space without channels.
func (n *Node) RemoveSpace(ctx context.Context, who, name string) error {
	s, err := n.Space(name)
	if err != nil {
		return err
	}
	if channels := n.channelsOf(name); len(channels) > 0 {
		return problem.New(problem.Conflict, "space %s still has %s, the first is %s", name, words.Many(len(channels), "channel"), channels[0]).Next("remove its channels first")
	}
	for _, ch := range n.catalog.View().Removed {
		if ch.SpaceID == s.ID {
			if err := n.catalog.Forget(ctx, ch.ID, time.Now().Add(time.Minute)); err != nil {
				return explain(err, name)
			}
		}
	}
	err = n.catalog.RemoveSpace(ctx, s.ID, &catalog.Entry{Who: who, Action: "remove space", Address: name, Before: map[string]any{"description": s.Description, "labels": s.Labels}})
	if errors.Is(err, catalog.ErrExists) {
		return problem.New(problem.Conflict, "space %s got a channel meanwhile", name)
	}
	return explain(err, name)
}

func (n *Node) channelsOf(space string) []string {
	var names []string
	for name, ch := range n.catalog.View().Channels {
		if ch.Space == space {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// NewChannel makes a topic or a queue with the settings, or the defaults for
// those that are nil.
func (n *Node) NewChannel(ctx context.Context, who, kind string, a address.Address, s Settings) (*Topic, error) {
	if err := errors.Join(s.check(), s.fits(kind, a.String())); err != nil {
		return nil, err
	}
	space, err := n.Space(a.Space)
	if err != nil {
		var p *problem.Problem
		if errors.As(err, &p) {
			p.Then = fmt.Sprintf("make it first with: ferry new space %s", a.Space)
		}
		return nil, err
	}
	ch := &catalog.Channel{SpaceID: space.ID, Space: a.Space, Name: a.Channel, Kind: kind, Partitions: 1,
		RetainMS: topic.DefaultRetain.Milliseconds(), RetainBytes: topic.DefaultRetainBytes, MaxBody: topic.DefaultMaxBody}
	ch.Replicas = placement.DefaultReplicas(n.usable())
	if kind == catalog.KindQueue {
		ch.Queue.Settings = defaultQueue
		ch.RetainMS, ch.RetainBytes = queueRetain.Age.Milliseconds(), queueRetain.Bytes
	}
	s.apply(ch)
	nodes, existing := n.placement()
	placed, err := placement.Choose(nodes, existing, ch.Partitions, ch.Replicas)
	if err != nil {
		return nil, tooFew(err, a.String())
	}
	err = n.catalog.NewChannel(ctx, ch, placed, &catalog.Entry{Who: who, Action: "new " + kind, Address: a.String(), After: settingsJSON(ch)})
	if errors.Is(err, catalog.ErrExists) {
		return nil, problem.New(problem.Conflict, "%s exists already", a).Field("address").Next("ferry show %s tells how it is set", a)
	}
	if err != nil {
		return nil, explain(err, a.String())
	}
	t, err := n.Topic(a)
	if err == nil {
		ctx, cancel := context.WithTimeout(ctx, readyTime)
		defer cancel()
		n.WaitReady(ctx, t)
	}
	return t, err
}

// readyTime is how long making a topic waits for its partitions to take
// messages.
const readyTime = 3 * time.Second

// SetTopic changes a topic's settings, or with preview only says what that
// would do. When others change the same topic at the same time, the change is
// made again from theirs, unless it names the revision that it is made from.
func (n *Node) SetTopic(ctx context.Context, who string, a address.Address, s Settings, preview bool) (*Preview, error) {
	if err := s.check(); err != nil {
		return nil, err
	}
	var p *Preview
	err := untilFresh(ctx, n.catalog, a.String(), func() (err error) {
		p, err = n.setTopic(ctx, who, a, &s, preview)
		return err
	})
	return p, err
}

func (n *Node) setTopic(ctx context.Context, who string, a address.Address, s *Settings, preview bool) (*Preview, error) {
	t, err := n.Topic(a)
	if err != nil {
		return nil, err
	}
	old := t.Channel()
	if s.Revision != nil && *s.Revision != old.Revision {
		return nil, n.changedSince(ctx, a, old, *s.Revision)
	}
	if err := s.fits(old.Kind, a.String()); err != nil {
		return nil, err
	}
	if s.Queue.ByKey != nil && *s.Queue.ByKey != old.Queue.ByKey {
		return nil, problem.New(problem.Conflict, "the order of %s cannot be changed: messages are under way in it", a).Field("order").Next("make another queue and replay to it")
	}
	if s.Partitions != nil && *s.Partitions < old.Partitions {
		return nil, problem.New(problem.Conflict, "%s has %s, and they cannot become fewer", a, words.Many(old.Partitions, "partition")).Field("partitions").Allowed(fmt.Sprintf("%d to %d", old.Partitions, address.MaxPartitions))
	}
	changed := *old
	s.apply(&changed)
	p, err := n.previewSet(ctx, t, old, &changed)
	if err != nil {
		return nil, err
	}
	nodes, existing := n.placement()
	placed, err := placement.Choose(nodes, existing, changed.Partitions-old.Partitions, changed.Replicas)
	var job *catalog.Job
	if err == nil && changed.Replicas != old.Replicas {
		job, err = n.replicasJob(ctx, who, t, changed.Replicas, preview)
	}
	if err != nil {
		return nil, tooFew(err, a.String())
	}
	if preview {
		return p, nil
	}
	err = n.catalog.SetChannel(ctx, &changed, old.Partitions, placed, job, &catalog.Entry{Who: who, Action: "set " + old.Kind, Address: a.String(), Before: p.Before, After: p.After})
	if job != nil {
		p.Job = job.ID
	}
	return p, err
}

// changedSince says what has changed in a channel since a revision.
func (n *Node) changedSince(ctx context.Context, a address.Address, ch *catalog.Channel, revision int64) error {
	p := problem.New(problem.Conflict, "%s is at revision %d, and the change was made from revision %d", a, ch.Revision, revision).Field("revision").Next("look at it again: ferry show %s", a)
	changes, err := n.catalog.ChangesOf(ctx, a.String(), int(min(max(ch.Revision-revision, 0), 5)))
	if err != nil {
		return p
	}
	for _, c := range changes {
		p.Detail += fmt.Sprintf("; %s by %s: %s", c.Action, c.Who, c.After)
	}
	return p
}

func (n *Node) previewSet(ctx context.Context, t *Topic, old, changed *catalog.Channel) (*Preview, error) {
	p := &Preview{Address: old.Address(), Effects: []string{}, Before: map[string]any{}, After: map[string]any{}}
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
			loss, err := n.wouldDrop(ctx, part, retention)
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
	if effect := holdEffect(n.catalog.View().Groups[t.ID], old, changed); effect != "" {
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
		effects = append(effects, fmt.Sprintf("%s; %s may be lost from then on without an end to writing", words.Many(old.Replicas-replicas, "replica of each partition goes", "replicas of each partition go"), nodesText((replicas-1)/2)))
	}
	return append(effects, evenEffect(replicas)...)
}

// evenEffect explains an even number of replicas.
func evenEffect(replicas int) []string {
	switch {
	case replicas == 2:
		return []string{"2 replicas keep two copies, but both are needed for writing: the loss of either node ends it. 3 go on with one node lost"}
	case replicas%2 == 0:
		return []string{fmt.Sprintf("%s go on after the loss of %s, as %d do: the last one adds a copy, and work", words.Many(replicas, "replica"), nodesText((replicas-1)/2), replicas-1)}
	}
	return nil
}

func nodesText(n int) string {
	if n == 0 {
		return "no node"
	}
	return words.Many(n, "node")
}

// loss is what retention would take from a partition.
type loss struct {
	Messages int64 `json:"messages"`
	Bytes    int64 `json:"bytes"`
}

// wouldDrop tells what a retention would take at once, from the replica here
// or that of another node.
func (n *Node) wouldDrop(ctx context.Context, p *Partition, r topic.Retention) (loss, error) {
	if g := p.Replica(); g != nil {
		return lossOf(g.Journal(), r), nil
	}
	leader := n.leaderOf(p)
	body, err := json.Marshal(r)
	if err != nil {
		return loss{}, err
	}
	out, err := n.call(ctx, leader, "segments", append(keyBytes(p.key()), body...))
	if err != nil {
		return loss{}, err
	}
	var l loss
	return l, json.Unmarshal(out, &l)
}

func lossOf(j *journal.Journal, r topic.Retention) (l loss) {
	infos := j.SegmentInfos()
	drop := r.Drop(infos, time.Now().UnixMicro())
	for _, info := range infos[:drop] {
		l.Bytes += info.Bytes
	}
	l.Messages = j.SegmentStart(drop) - j.Bounds().First
	return l
}

// RemoveTopic takes a topic out of use, or with preview only says what that
// would do. It can be brought back for a while.
func (n *Node) RemoveTopic(ctx context.Context, who string, a address.Address, preview bool) (*Preview, error) {
	t, err := n.Topic(a)
	if err != nil {
		return nil, err
	}
	status, _ := n.Status(t, time.Now())
	until := time.Now().Add(n.keepRemoved).UTC().Truncate(time.Second)
	p := &Preview{Address: a.String(), Messages: status.Messages, Bytes: status.Bytes, Until: &until}
	if t.IsQueue() {
		c := n.QueueCounts(t)
		p.Messages = c.Waiting + c.Leased + c.Delayed + c.Dead
	}
	p.Effects = []string{fmt.Sprintf("%s (%s) in %s can be reached no more; ferry remove %s -undo brings all back until %s, then it is deleted",
		words.Many(p.Messages, "message"), address.FormatSize(status.Bytes), words.Many(t.Channel().Partitions, "partition"), a, until.Format(time.RFC3339))}
	if status.Rates.MessagesIn > 0 {
		p.Effects = append(p.Effects, fmt.Sprintf("it is in use: %.0f messages/s come in now", status.Rates.MessagesIn))
	}
	if preview {
		return p, nil
	}
	err = n.catalog.MarkRemoved(ctx, t.ID, false, &catalog.Entry{Who: who, Action: "remove " + t.Channel().Kind, Address: a.String(), Before: settingsJSON(t.Channel())})
	return p, explain(err, a.String())
}

// RestoreTopic brings back the topic that was removed last under the address.
func (n *Node) RestoreTopic(ctx context.Context, who string, a address.Address) error {
	view := n.catalog.View()
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
		return problem.New(problem.NotFound, "no removed channel %s is kept", a).Next("removed channels are kept for %s", address.FormatDuration(n.keepRemoved))
	}
	err := n.catalog.MarkRemoved(ctx, latest.ID, true, &catalog.Entry{Who: who, Action: "restore " + latest.Kind, Address: a.String(), After: settingsJSON(latest)})
	return explain(err, a.String())
}

// Forecast tells how much the topic will hold at today's rate: that of the
// last hour, or of the time since the node started.
func (n *Node) Forecast(ctx context.Context, t *Topic, now time.Time) topic.Forecast {
	span := min(time.Hour, max(now.Sub(n.started), time.Minute))
	series, _ := n.Series(ctx, t, now, span, AnyPartition)
	var bytes, messages int64
	for _, s := range series {
		bytes += s.BytesIn
		messages += s.MessagesIn
	}
	return t.retention().Predict(float64(bytes)/span.Seconds(), float64(messages)/span.Seconds(), t.Channel().Partitions, 1)
}
