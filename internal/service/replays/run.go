package replays

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"steadyferry/internal/core/clock"
	"steadyferry/internal/core/journal"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/core/replay"
	"steadyferry/internal/core/words"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/service/queues"
)

// replayProgress is how far a replay is. Step is what is under way: it is
// recorded before anything of it is sent, so that a node that takes over sends
// the same messages under the same sequences, and each is kept once.
type replayProgress struct {
	Next    map[int]int64    `json:"next"`    // of each partition of the source: the offset to go on from
	Batches map[string]int64 `json:"batches"` // that were sent, by source and target partition
	Ended   map[int]bool     `json:"ended"`
	Skipped int64            `json:"skipped"`
	Step    *replayStep      `json:"step,omitempty"`
}

type replayStep struct {
	Partition int     `json:"partition"`
	Offsets   []int64 `json:"offsets"`
	Next      int64   `json:"next"` // -1: the partition has no more

	// To is which of the messages go to which partition of the target: it is
	// recorded before they go, so that it does not change when they go again.
	To map[int][]int64 `json:"to,omitempty"`
}

// replays are the runs of this node while it is on duty.
type runs struct {
	mu      sync.Mutex
	running map[int64]context.CancelFunc
}

// Run sees that every replay that has not ended runs here, until ctx
// ends. One node of the cluster does it at a time.
func (rs *Replays) Run(ctx context.Context) {
	r := &runs{running: map[int64]context.CancelFunc{}}
	var wg sync.WaitGroup
	defer wg.Wait()
	ticker := time.NewTicker(300 * time.Millisecond)
	defer ticker.Stop()
	version := int64(-1)
	for {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		// New ones come with a new version of the records.
		now := rs.catalog.View().Version
		if now == version {
			continue
		}
		open, err := rs.catalog.Replays(ctx, true, MaxOpen)
		if err != nil {
			continue
		}
		version = now
		for _, record := range open {
			r.mu.Lock()
			if r.running[record.ID] == nil {
				run, cancel := context.WithCancel(ctx)
				r.running[record.ID] = cancel
				wg.Go(func() {
					rs.runReplay(run, record.ID)
					r.mu.Lock()
					delete(r.running, record.ID)
					r.mu.Unlock()
					cancel()
				})
			}
			r.mu.Unlock()
		}
	}
}

// replayRun is one run of a replay.
type replayRun struct {
	rs       *Replays
	record   *catalog.Replay
	spec     Spec
	progress replayProgress
	ends     *replayEnds
	pace     replay.Pace
	sources  []int
	turn     int
	name     string // under which it appears in histories
	judged   time.Time
}

// runReplay runs a replay until it has ended or ctx does.
func (rs *Replays) runReplay(ctx context.Context, id int64) {
	r := &replayRun{rs: rs, name: fmt.Sprintf("replay %d", id)}
	for ctx.Err() == nil {
		err := r.step(ctx, id)
		switch {
		case errors.Is(err, errReplayEnded):
			return
		case err == nil:
		case ctx.Err() != nil, errors.Is(err, catalog.ErrFenced):
			return // another node goes on with it
		case isPassing(err):
			slog.Debug("a replay waits", "replay", id, "error", err)
			r.record = nil // read it anew
			clock.Wait(ctx, time.Second)
			continue
		default:
			r.end(ctx, catalog.ReplayFailed, err.Error())
			return
		}
		clock.Wait(ctx, replay.Step)
	}
}

// isPassing reports whether an error may be gone in a while.
func isPassing(err error) bool {
	var p *problem.Problem
	if errors.As(err, &p) {
		return p.Kind == problem.Unavailable || p.Kind == problem.NoMajority || p.Kind == problem.RecordsAway || p.Kind == problem.DiskFull || p.Kind == problem.Paused
	}
	return errors.Is(err, catalog.ErrAway) || errors.Is(err, context.DeadlineExceeded)
}

var errReplayEnded = errors.New("the replay has ended")

