package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/edit"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/job"
	"steadyferry/internal/core/queue"
	"steadyferry/internal/door/gate"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/service/replays"
)

// defaultStopAbove is the share of failures at which a replay stops by itself.
const defaultStopAbove = 0.2

// defaultReplayRate is used for dry runs that name no rate.
const defaultReplayRate = 200

func (s *Server) specOf(in *form.NewReplay) (spec replays.Spec, err error) {
	spec = replays.Spec{From: in.From, To: in.To, FromPosition: in.FromPosition, ToPosition: in.ToPosition, Where: in.Where, Limit: in.Limit, Edits: in.Edits, StopAbove: defaultStopAbove, Keep: in.Keep}
	if in.StopAbove != nil {
		spec.StopAbove = *in.StopAbove
	}
	if in.Limit < 0 {
		return spec, gate.Invalid("limit", fmt.Sprintf("limit is %d", in.Limit), "1 or more; 0 for all")
	}
	if spec.Cause, err = queue.ParseCause(in.Cause); err != nil {
		return spec, err
	}
	if len(in.Messages) > 0 {
		source, err := s.Node.Traces.ReplaySource(in.From)
		if err != nil {
			return spec, err
		}
		for _, text := range in.Messages {
			place, err := parsePlace(source, text)
			if err != nil {
				return spec, err
			}
			spec.Messages = append(spec.Messages, place)
		}
	}
	return spec, nil
}

func (s *Server) newReplay(c *gin.Context) {
	var in form.NewReplay
	if !gate.ReadJSON(c, &in) {
		return
	}
	spec, err := s.specOf(&in)
	if gate.Refuse(c, err) {
		return
	}
	if gate.BoolQuery(c, "preview") {
		plan, err := s.Node.Replays.Plan(c, &spec)
		if !gate.Refuse(c, err) {
			c.JSON(http.StatusOK, planJSON(&in, plan))
		}
		return
	}
	r, err := s.Node.Replays.New(c, gate.Who(c), spec, in.Rate)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusCreated, replayJSON(c, r))
	}
}

func planJSON(in *form.NewReplay, plan *replays.Plan) form.Replay {
	rate := in.Rate
	if rate <= 0 {
		rate = defaultReplayRate
	}
	p := &form.ReplayPlan{Messages: plan.Messages, Partitions: []form.ReplayPart{}, Seconds: float64(plan.Messages) / rate, Samples: []form.ActionSample{}, Effects: plan.Effects}
	for number, n := range plan.By {
		p.Partitions = append(p.Partitions, form.ReplayPart{Partition: number, Messages: n})
	}
	slices.SortFunc(p.Partitions, func(a, b form.ReplayPart) int { return a.Partition - b.Partition })
	if plan.Messages > 0 {
		p.Oldest, p.Newest = &plan.Oldest, &plan.Newest
	}
	for _, sample := range plan.Samples {
		p.Samples = append(p.Samples, sampleJSON(plan.Source, sample.Item.Message, sample.After))
	}
	return form.Replay{From: in.From, To: in.To, State: "planned", Rate: rate, Total: plan.Messages, Choice: in.Choice, Edits: orNoEdits(in.Edits), FromPosition: in.FromPosition, ToPosition: in.ToPosition, CreatedAt: time.Now().UTC(), Plan: p}
}

func orNoEdits(edits []edit.Edit) []form.Edit {
	if edits == nil {
		return []form.Edit{}
	}
	return edits
}

func replayJSON(ctx context.Context, r *catalog.Job) form.Replay {
	var spec replays.Spec
	var progress struct {
		Skipped int64 `json:"skipped"`
	}
	// What this service wrote.
	_ = json.Unmarshal(r.Spec, &spec)
	_ = json.Unmarshal(r.Progress, &progress)
	out := form.Replay{Replay: r.ID, Who: r.Who, From: r.Address, To: spec.To, State: string(r.State), Detail: r.Detail, Rate: r.Rate, Total: r.Total, Sent: r.Done, Failed: r.Failed, Skipped: progress.Skipped,
		StopAbove: spec.StopAbove, Choice: form.Choice{Where: spec.Where, Limit: spec.Limit}, Edits: orNoEdits(spec.Edits), FromPosition: spec.FromPosition, ToPosition: spec.ToPosition, CreatedAt: r.CreatedAt.UTC()}
	if !access.Sight(ctx, access.SeeContent, r.Address).Whole() { // what is chosen and changed by contents tells of them
		out.Choice.Where, out.Edits = "", orNoEdits(nil)
	}
	if spec.Cause != 0 {
		out.Choice.Cause = queue.CauseID(spec.Cause)
	}
	if r.EndedAt.Valid {
		at := r.EndedAt.Time.UTC()
		out.EndedAt = &at
	} else if r.State == job.Running {
		left := float64(r.Total-r.Done-progress.Skipped) / r.Rate
		at := time.Now().Add(time.Duration(left * float64(time.Second))).UTC().Truncate(time.Second)
		out.EndsAt = &at
	}
	return out
}

func (s *Server) listReplays(c *gin.Context) {
	limit, ok := gate.IntQuery(c, "limit", 100, 1, gate.MaxPage)
	if !ok {
		return
	}
	all, err := s.Node.Replays.List(c, limit)
	if gate.Refuse(c, err) {
		return
	}
	out := form.Page[form.Replay]{Items: []form.Replay{}}
	for _, r := range all {
		out.Items = append(out.Items, replayJSON(c, r))
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) showReplay(c *gin.Context) {
	id, ok := gate.NumberParam(c, "replay")
	if !ok {
		return
	}
	r, err := s.Node.Replays.Get(c, id)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, replayJSON(c, r))
	}
}

func (s *Server) setReplay(c *gin.Context) {
	id, ok := gate.NumberParam(c, "replay")
	var in form.ReplayChange
	if !ok || !gate.ReadJSON(c, &in) {
		return
	}
	r, err := s.Node.Replays.Set(c, gate.Who(c), id, job.State(in.State), in.Rate)
	if !gate.Refuse(c, err) {
		c.JSON(http.StatusOK, replayJSON(c, r))
	}
}
