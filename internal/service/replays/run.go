package replays

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/logs"
	"steadyferry/internal/service/jobs"
	"steadyferry/internal/service/queues"
)

// progress is how far a replay is. Step is what is under way: it is
// recorded before anything of it is sent, so that a node that takes over sends
// the same messages under the same sequences, and each is kept once.
type progress struct {
	Next    map[int]int64    `json:"next"`    // of each partition of the source: the offset to go on from
	Batches map[string]int64 `json:"batches"` // that were sent, by source and target partition
	Ended   map[int]bool     `json:"ended"`
	Skipped int64            `json:"skipped"`
	Step    *step            `json:"step,omitempty"`
}

type step struct {
	Partition int     `json:"partition"`
	Offsets   []int64 `json:"offsets"`
	Next      int64   `json:"next"` // -1: the partition has no more

	// To is which of the messages go to which partition of the target: it is
	// recorded before they go, so that it does not change when they go again.
	To map[int][]int64 `json:"to,omitempty"`
}

// run is one run of a replay.
type run struct {
	*jobs.Run[Spec, progress]
	rs      *Replays
	ends    *replayEnds
	sources []int // partitions
	turn    int
}

// open makes a replay ready to go on.
func (rs *Replays) open(ctx context.Context, j *jobs.Run[Spec, progress]) (jobs.Work, error) {
	r := &run{Run: j, rs: rs}
	p := &r.Progress
	if p.Next == nil {
		p.Next, p.Ended = map[int]int64{}, map[int]bool{}
	}
	if p.Batches == nil {
		p.Batches = map[string]int64{}
	}
	var err error
	if r.ends, err = rs.ends(ctx, &r.Spec, true); err != nil {
		return nil, err
	}
	if r.ends.dead {
		for _, p := range r.ends.source.Partitions() {
			r.sources = append(r.sources, p.Number)
		}
	} else {
		r.sources = slices.Sorted(maps.Keys(r.Spec.Spans))
	}
	if p.Step != nil {
		// The node that ran it stopped in the middle: what it had begun is
		// done again, and kept once.
		return r, r.finishStep(ctx)
	}
	return r, nil
}

// Step sends what is due.
func (r *run) Step(ctx context.Context, due int) (used int, done bool, err error) {
	if r.Spec.Limit > 0 {
		due = min(due, int(r.Spec.Limit-r.Job.Done-r.Progress.Skipped))
	}
	for used < due {
		step, err := r.choose(ctx, due-used)
		if err != nil {
			return used, false, err
		}
		if step == nil {
			break
		}
		r.Progress.Step = step
		if len(step.Offsets) > 0 && r.ends.inPlace {
			if err := r.Save(ctx); err != nil {
				return used, false, err
			}
		}
		if err := r.finishStep(ctx); err != nil {
			return used, false, err
		}
		used += len(step.Offsets)
	}
	return used, r.allEnded() || r.Spec.Limit > 0 && r.Job.Done+r.Progress.Skipped >= r.Spec.Limit, nil
}

func (r *run) allEnded() bool {
	for _, number := range r.sources {
		if !r.Progress.Ended[number] {
			return false
		}
	}
	return true
}

// choose finds the next messages to send, from each partition of the source in
// turn; nil when there are no more.
func (r *run) choose(ctx context.Context, most int) (*step, error) {
	for range r.sources {
		number := r.sources[r.turn%len(r.sources)]
		r.turn++
		if r.Progress.Ended[number] {
			continue
		}
		if r.ends.dead {
			return r.chooseDead(ctx, number, min(most, maxStep))
		}
		return r.chooseRead(ctx, number, min(most, maxStep))
	}
	return nil, nil
}

func (r *run) chooseDead(ctx context.Context, number, most int) (*step, error) {
	p, err := r.ends.source.Partition(number)
	if err != nil {
		return nil, err
	}
	ask := &queues.QueueAsk{Kind: "items", States: []queue.State{queue.Dead}, Cause: r.Spec.Cause, Where: r.Spec.Where, From: r.Progress.Next[number], Limit: most, Before: r.Spec.Until, Bare: true}
	if len(r.Spec.Messages) > 0 {
		var rest []int64
		for _, m := range r.Spec.Messages {
			if m.Partition == number && m.Offset >= ask.From {
				rest = append(rest, m.Offset)
			}
		}
		slices.Sort(rest)
		step := &step{Partition: number, Offsets: rest[:min(most, len(rest))], Next: -1}
		if len(rest) > most {
			step.Next = rest[most]
		}
		return step, nil
	}
	a, err := r.rs.queues.AskQueue(ctx, p, ask)
	if err != nil {
		return nil, err
	}
	return &step{Partition: number, Offsets: a.Offsets, Next: a.Next}, nil
}