func (r *replayRun) load(ctx context.Context, id int64) error {
	read := r.rs.catalog.Replay
	if r.record == nil {
		read = r.rs.catalog.TakeReplay
	}
	record, err := read(ctx, id)
	if err != nil {
		return err
	}
	if r.record != nil && record.Fence != r.record.Fence {
		return catalog.ErrFenced
	}
	if record.State != catalog.ReplayRunning && record.State != catalog.ReplayPaused {
		return errReplayEnded
	}
	if r.record != nil {
		r.record.State, r.record.Rate = record.State, record.Rate
		return nil
	}
	r.record, r.progress = record, replayProgress{}
	if err := errors.Join(json.Unmarshal(record.Spec, &r.spec), json.Unmarshal(record.Progress, &r.progress)); err != nil {
		return err
	}
	if r.progress.Next == nil {
		r.progress = replayProgress{Next: map[int]int64{}, Ended: map[int]bool{}}
	}
	if r.progress.Batches == nil {
		r.progress.Batches = map[string]int64{}
	}
	if r.ends, err = r.rs.ends(ctx, record.Who, &r.spec, true); err != nil {
		return err
	}
	r.sources = nil
	if r.ends.dead {
		for _, p := range r.ends.source.Partitions() {
			r.sources = append(r.sources, p.Number)
		}
	} else {
		r.sources = slices.Sorted(maps.Keys(r.spec.Spans))
	}
	if r.progress.Step != nil {
		// The node that ran it stopped in the middle: what it had begun is
		// done again, and kept once.
		return r.finishStep(ctx)
	}
	return nil
}

// step sends what is due.
func (r *replayRun) step(ctx context.Context, id int64) error {
	if err := r.load(ctx, id); err != nil {
		return err
	}
	if r.record.State == catalog.ReplayPaused {
		return nil
	}
	if err := r.judge(ctx); err != nil {
		return err
	}
	due := r.pace.Due(time.Now(), r.record.Rate)
	if r.spec.Limit > 0 {
		due = min(due, int(r.spec.Limit-r.record.Sent-r.progress.Skipped))
	}
	for due > 0 {
		step, err := r.choose(ctx, due)
		if err != nil {
			return err
		}
		if step == nil {
			break
		}
		r.progress.Step = step
		if len(step.Offsets) > 0 && r.ends.inPlace {
			if err := r.save(ctx); err != nil {
				return err
			}
		}
		if err := r.finishStep(ctx); err != nil {
			return err
		}
		due -= len(step.Offsets)
	}
	r.pace.Unused(max(due, 0))
	if r.allEnded() || r.spec.Limit > 0 && r.record.Sent+r.progress.Skipped >= r.spec.Limit {
		r.judge(ctx)
		r.end(ctx, catalog.ReplayDone, "")
		return errReplayEnded
	}
	return nil
}

func (r *replayRun) allEnded() bool {
	for _, number := range r.sources {
		if !r.progress.Ended[number] {
			return false
		}
	}
	return true
}

func (r *replayRun) save(ctx context.Context) error {
	var err error
	if r.record.Progress, err = json.Marshal(r.progress); err != nil {
		return err
	}
	return part.Explain(r.rs.catalog.ReplayProgress(ctx, r.record), r.spec.From)
}

// end records that the replay has ended; while the records are away it tries
// for as long as the node is on duty.
func (r *replayRun) end(ctx context.Context, state, detail string) {
	if r.record == nil {
		slog.Warn("a replay cannot be run", "replay", r.name, "error", detail)
		return
	}
	r.record.State, r.record.Detail = state, detail
	for ctx.Err() == nil {
		if err := r.save(ctx); err == nil || errors.Is(err, catalog.ErrFenced) {
			return
		}
		clock.Wait(ctx, time.Second)
	}
}

// choose finds the next messages to send, from each partition of the source in
// turn; nil when there are no more.
func (r *replayRun) choose(ctx context.Context, most int) (*replayStep, error) {
	for range r.sources {
		number := r.sources[r.turn%len(r.sources)]
		r.turn++
		if r.progress.Ended[number] {
			continue
		}
		if r.ends.dead {
			return r.chooseDead(ctx, number, min(most, replay.MaxStep))
		}
		return r.chooseRead(ctx, number, min(most, replay.MaxStep))
	}
	return nil, nil
}

