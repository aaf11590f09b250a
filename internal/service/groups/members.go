package groups

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"steadyferry/internal/core/address"
	"steadyferry/internal/core/form"
	"steadyferry/internal/core/group"
	"steadyferry/internal/core/message"
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
)

// Join makes a reader a member of a group, and makes the group, at the
// position, if it does not exist and from is given.
func (gs *Groups) Join(ctx context.Context, who string, a address.Address, from *address.Position, session time.Duration, label string) (*form.Membership, error) {
	if session == 0 {
		session = group.DefaultSession
	}
	if session < group.MinSession || session > group.MaxSession {
		return nil, problem.New(problem.Invalid, "a session time of %s", address.FormatDuration(session)).Field("session").Allowed("1s to 10m")
	}
	if len(label) > setting.MaxLabel {
		return nil, problem.New(problem.Invalid, "a label of %d characters", len(label)).Field("label").Allowed(fmt.Sprintf("up to %d", setting.MaxLabel))
	}
	_, g, err := gs.parts.Group(a)
	made := false
	var p *problem.Problem
	if errors.As(err, &p) && p.Kind == problem.NotFound && from != nil {
		if g, err = gs.New(ctx, who, a, *from, nil); err == nil {
			made = true
		} else if errors.As(err, &p) && p.Kind == problem.Conflict { // another member was first
			if err = gs.catalog.CatchUp(ctx); err == nil {
				_, g, err = gs.parts.Group(a)
			}
		}
	}
	if err != nil {
		return nil, err
	}
	answer, err := gs.askGroup(ctx, &groupAsk{Group: g.ID, What: "join", Member: uuid.NewString(), Session: session, Label: label})
	if err != nil {
		return nil, err
	}
	answer.Membership.Made = made
	return answer.Membership, nil
}

// Beat tells that a member lives and what it holds; it waits for another share
// than that of the generation that the member knows.
func (gs *Groups) Beat(ctx context.Context, a address.Address, member string, generation uint64, paused bool, holds []int, wait time.Duration) (*form.Membership, error) {
	answer, err := gs.askMember(ctx, a, &groupAsk{What: "beat", Member: member, Generation: generation, Paused: paused, Holds: holds, Wait: wait})
	if err != nil {
		return nil, err
	}
	return answer.Membership, nil
}

// Poll returns messages of a member's share behind those that it has up to an
// answer, which it commits if the member says so.
func (gs *Groups) Poll(ctx context.Context, a address.Address, member string, most int, wait time.Duration, upTo group.UpTo, commit bool) (*Polled, error) {
	answer, err := gs.askMember(ctx, a, &groupAsk{What: "poll", Member: member, Most: most, Wait: wait, UpTo: upTo, CommitUpTo: commit})
	if err != nil {
		return nil, err
	}
	return answer.Polled, nil
}

// Commit records offsets that a member has read up to.
func (gs *Groups) Commit(ctx context.Context, a address.Address, member string, generation uint64, offsets []form.OffsetOf) error {
	_, err := gs.askMember(ctx, a, &groupAsk{What: "commit", Member: member, Generation: generation, Offsets: offsets})
	return err
}

// Leave ends a membership.
func (gs *Groups) Leave(ctx context.Context, a address.Address, member string) error {
	_, err := gs.askMember(ctx, a, &groupAsk{What: "leave", Member: member})
	return err
}

func (gs *Groups) askMember(ctx context.Context, a address.Address, ask *groupAsk) (*groupAnswer, error) {
	_, g, err := gs.parts.Group(a)
	if err != nil {
		return nil, err
	}
	ask.Group = g.ID
	return gs.askGroup(ctx, ask)
}

// Polled is what a member that polls is given.
type Polled struct {
	Membership *form.Membership  `json:"membership"`
	Messages   []*message.Stored `json:"messages"`
	Gone       []form.Gone       `json:"gone,omitempty"`
	UpTo       group.UpTo        `json:"upTo"`
}

// pollBytes bounds the bodies of one poll.
const pollBytes = 8 << 20