func (r *run) chooseRead(ctx context.Context, number, most int) (*step, error) {
	span := r.Spec.Spans[number]
	from := max(r.Progress.Next[number], span[0])
	step := &step{Partition: number, Next: -1}
	bytes := 0
	err := r.read(ctx, number, from, span[1], func(m *message.Stored) bool {
		if len(step.Offsets) == most || bytes > stepBytes {
			step.Next = m.Offset
			return false
		}
		bytes += message.SizeOf(m)
		step.Offsets = append(step.Offsets, m.Offset)
		return true
	})
	return step, err
}

// read goes through messages of a topic that fulfil the condition.
func (r *run) read(ctx context.Context, number int, from, to int64, yield func(*message.Stored) bool) error {
	p, err := r.ends.source.Partition(number)
	if err != nil {
		return err
	}
	l, err := logs.Open(ctx, r.rs.parts, p, false)
	if err != nil {
		return err
	}
	reader, matcher := l.Reader(max(from, l.First())), r.ends.where.Matcher(ctx)
	buffer := make([]byte, 256<<10)
	for reader.Offset() < to && ctx.Err() == nil {
		chunk, err := reader.Read(buffer)
		var gone *journal.Gone
		var damage *journal.Damage
		switch {
		case errors.As(err, &gone):
			reader = l.Reader(gone.First)
			continue
		case errors.As(err, &damage):
			continue
		case err != nil:
			return err
		case len(chunk) == 0:
			return nil
		}
		more, err := logs.EachMessage(ctx, chunk, number, from, r.rs.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
			if m.Offset >= to {
				return false, nil
			}
			ok, err := matcher.Match(m)
			return err == nil && (!ok || yield(m)), err
		})
		if err != nil || !more {
			return err
		}
	}
	return ctx.Err()
}

// finishStep sends the messages of the step and records that they are sent.
func (r *run) finishStep(ctx context.Context) error {
	step := r.Progress.Step
	sent, err := 0, error(nil)
	switch {
	case len(step.Offsets) == 0:
	case r.ends.inPlace:
		sent, err = r.returnStep(ctx, step)
	default:
		sent, err = r.sendStep(ctx, step)
	}
	if err != nil {
		return err
	}
	r.Job.Done += int64(sent)
	r.Progress.Skipped += int64(len(step.Offsets) - sent)
	r.Progress.Next[step.Partition] = step.Next
	if step.Next < 0 {
		r.Progress.Ended[step.Partition] = true
	}
	r.Progress.Step = nil
	return r.Save(ctx)
}

// maxStep is how many messages go in one step at most; a rate may take several
// steps at a time.
const maxStep = 5000

// stepBytes is about how much of messages one step sends.
const stepBytes = 8 << 20

// Judge counts the messages that failed again, and stops the replay when they
// are too many.
func (r *run) Judge(ctx context.Context) (stop string, err error) {
	if !r.ends.target.IsQueue() {
		return "", nil
	}
	failed := int64(0)
	for _, p := range r.ends.target.Partitions() {
		ask := &queues.QueueAsk{Kind: "failed", Since: r.Job.CreatedAt.UnixMicro(), Who: r.Name()}
		if !r.ends.inPlace {
			ask.Where = fmt.Sprintf("headers[%q] == %q", form.HeaderReplay, strconv.FormatInt(r.Job.ID, 10))
		}
		a, err := r.rs.queues.AskQueue(ctx, p, ask)
		if err != nil {
			return "", err
		}
		failed += a.Looked
	}
	r.Job.Failed = failed
	if r.Spec.StopAbove < 1 && job.TooMany(r.Job.Done, failed, r.Spec.StopAbove) {
		return fmt.Sprintf("%d of the %s sent failed again, more than %.0f%%", failed, words.Many(r.Job.Done, "message"), 100*r.Spec.StopAbove), nil
	}
	return "", nil
}