func (r *replayRun) chooseDead(ctx context.Context, number, most int) (*replayStep, error) {
	p, err := r.ends.source.Partition(number)
	if err != nil {
		return nil, err
	}
	ask := &queues.QueueAsk{Kind: "items", States: []queue.State{queue.Dead}, Cause: r.spec.Cause, Where: r.spec.Where, From: r.progress.Next[number], Limit: most, Before: r.spec.Until, Bare: true}
	if len(r.spec.Messages) > 0 {
		var rest []int64
		for _, m := range r.spec.Messages {
			if m.Partition == number && m.Offset >= ask.From {
				rest = append(rest, m.Offset)
			}
		}
		slices.Sort(rest)
		step := &replayStep{Partition: number, Offsets: rest[:min(most, len(rest))], Next: -1}
		if len(rest) > most {
			step.Next = rest[most]
		}
		return step, nil
	}
	a, err := r.rs.queues.AskQueue(ctx, p, ask)
	if err != nil {
		return nil, err
	}
	return &replayStep{Partition: number, Offsets: a.Offsets, Next: a.Next}, nil
}

func (r *replayRun) chooseRead(ctx context.Context, number, most int) (*replayStep, error) {
	span := r.spec.Spans[number]
	from := max(r.progress.Next[number], span[0])
	step := &replayStep{Partition: number, Next: -1}
	bytes := 0
	err := r.read(ctx, number, from, span[1], func(m *message.Stored) bool {
		if len(step.Offsets) == most || bytes > stepBytes {
			step.Next = m.Offset
			return false
		}
		bytes += part.SizeOf(m)
		step.Offsets = append(step.Offsets, m.Offset)
		return true
	})
	return step, err
}

// read goes through messages of a topic that fulfil the condition.
func (r *replayRun) read(ctx context.Context, number int, from, to int64, yield func(*message.Stored) bool) error {
	p, err := r.ends.source.Partition(number)
	if err != nil {
		return err
	}
	l, err := r.rs.parts.OpenLog(ctx, p, false)
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
		more, err := part.EachMessage(ctx, chunk, number, from, r.rs.parts.RoomToDecode, func(m *message.Stored) (bool, error) {
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
func (r *replayRun) finishStep(ctx context.Context) error {
	step := r.progress.Step
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
	r.record.Sent += int64(sent)
	r.progress.Skipped += int64(len(step.Offsets) - sent)
	r.progress.Next[step.Partition] = step.Next
	if step.Next < 0 {
		r.progress.Ended[step.Partition] = true
	}
	r.progress.Step = nil
	return r.save(ctx)
}

// stepBytes is about how much of messages one step sends.
const stepBytes = 8 << 20

// judgeEvery is how often it is looked how many of the messages failed again.
const judgeEvery = time.Second

// judge counts the messages that failed again, and stops the replay when they
// are too many.
func (r *replayRun) judge(ctx context.Context) error {
	if !r.ends.target.IsQueue() || time.Since(r.judged) < judgeEvery {
		return nil
	}
	r.judged = time.Now()
	failed := int64(0)
	for _, p := range r.ends.target.Partitions() {
		ask := &queues.QueueAsk{Kind: "failed", Since: r.record.MadeAt.UnixMicro(), Who: r.name}
		if !r.ends.inPlace {
			ask.Where = fmt.Sprintf("headers[%q] == %q", HeaderReplay, strconv.FormatInt(r.record.ID, 10))
		}
		a, err := r.rs.queues.AskQueue(ctx, p, ask)
		if err != nil {
			return err
		}
		failed += a.Looked
	}
	r.record.Failed = failed
	if r.spec.StopAbove < 1 && replay.TooMany(r.record.Sent, failed, r.spec.StopAbove) {
		r.end(ctx, catalog.ReplayStopped, fmt.Sprintf("%d of the %s sent failed again, more than %.0f%%", failed, words.Many(r.record.Sent, "message"), 100*r.spec.StopAbove))
		return errReplayEnded
	}
	return nil
}
