package groups

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"steadyferry/internal/core/access"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/engine/catalog"
	"steadyferry/internal/engine/link"
	"steadyferry/internal/engine/part"
	"steadyferry/internal/engine/peer"
)

// groupAsk is what a member asks of the node that coordinates its group.
type groupAsk struct {
	Group      int64           `json:"group"`
	What       string          `json:"what"`
	Member     string          `json:"member"`
	Label      string          `json:"label,omitempty"`
	Timeout    time.Duration   `json:"timeout,omitempty"`
	Round      uint64          `json:"round,omitempty"`
	Paused     bool            `json:"paused,omitempty"` // as far as the member knows
	Holds      []int           `json:"holds,omitempty"`
	Wait       time.Duration   `json:"wait,omitempty"`
	Offsets    []form.OffsetOf `json:"offsets,omitempty"`
	Most       int             `json:"most,omitempty"`
	UpTo       group.UpTo      `json:"upTo,omitempty"` // that of the last answer which the member has
	CommitUpTo bool            `json:"commitUpTo,omitempty"`
	Seek       *SeekAsk        `json:"seek,omitempty"`
}

// groupAnswer is what it answers; Again is set when another node coordinates
// the group.
type groupAnswer struct {
	Again      bool             `json:"again,omitempty"`
	Problem    *problem.Problem `json:"problem,omitempty"`
	Membership *form.Membership `json:"membership,omitempty"`
	Given      *Given           `json:"given,omitempty"`
	Sought     *Sought          `json:"sought,omitempty"`
}

// askTime is how long a member's request looks for the node that coordinates
// its group.
const askTime = 6 * time.Second

// askGroup asks the node that coordinates a group, and looks for it again
// when that has just changed.
func (gs *Groups) askGroup(ctx context.Context, ask *groupAsk) (*groupAnswer, error) {
	deadline := time.Now().Add(askTime + ask.Wait)
	body, err := json.Marshal(ask)
	if err != nil {
		return nil, err
	}
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 200*time.Millisecond) {
		a := &groupAnswer{Again: true}
		if to := gs.coordinatorOf(ask.Group); to == gs.id {
			a = gs.coordinate(ctx, ask)
		} else if out, err := gs.peers.Call(ctx, to, "group", body); err == nil {
			*a = groupAnswer{}
			if err := json.Unmarshal(out, a); err != nil {
				return nil, err
			}
		} else if ask.Seek != nil && ask.Seek.Apply && errors.Is(err, link.ErrAway) {
			return nil, problem.New(problem.Unavailable, "it is not known whether the offsets were moved: %v", err).Next("ferry show GROUP -history tells")
		}
		if a.Problem != nil {
			return nil, a.Problem
		}
		if !a.Again {
			return a, nil
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			return nil, problem.New(problem.Unavailable, "no node coordinates the group now").Next("try again in a moment")
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}
}

// answerGroup answers another node's member.
func (gs *Groups) answerGroup(ctx context.Context, _ uint64, ask *groupAsk) (*groupAnswer, error) {
	if gs.coordinatorOf(ask.Group) != gs.id || !gs.parts.Serving() {
		return &groupAnswer{Again: true}, nil
	}
	// The node that passes it on has asked; this one asks again.
	if err := gs.mayAsk(ctx, ask); err != nil {
		var p *problem.Problem
		if errors.As(err, &p) {
			return &groupAnswer{Problem: p}, nil
		}
		return nil, err
	}
	return gs.coordinate(ctx, ask), nil
}

// verbOf is the verb of what is asked of a group.
var verbOf = map[string]access.Verb{"commit": access.Commit, "seek": access.Seek}

func (gs *Groups) mayAsk(ctx context.Context, ask *groupAsk) error {
	view := gs.catalog.View()
	g := view.GroupIDs[ask.Group]
	if g == nil {
		return nil // that is said by who looks for it
	}
	ch := view.Channel(g.ChannelID)
	if ch == nil {
		return nil
	}
	verb, known := verbOf[ask.What]
	if !known {
		verb = access.Read
	}
	return access.Check(ctx, verb, ch.Reader(g.Name))
}

// coordinate does what a member asks, as the node that coordinates its group.
func (gs *Groups) coordinate(ctx context.Context, ask *groupAsk) *groupAnswer {
	g := gs.catalog.View().GroupIDs[ask.Group]
	if g == nil {
		if err := gs.catalog.Refresh(ctx); err == nil {
			g = gs.catalog.View().GroupIDs[ask.Group]
		}
	}
	if g == nil {
		return &groupAnswer{Problem: problem.New(problem.NotFound, "the group does not exist; it may have been removed")}
	}
	t := gs.parts.ByID(g.ChannelID)
	a := &groupAnswer{}
	c, err := gs.groups.get(ctx, gs, g, false)
	if err == nil {
		err = c.answer(ctx, t, g, ask, a)
		if errors.Is(err, group.ErrOver) && c.inDoubt() {
			if c, err = gs.groups.get(ctx, gs, g, true); err == nil {
				err = c.answer(ctx, t, g, ask, a)
			}
		}
	}
	var known *problem.Problem
	switch {
	case err == nil:
	case errors.Is(err, group.ErrOver):
		a.Again = true
	case errors.As(err, &known):
		a.Problem = known
	default:
		err = memberProblem(err, t, -1)
		if !errors.As(err, &a.Problem) {
			a.Problem = problem.New(problem.Unavailable, "%s: %v", part.GroupAddress(t, g.Name), err).Next("try again in a moment")
		}
	}
	return a
}

// commitTime is how long a commit waits for the database.
const commitTime = 10 * time.Second

func (c *coordinator) answer(ctx context.Context, t *part.Channel, g *catalog.Group, ask *groupAsk, a *groupAnswer) (err error) {
	if t == nil {
		return problem.New(problem.Unavailable, "group %s is being opened", g.Name).Next("try again in a moment")
	}
	switch ask.What {
	case "join":
		a.Membership, err = c.join(ctx, ask)
	case "beat":
		a.Membership, err = c.beat(ctx, ask)
	case "commit":
		ctx, cancel := context.WithTimeout(ctx, commitTime)
		defer cancel()
		err = c.commit(ctx, t, ask.Member, ask.Round, ask.Offsets)
	case "next":
		a.Given, err = c.next(ctx, t, ask)
	case "leave":
		err = c.leave(ctx, ask.Member)
	case "seek":
		a.Sought, err = c.seek(ctx, t, g, ask.Seek)
	default:
		err = fmt.Errorf("%w: %q", peer.ErrCall, ask.What)
	}
	return err
}

// answerGroups has what other nodes ask of groups answered.
func (gs *Groups) answer() { peer.Answer(&gs.parts.Calls, "group", gs.answerGroup) }
